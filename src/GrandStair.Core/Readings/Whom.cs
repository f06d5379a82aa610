using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>Whom something is for: machines, groups or sites by name; everyone where none is named. Case is ignored.</summary>
/// <param name="Sites">Names of sites.</param>
/// <param name="Groups">Names of groups.</param>
/// <param name="Machines">Names of machines.</param>
public sealed record Whom(ImmutableArray<string> Sites, ImmutableArray<string> Groups, ImmutableArray<string> Machines)
{
    /// <summary>Everyone.</summary>
    public static Whom Everyone { get; } = new([], [], []);

    /// <summary>Whether nobody is named, and so everyone is meant.</summary>
    public bool IsEveryone => Sites.IsEmpty && Groups.IsEmpty && Machines.IsEmpty;

    /// <inheritdoc />
    public override string ToString() => IsEveryone
        ? "everyone"
        : string.Join(", ", Sites.Select(s => $"site {s}").Concat(Groups.Select(g => $"group {g}")).Concat(Machines));

    /// <summary>Those at some sites.</summary>
    public static Whom At(params ReadOnlySpan<string> sites) => new([.. sites], [], []);
}
