using System.Collections.Immutable;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Catalogue;

/// <summary>What is known of one product: its releases, the hops between them, the checks and the methods.</summary>
public sealed record Product
{
    /// <summary>The product's name as machines report it, such as <c>Debian</c>.</summary>
    public required string Name { get; init; }

    /// <summary>The SHA-256 of the content in hexadecimal: the same hash is the same content for ever.</summary>
    public required string Hash { get; init; }

    /// <summary>Which machines run it.</summary>
    public required Condition Is { get; init; }

    /// <summary>The key that tells the release that a machine runs.</summary>
    public required string VersionKey { get; init; }

    /// <summary>The key that tells the edition; null where the product has none.</summary>
    public string? EditionKey { get; init; }

    /// <summary>The keys that this product adds.</summary>
    public ImmutableArray<KeyDefinition> Keys { get; init; } = [];

    /// <summary>Scripts that read a machine.</summary>
    public ImmutableArray<Reader> Readers { get; init; } = [];

    /// <summary>The releases, oldest first.</summary>
    public ImmutableArray<Release> Releases { get; init; } = [];

    /// <summary>The supported steps between releases.</summary>
    public ImmutableArray<Hop> Hops { get; init; } = [];

    /// <summary>The methods by which hops are done.</summary>
    public ImmutableArray<Method> Methods { get; init; } = [];

    /// <summary>The content of every script, by its file name.</summary>
    public ImmutableDictionary<string, string> Scripts { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>The release that a version belongs to: <c>11.11</c> is of release <c>11</c>. Null where none is known.</summary>
    public Release? ReleaseOf(string? version) => version is null
        ? null
        : Releases.Where(r => version == r.Version || version.StartsWith(r.Version + ".", StringComparison.Ordinal))
            .MaxBy(r => r.Version.Length);

    /// <summary>The method of that name, or null.</summary>
    public Method? Method(string name) => Methods.FirstOrDefault(m => m.Name == name);
}

/// <summary>A script that reads a machine and prints one line a key: <c>key = value</c>, <c>key is absent</c> or <c>key is unreadable: why</c>.</summary>
/// <param name="Script">The script's file name.</param>
/// <param name="Covers">The keys that it looks at: covered but not reported is absent.</param>
public sealed record Reader(string Script, ImmutableArray<string> Covers);

/// <summary>Whether a release is to be taken.</summary>
public enum ReleaseStatus
{
    /// <summary>It can be had.</summary>
    Available,

    /// <summary>It is the one to take.</summary>
    Recommended,

    /// <summary>It was taken back and is no target.</summary>
    Withdrawn,
}

/// <summary>A major version of a product.</summary>
/// <param name="Version">The version, which every build of it begins with.</param>
/// <param name="Name">What people call it.</param>
/// <param name="Status">Whether it is to be taken.</param>
/// <param name="SupportEnds">The last day of support by edition; the edition <c>*</c> stands for all others.</param>
public sealed record Release(string Version, string Name, ReleaseStatus Status, ImmutableDictionary<string, DateOnly> SupportEnds)
{
    /// <summary>The last day of support of an edition; null where none is known.</summary>
    public DateOnly? SupportEnd(string? edition) =>
        edition is not null && SupportEnds.TryGetValue(edition, out var end) ? end
        : SupportEnds.TryGetValue("*", out var all) ? all : null;
}

/// <summary>A supported step from some releases to one other.</summary>
/// <param name="Name">The hop's name, such as <c>11-to-12</c>.</param>
/// <param name="From">The releases that it starts from.</param>
/// <param name="To">The release that it leads to.</param>
/// <param name="Editions">Which edition becomes which; empty where editions are not told apart.</param>
/// <param name="Checks">What must or should hold, whatever the method.</param>
public sealed record Hop(string Name, ImmutableArray<string> From, string To, ImmutableDictionary<string, string> Editions, ImmutableArray<Check> Checks);

/// <summary>How much a check weighs.</summary>
public enum Need
{
    /// <summary>Unmet, it shuts the gate.</summary>
    Must,

    /// <summary>Unmet, it is a caution.</summary>
    Should,
}

/// <summary>When a check is asked.</summary>
public enum Moment
{
    /// <summary>When the plan is made, and until the run begins.</summary>
    Planning,

    /// <summary>In the window, from fresh readings.</summary>
    Start,

    /// <summary>After the guard phase, for what the guard brings about.</summary>
    Guarded,

    /// <summary>After the upgrade.</summary>
    Proof,
}

/// <summary>Who can mend an unmet check.</summary>
public enum Mender
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

/// <summary>How an unmet check is mended.</summary>
/// <param name="By">Who can.</param>
/// <param name="Words">What to do, for a person.</param>
/// <param name="Takes">How long it takes on one machine; null where it is not known.</param>
public sealed record Fix(Mender By, string Words, TimeSpan? Takes);

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

    /// <summary>When it is asked.</summary>
    public ImmutableHashSet<Moment> AskedAt { get; init; } = [Moment.Planning, Moment.Start];

    /// <summary>How it is mended.</summary>
    public required Fix Fix { get; init; }
}
