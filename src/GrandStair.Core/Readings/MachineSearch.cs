using System.Buffers;

namespace GrandStair.Core.Readings;

/// <summary>
/// Finds machines by fragments of what people know of them: name, site, group, owner, tags, and identifiers such as the serial
/// number. Case is ignored; of several words, each has to be found.
/// </summary>
public sealed class MachineSearch
{
    private static readonly SearchValues<char> ConditionCharacters = SearchValues.Create("=<>!()\"'");
    private static readonly HashSet<string> ConditionWords = new(StringComparer.OrdinalIgnoreCase)
    {
        "and",
        "or",
        "not",
        "like",
        "in",
        "is",
        "has",
        "between",
        "older",
    };
    private readonly string[] _words;

    private MachineSearch(string[] words) => _words = words;

    /// <summary>The search that a text is, or null where it is a condition.</summary>
    /// <param name="text">What somebody typed.</param>
    /// <param name="keys">The keys of which conditions are made.</param>
    public static MachineSearch? Of(string text, KeyRegistry keys)
    {
        ArgumentNullException.ThrowIfNull(text);
        ArgumentNullException.ThrowIfNull(keys);
        var words = text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries);
        var isCondition =
            text.AsSpan().ContainsAny(ConditionCharacters) || words.Any(w => ConditionWords.Contains(w) || keys.Find(w) is not null);
        return words.Length == 0 || isCondition ? null : new(words);
    }

    /// <summary>Whether a machine is found.</summary>
    public bool Finds(Machine machine)
    {
        ArgumentNullException.ThrowIfNull(machine);
        return _words.All(word =>
            Has(machine.Name, word)
            || Has(machine.Site, word)
            || Has(machine.Group, word)
            || Has(machine.Owner, word)
            || machine.Tags.Any(t => Has(t, word))
            || machine.Identifiers.Any(i => Has(i, word))
        );
    }

    private static bool Has(string text, string word) => text.Contains(word, StringComparison.OrdinalIgnoreCase);
}
