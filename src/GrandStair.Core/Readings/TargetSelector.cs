using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>TargetSelector something is for: machines, groups or sites by name; everyone where none is named. Case is ignored.</summary>
/// <param name="Sites">Names of sites.</param>
/// <param name="Groups">Names of groups.</param>
/// <param name="Machines">Names of machines.</param>
public sealed record TargetSelector(ImmutableArray<string> Sites, ImmutableArray<string> Groups, ImmutableArray<string> Machines)
{
    /// <summary>Everyone.</summary>
    public static TargetSelector Everyone { get; } = new([], [], []);

    /// <summary>Whether nobody is named, and so everyone is meant.</summary>
    public bool IsEveryone => Sites.IsEmpty && Groups.IsEmpty && Machines.IsEmpty;

    /// <inheritdoc />
    public override string ToString() =>
        IsEveryone
            ? "everyone"
            : string.Join(", ", Sites.Select(s => $"site {s}").Concat(Groups.Select(g => $"group {g}")).Concat(Machines));

    /// <summary>Those at some sites.</summary>
    public static TargetSelector At(params ReadOnlySpan<string> sites) => new([.. sites], [], []);
}

/// <summary>Finds, by their positions, those of several that name a machine, its group or its site.</summary>
internal sealed class TargetSelectorIndex(ImmutableArray<TargetSelector> rules)
{
    private readonly ILookup<string, int> _machines = By(rules, r => r.Machines);
    private readonly ILookup<string, int> _groups = By(rules, r => r.Groups);
    private readonly ILookup<string, int> _sites = By(rules, r => r.Sites);
    private readonly int[] _everyone = [.. rules.Select((r, i) => (r, i)).Where(x => x.r.IsEveryone).Select(x => x.i)];

    public bool Knows(string machine) => _machines.Contains(machine);

    /// <summary>
    /// Those of the narrowest kind that there is one of: what names a machine counts before what names its group, that before its site, and
    /// that before what is for everyone.
    /// </summary>
    public int[] Nearest(string site, string group, string machine) =>
        _machines.Contains(machine) ? [.. _machines[machine]]
        : _groups.Contains(group) ? [.. _groups[group]]
        : _sites.Contains(site) ? [.. _sites[site]]
        : _everyone;

    public IEnumerable<int> All(string site, string group, string machine) =>
        _machines[machine].Concat(_groups[group]).Concat(_sites[site]).Concat(_everyone).Distinct().Order();

    private static ILookup<string, int> By(ImmutableArray<TargetSelector> rules, Func<TargetSelector, ImmutableArray<string>> names) =>
        rules.SelectMany((r, i) => names(r).Select(n => (n, i))).ToLookup(x => x.n, x => x.i, StringComparer.OrdinalIgnoreCase);
}
