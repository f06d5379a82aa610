using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using GrandStair.Core.Conditions;

namespace GrandStair.Core.Catalogue;

/// <summary>How much a check weighs.</summary>
public enum Need
{
    /// <summary>Unmet, it blocks the gate.</summary>
    Must,

    /// <summary>Unmet, it is a caution.</summary>
    Should,
}

/// <summary>When a check is evaluated.</summary>
public enum Moment
{
    /// <summary>When the plan is made, and until the run begins.</summary>
    Planning,

    /// <summary>In the window, from fresh readings.</summary>
    Start,

    /// <summary>After the protect phase, for what the protect brings about.</summary>
    Protected,

    /// <summary>After the upgrade.</summary>
    Verification,
}

/// <summary>Who can fix an unmet check.</summary>
public enum FixedBy
{
    /// <summary>A person, by hand.</summary>
    Person,

    /// <summary>A script.</summary>
    Script,

    /// <summary>The vendor's support.</summary>
    Vendor,

    /// <summary>Nobody: this machine will not go by this way.</summary>
    Nobody,
}

/// <summary>How an unmet check is fixed.</summary>
/// <param name="By">Who can.</param>
/// <param name="Words">What to do, for a person.</param>
/// <param name="Takes">How long it takes on one machine; null where it is not known.</param>
/// <param name="Script">The file name of a script that does it over the machine's connection; null where a person does.</param>
/// <param name="Restarts">Whether its script restarts the machine, so that it has to run in the machine's window.</param>
public sealed record Fix(FixedBy By, string Words, TimeSpan? Takes, string? Script = null, bool Restarts = false);

/// <summary>One precondition.</summary>
public sealed record Check
{
    /// <summary>The check's name within its product.</summary>
    public required string Name { get; init; }

    /// <summary>What it makes sure of, for people.</summary>
    public required string Title { get; init; }

    /// <summary>Must or should.</summary>
    public required Need Need { get; init; }

    /// <summary>What has to hold.</summary>
    public required Condition Wants { get; init; }

    /// <summary>The machines that it is asked of; null for all.</summary>
    public Condition? AppliesTo { get; init; }

    /// <summary>How old its readings may be; null for any age.</summary>
    public TimeSpan? Fresh { get; init; }

    /// <summary>When it is evaluated.</summary>
    public ImmutableHashSet<Moment> AskedAt { get; init; } = [Moment.Planning, Moment.Start];

    /// <summary>How it is fixed.</summary>
    public required Fix Fix { get; init; }

    /// <summary>Whether a person may decide to go on in spite of it, where it is a must.</summary>
    public bool Waivable { get; init; }

    /// <summary>The component of the machine that it is about; null for the whole.</summary>
    public string? Component { get; init; }

    /// <summary>Whether it stands for a known issue: what is unknown then counts as touched.</summary>
    public bool IsKnownIssue { get; init; }

    /// <summary>The keys that it looks at, each once.</summary>
    public IEnumerable<string> Keys => Wants.Keys.Concat(AppliesTo?.Keys ?? []).Distinct();

    /// <summary>Names what it asks: a change of what it wants, of whom, how fresh or how much it weighs gives another version.</summary>
    public string Version =>
        Convert.ToHexStringLower(
            SHA256.HashData(
                Encoding.UTF8.GetBytes(
                    string.Join('\n', Name, Need, Wants.Written, AppliesTo?.Written, Fresh, string.Join(',', AskedAt.Order()))
                )
            )
        )[..12];
}
