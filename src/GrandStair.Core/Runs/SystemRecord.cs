using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Runs;

/// <summary>One thing that a machine has.</summary>
/// <param name="Kind">What it is, such as <c>package</c>, <c>service</c>, <c>device</c> or <c>file</c>.</param>
/// <param name="Name">Its name.</param>
/// <param name="Value">Its version, state or hash; empty where it has none.</param>
public readonly record struct RecordEntry(string Kind, string Name, string Value);

/// <summary>Something that differs from what was recorded.</summary>
/// <param name="Kind">What it is.</param>
/// <param name="Name">Its name.</param>
/// <param name="Change">How it differs.</param>
/// <param name="Before">Its value in the record; null where it was not there.</param>
/// <param name="After">Its value now; null where it is not there.</param>
/// <param name="Result">What it leads to by the rules.</param>
public sealed record Difference(string Kind, string Name, Change Change, string? Before, string? After, DifferenceResult Result);

/// <summary>
/// What a machine had at one moment: packages, services, devices, files. A script prints one entry a line: kind, name and value, with a
/// tab between each two.
/// </summary>
/// <param name="Entries">The entries, each kind and name once, in the order in which they were printed.</param>
public sealed record SystemRecord(ImmutableArray<RecordEntry> Entries)
{
    /// <summary>How many entries a record has at most.</summary>
    public const int MostEntries = 100_000;

    private const int LongestKind = 40;
    private const int ShownOfLine = 60;

    /// <summary>
    /// Reads what a script printed. Empty lines are skipped; of entries with the same kind and name the last counts. A kind has small
    /// letters, digits and hyphens.
    /// </summary>
    /// <param name="text">The script's output.</param>
    /// <exception cref="FormatException">A line has no tab, or there are too many; the message says which.</exception>
    public static SystemRecord Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        var entries = new Dictionary<(string, string), RecordEntry>();
        foreach (var (number, line) in text.Split('\n').Index())
        {
            if (string.IsNullOrWhiteSpace(line))
                continue;
            var fields = line.TrimEnd('\r').Split('\t', 3);
            if (fields.Length < 2 || !IsKind(fields[0].Trim()) || fields[1].Trim().Length == 0)
                throw new FormatException(
                    $"Line {number + 1} of the record is '{PlainText.Shorten(line, ShownOfLine)}'; expected a kind such as package, a tab, "
                        + "a name, and perhaps a tab and a value."
                );
            var entry = new RecordEntry(fields[0].Trim(), fields[1].Trim(), fields.Length > 2 ? fields[2].Trim() : "");
            entries[(entry.Kind, entry.Name)] = entry;
            if (entries.Count > MostEntries)
                throw new FormatException($"The record has more than {MostEntries} entries; let its script print fewer.");
        }

        return new([.. entries.Values]);
    }

    /// <summary>The record as a script prints it.</summary>
    public string Text => string.Concat(Entries.Select(e => $"{e.Kind}\t{e.Name}\t{e.Value}\n"));

    /// <summary>
    /// How a later record differs from this one, by kind and name. A difference that no rule fits leads to a follow-up.
    /// </summary>
    /// <param name="later">The later record.</param>
    /// <param name="rules">What differences lead to.</param>
    public ImmutableArray<Difference> DifferencesTo(SystemRecord later, IReadOnlyCollection<ComparisonRule> rules)
    {
        ArgumentNullException.ThrowIfNull(later);
        ArgumentNullException.ThrowIfNull(rules);
        var before = Entries.ToDictionary(e => (e.Kind, e.Name), e => e.Value);
        var after = later.Entries.ToDictionary(e => (e.Kind, e.Name), e => e.Value);
        return
        [
            .. before
                .Keys.Union(after.Keys)
                .Select(of => (Of: of, Before: before.GetValueOrDefault(of), After: after.GetValueOrDefault(of)))
                .Where(d => d.Before != d.After)
                .OrderBy(d => d.Of.Kind, StringComparer.Ordinal)
                .ThenBy(d => d.Of.Name, StringComparer.OrdinalIgnoreCase)
                .Select(d => Judge(d.Of.Kind, d.Of.Name, d.Before, d.After, rules)),
        ];
    }

    private static Difference Judge(string kind, string name, string? before, string? after, IReadOnlyCollection<ComparisonRule> rules)
    {
        var change =
            before is null ? Change.Added
            : after is null ? Change.Missing
            : Change.Changed;
        var rule = rules.FirstOrDefault(r =>
            (r.Of is null || r.Of == kind) && (r.Change is null || r.Change == change) && (r.Name is null || Glob.Fits(name, r.Name))
        );
        return new(kind, name, change, before, after, rule?.Then ?? DifferenceResult.FollowUp);
    }

    private static bool IsKind(string text) =>
        text.Length is > 0 and <= LongestKind && text.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-');
}
