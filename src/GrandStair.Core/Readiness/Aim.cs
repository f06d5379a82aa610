using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Methods;
using GrandStair.Core.Readings;
using GrandStair.Core.Routes;

namespace GrandStair.Core.Readiness;

/// <summary>What machines are judged for: where they are to go and by which methods.</summary>
/// <param name="Product">The product.</param>
/// <param name="Release">The release to go to.</param>
/// <param name="Methods">The methods in order of preference.</param>
/// <param name="Preserves">How much has to be carried across.</param>
public sealed record Aim(Product Product, Release Release, ImmutableArray<string> Methods, Preserves Preserves)
{
    private readonly TargetSelectorIndex? _others;

    /// <summary>The first build of the release that will do; null for any.</summary>
    public string? LeastBuild { get; init; }

    /// <summary>The machines that go to another release or build.</summary>
    public ImmutableArray<(TargetSelector For, Release Release, string? LeastBuild)> But
    {
        get;
        init => (field, _others) = (value, new([.. value.Select(b => b.For)]));
    } = [];

    /// <summary>The target in words: the release and build, and who goes to another one.</summary>
    public string Target =>
        But.IsEmpty
            ? Words(Release, LeastBuild)
            : $"{Words(Release, LeastBuild)} ({string.Join("; ", But.Select(b => $"{Words(b.Release, b.LeastBuild)} for {b.For}"))})";

    /// <summary>All releases that somebody goes to, each once.</summary>
    public IEnumerable<Release> Releases => But.Select(b => b.Release).Prepend(Release).Distinct();

    /// <summary>The release that a machine goes to: what names it counts before what names its group, and that before its site.</summary>
    public Release ReleaseFor(Machine machine) => DestinationOf(machine).Release;

    /// <summary>The route of a machine to its release and build.</summary>
    public Route RouteOf(Machine machine, IReadOnlyList<KnownIssue> touching)
    {
        var (release, leastBuild) = DestinationOf(machine);
        return RouteFinder.Find(Product, Whereabouts.Of(Product, machine), release, touching, leastBuild);
    }

    /// <summary>The first build of a hop's release that will do for a machine; null for any, and on the way to its own release.</summary>
    public string? LeastBuildOf(Hop hop, Machine machine)
    {
        ArgumentNullException.ThrowIfNull(hop);
        var (release, leastBuild) = DestinationOf(machine);
        return hop.Component is null && hop.To == release.Version ? leastBuild : null;
    }

    /// <summary>Names everything that decides where machines go and how; two aims of one name judge alike.</summary>
    public string Name =>
        $"{Product.Hash}/{Release.Version} {LeastBuild}/{string.Join(',', Methods)}/{Preserves}/"
        + $"{string.Join(',', But.Select(b => $"{b.For}={b.Release.Version} {b.LeastBuild}"))}";

    /// <summary>Every leg of a route as it is to be judged, with the machine as it will be then.</summary>
    public ImmutableArray<(LegCase Leg, Machine Machine)> Legs(
        Route route,
        Machine machine,
        IReadOnlyList<KnownIssue> touching,
        DateTimeOffset now
    )
    {
        ArgumentNullException.ThrowIfNull(route);
        var legs = ImmutableArray.CreateBuilder<(LegCase, Machine)>();
        ImmutableArray<Reading> brought = [];
        for (var i = 0; i < route.Hops.Length; i++)
        {
            var keys = i == 0 ? null : brought.Select(r => r.Key).ToHashSet(StringComparer.Ordinal);
            var then = keys is null
                ? machine
                : machine with
                {
                    Readings = [.. machine.Readings.Where(r => !keys.Contains(r.Key)), .. brought],
                };
            legs.Add(
                (new(Product, route.Hops[i], Product.ChecksOf(route.Hops[i], touching, LeastBuildOf(route.Hops[i], machine)), keys), then)
            );
            brought = Brings(route, i, brought, now);
        }

        return legs.ToImmutable();
    }

    /// <summary>What a machine has after a hop, besides what it has now.</summary>
    internal ImmutableArray<Reading> Brings(Route route, int leg, ImmutableArray<Reading> before, DateTimeOffset now)
    {
        var hop = route.Hops[leg];
        var brings = hop.Brings.Select(b => Reading.Of(b.Key, b.Value, now, now, "route")).ToList();
        var versionKey = hop.Component is null ? Product.VersionKey : Product.Components.First(p => p.Name == hop.Component).VersionKey;
        brings.Add(Reading.Of(versionKey, ReadingValue.Parse(ValueKind.Version, hop.To, out _)!, now, now, "route"));
        if (hop.Component is null && Product.EditionKey is { } key && route.Editions[leg] is { } edition)
            brings.Add(Reading.Of(key, ReadingValue.Parse(ValueKind.Text, edition, out _)!, now, now, "route"));
        var keys = brings.Select(b => b.Key).ToHashSet(StringComparer.Ordinal);
        return [.. before.Where(r => !keys.Contains(r.Key)), .. brings];
    }

    private static string Words(Release release, string? leastBuild) =>
        leastBuild is null ? release.Name : $"{release.Name} build {leastBuild}";

    internal (Release Release, string? LeastBuild) DestinationOf(Machine machine)
    {
        ArgumentNullException.ThrowIfNull(machine);
        return _others?.Nearest(machine.Site, machine.Group, machine.Name) is [var first, ..]
            ? (But[first].Release, But[first].LeastBuild)
            : (Release, LeastBuild);
    }
}
