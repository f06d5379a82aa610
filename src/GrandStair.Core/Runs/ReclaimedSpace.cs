using GrandStair.Core.Readings;

namespace GrandStair.Core.Runs;

/// <summary>What a script says of the space that it has freed: a line that begins with <c>reclaimed 9.2 GiB</c>.</summary>
public static class ReclaimedSpace
{
    /// <summary>The bytes that a script's last lines say were freed; null where none says so. The last such line counts.</summary>
    public static double? Of(string note)
    {
        ArgumentNullException.ThrowIfNull(note);
        return note.Split('\n', StringSplitOptions.TrimEntries)
            .Select(l => l.Split(' '))
            .Where(words => words is ["reclaimed", _, _, ..])
            .Select(words => Units.Parse($"{words[1]} {words[2]}", ValueKind.Size))
            .LastOrDefault();
    }
}
