using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Routes;

/// <summary>Where a machine is, as far as routes ask.</summary>
/// <param name="Version">The version it runs; null where it is not known.</param>
/// <param name="Edition">Its edition; null where it is not known or the product has none.</param>
/// <param name="Components">The version of every component of the product, in their order; null where it is not known.</param>
public sealed record Whereabouts(string? Version, string? Edition, ImmutableArray<string?> Components)
{
    /// <summary>The version to which an upgrade got only partly; null where none is known to have.</summary>
    public string? PartlyTo { get; init; }

    /// <summary>The build it runs within its release; null where it is not known or the product has no builds.</summary>
    public string? Build { get; init; }

    /// <summary>Where a machine is.</summary>
    public static Whereabouts Of(Product product, Machine machine) =>
        new(
            machine.TextOf(product.VersionKey),
            product.EditionKey is { } key ? machine.TextOf(key) : null,
            [.. product.Components.Select(p => machine.TextOf(p.VersionKey))]
        )
        {
            PartlyTo = machine.TextOf(KeyRegistry.PartlyUpgraded),
            Build = product.BuildKey is { } build ? machine.TextOf(build) : null,
        };
}

/// <summary>A route that was not taken.</summary>
/// <param name="Hops">Its hops.</param>
/// <param name="Why">Why it lost, in a sentence.</param>
public sealed record Alternative(ImmutableArray<Hop> Hops, string Why);

/// <summary>The hops from where a machine is to the target, or why there are none.</summary>
/// <param name="Hops">The hops in order; empty where the machine is there already or has no route.</param>
/// <param name="Why">What is missing, in a sentence; null where there is a route.</param>
/// <param name="Arrived">Whether the machine runs the target already, in a build that will do.</param>
public sealed record Route(ImmutableArray<Hop> Hops, string? Why, bool Arrived)
{
    /// <summary>
    /// The release to which the machine was upgraded only partly; null where it was not. It has not arrived there, whatever its version
    /// says.
    /// </summary>
    public Release? PartlyTo { get; init; }

    /// <summary>Whether the machine can get to the target.</summary>
    public bool Exists => Why is null;

    /// <summary>The edition after every hop, in the order of the hops; null where editions are not distinguished.</summary>
    public ImmutableArray<string?> Editions { get; init; } = [];

    /// <summary>
    /// Whether the machine runs the target release in a build that is too old, or in one that is not known. No hop leads from there:
    /// a person installs the release's patches.
    /// </summary>
    public bool NeedsPatches { get; init; }

    /// <summary>Whether there is no route because a reading is missing, so that a fresh reading may bring one.</summary>
    public bool IsUnknown { get; init; }

    /// <summary>
    /// The first build of the target that the plan accepts and that spares this machine every must-issue; null where any will do.
    /// </summary>
    public string? Build { get; init; }

    /// <summary>The known issues that touch this machine on the way or at the target, and that no build spares it.</summary>
    public ImmutableArray<KnownIssue> Issues { get; init; } = [];

    /// <summary>How long the machine is out of service on it, by the quickest method of every hop.</summary>
    public TimeSpan Outage { get; init; }

    /// <summary>The other routes there are, with the reason against each.</summary>
    public ImmutableArray<Alternative> Alternatives { get; init; } = [];
}
