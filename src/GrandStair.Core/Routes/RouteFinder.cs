using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Routes;

/// <summary>
/// Finds routes: of all chains of hops to a release the one that leaves the fewest known issues, is out of service for the shortest time,
/// and has the fewest hops, in this order. Components are raised in their order around each hop, as far as its release needs it.
/// </summary>
public static class RouteFinder
{
    private const int MostHops = 12;
    private const int MostChains = 200;

    /// <summary>The route of a machine, to the target in any build that spares it every must-issue.</summary>
    public static Route Find(Product product, Machine machine, Release target, DateTimeOffset now) =>
        Find(product, Whereabouts.Of(product, machine), target, product.IssuesTouching(machine, now));

    /// <summary>The route from a place.</summary>
    /// <param name="product">The product.</param>
    /// <param name="from">Where the machine is.</param>
    /// <param name="target">Where it is to go.</param>
    /// <param name="touching">The known issues that touch it.</param>
    /// <param name="leastBuild">The first build of the target that will do; null for any.</param>
    public static Route Find(
        Product product,
        Whereabouts from,
        Release target,
        IReadOnlyList<KnownIssue> touching,
        string? leastBuild = null
    )
    {
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(from);
        return Follow(product, from, target, touching, leastBuild) with { PartlyTo = product.ReleaseOf(from.PartlyTo) };
    }

    private static Route Follow(Product product, Whereabouts from, Release target, IReadOnlyList<KnownIssue> touching, string? leastBuild)
    {
        if (from.Version is null)
            return Missing($"its {product.VersionKey} is not known") with { IsUnknown = true };
        if (product.ReleaseOf(from.Version) is not { } start)
            return Missing($"{product.Name} {from.Version} is of no release that the catalogue knows");
        // The version alone says that it has arrived; the hop to it has to be finished all the same.
        var isPartly = product.ReleaseOf(from.PartlyTo)?.Version == start.Version;
        var unfinished = isPartly ? product.Hops.FirstOrDefault(h => h.Component is null && h.To == start.Version) : null;
        if (isPartly && unfinished is null)
            return Missing($"it was upgraded to {start.Name} only partly, and no hop leads there");
        if (start.Version == target.Version && !isPartly)
            return There(product, from, target, IssuesAhead.Of(target, touching, leastBuild).Build);
        if (target.Status == ReleaseStatus.Withdrawn)
            return Missing($"{target.Name} was withdrawn and is no target");
        if (VersionOrder.Instance.Compare(start.Version, target.Version) > 0)
            return Missing($"it runs {start.Name}, which is newer than {target.Name}");

        var search = new Search(product, from, target);
        search.Follow(start, from.Edition, unfinished is null ? [] : [unfinished], unfinished is null ? [] : [from.Edition]);
        var found = search
            .Found.Select(chain => Weigh(product, chain, target, touching, leastBuild))
            .OrderBy(w => w.Cost)
            .ThenBy(w => string.Join(' ', w.Route.Hops.Select(h => h.Name)), StringComparer.Ordinal)
            .ToArray();
        if (found.Length == 0)
            return Missing(search.WhyNot(start)) with { IsUnknown = search.LacksReading };
        var best = found[0];
        return best.Route with
        {
            Alternatives = [.. found.Skip(1).Select(other => new Alternative(other.Route.Hops, WhyLost(best.Cost, other.Cost)))],
        };
    }

    /// <summary>The route of a machine that runs the target release.</summary>
    private static Route There(Product product, Whereabouts from, Release target, string? build)
    {
        if (build is null || product.BuildKey is null || VersionOrder.Instance.Compare(from.Build, build) >= 0)
            return new([], null, Arrived: true) { Editions = [from.Edition] };
        var why = from.Build is null
            ? $"it runs {target.Name}, but its {product.BuildKey} is not known; build {build} or later is needed"
            : $"it runs {target.Name} in build {from.Build}; install the release's patches until it has build {build} or later";
        return Missing(why) with { NeedsPatches = true, IsUnknown = from.Build is null, Build = build };
    }

    private static (Route Route, Cost Cost) Weigh(
        Product product,
        Chain chain,
        Release target,
        IReadOnlyList<KnownIssue> touching,
        string? leastBuild
    )
    {
        var ahead = chain
            .Hops.Where(h => h.Component is null)
            .Select(h => IssuesAhead.Of(product.Release(h.To), touching, h.To == target.Version ? leastBuild : null))
            .ToArray();
        ImmutableArray<KnownIssue> left = [.. ahead.SelectMany(a => a.Left)];
        var outage = chain.Hops.Aggregate(TimeSpan.Zero, (sum, hop) => sum + Outage(product, hop));
        var route = new Route(chain.Hops, null, Arrived: false)
        {
            Editions = chain.Editions,
            Build = ahead.LastOrDefault()?.Build,
            Issues = left,
            Outage = outage,
        };
        return (route, new(left.Count(i => i.Need == Need.Must), left.Length, outage, chain.Hops.Length));
    }

    private static TimeSpan Outage(Product product, Hop hop) =>
        product.Methods.Where(m => m.Way == Way.Upgrade && m.Hops.Contains(hop.Name)).Select(m => (TimeSpan?)m.Typical.Slot).Min()
        ?? TimeSpan.Zero;

    private static string WhyLost(Cost best, Cost other)
    {
        if (other.Musts + other.Issues > best.Musts + best.Issues)
            return $"it leaves {other.Issues - best.Issues} more known issues unfixed";
        if (other.Outage > best.Outage)
            return $"it is out of service for {Units.Show((other.Outage - best.Outage).TotalSeconds, ValueKind.Duration)} longer";
        return other.Hops > best.Hops ? $"it takes {other.Hops} hops in place of {best.Hops}" : "it is as good, and later by name";
    }

    private static Route Missing(string why) => new([], why, Arrived: false);

    private readonly record struct Cost(int Musts, int Issues, TimeSpan Outage, int Hops) : IComparable<Cost>
    {
        public int CompareTo(Cost other) => (Musts, Issues, Outage, Hops).CompareTo((other.Musts, other.Issues, other.Outage, other.Hops));
    }

    private readonly record struct Chain(ImmutableArray<Hop> Hops, ImmutableArray<string?> Editions);

    /// <summary>All chains from one place to the target, and what was missing where one ended.</summary>
    private sealed class Search(Product product, Whereabouts from, Release target)
    {
        private readonly List<string> _missing = [];
        private readonly HashSet<string> _passed = [];
        private Release? _furthest;

        public List<Chain> Found { get; } = [];

        /// <summary>Whether a hop could not be taken because a reading is missing.</summary>
        public bool LacksReading { get; private set; }

        public void Follow(Release at, string? edition, ImmutableArray<Hop> main, ImmutableArray<string?> editions)
        {
            if (_furthest is null || VersionOrder.Instance.Compare(at.Version, _furthest.Version) > 0)
                _furthest = at;
            if (at.Version == target.Version)
            {
                if (WithParts(main, editions) is { } whole)
                    Found.Add(whole);
                return;
            }

            if (main.Length == MostHops || Found.Count == MostChains || !_passed.Add(at.Version))
                return;
            foreach (var hop in product.Hops.Where(h => h.Component is null && h.From.Contains(at.Version)))
            {
                var to = product.Release(hop.To);
                if (to.Status == ReleaseStatus.Withdrawn)
                    _missing.Add($"hop {hop.Name} leads over {to.Name}, which was withdrawn");
                else if (Mapped(hop, edition, out var mapped))
                    Follow(to, mapped, main.Add(hop), editions.Add(mapped));
            }

            _passed.Remove(at.Version);
        }

        public string WhyNot(Release start) =>
            _missing.Count > 0 ? string.Join("; ", _missing.Distinct())
            : _furthest == start ? $"no hop leads from {start.Name} to {target.Name}"
            : $"the hops from {start.Name} lead up to {_furthest!.Name}, and none leads on to {target.Name}";

        private bool Mapped(Hop hop, string? edition, out string? mapped)
        {
            mapped = edition;
            if (hop.Editions.IsEmpty || (edition is not null && hop.Editions.TryGetValue(edition, out mapped)))
                return true;
            LacksReading |= edition is null;
            _missing.Add(
                edition is null
                    ? $"its edition ({product.EditionKey}) is not known, and hop {hop.Name} needs it"
                    : $"edition '{edition}' cannot upgrade by hop {hop.Name}; possible: {string.Join(", ", hop.Editions.Keys.Order())}"
            );
            return false;
        }

        /// <summary>Puts the hops of the components around those of the product; null where one is missing.</summary>
        private Chain? WithParts(ImmutableArray<Hop> main, ImmutableArray<string?> editions)
        {
            var hops = ImmutableArray.CreateBuilder<Hop>();
            var after = ImmutableArray.CreateBuilder<string?>();
            var versions = from.Components.ToArray();
            var edition = from.Edition;
            for (var i = 0; i < main.Length; i++)
            {
                var release = product.Release(main[i].To);
                var own = product.Components.IndexOf(product.Components.FirstOrDefault(p => p.VersionKey == product.VersionKey)!);
                for (var component = 0; component < product.Components.Length; component++)
                {
                    if (component == own)
                        Add(main[i], editions[i]);
                    else if (release.Components.TryGetValue(product.Components[component].Name, out var least) && !Raise(component, least))
                        return null;
                }

                if (own < 0)
                    Add(main[i], editions[i]);
            }

            return new(hops.ToImmutable(), after.ToImmutable());

            void Add(Hop hop, string? editionAfter)
            {
                hops.Add(hop);
                after.Add(edition = editionAfter);
            }

            bool Raise(int component, string least)
            {
                var name = product.Components[component].Name;
                if (versions[component] is null)
                {
                    LacksReading = true;
                    _missing.Add(
                        $"the version of its {name} ({product.Components[component].VersionKey}) is not known, and {least} or later is "
                            + $"needed"
                    );
                    return false;
                }

                while (VersionOrder.Instance.Compare(versions[component], least) < 0)
                {
                    var next = product
                        .Hops.Where(h =>
                            h.Component == name
                            && h.From.Any(f => Runs(versions[component]!, f))
                            && VersionOrder.Instance.Compare(h.To, versions[component]) > 0
                        )
                        .MaxBy(h => h.To, VersionOrder.Instance);
                    if (next is null)
                    {
                        _missing.Add($"no hop raises its {name} from {versions[component]} to {least}");
                        return false;
                    }

                    Add(next, edition);
                    versions[component] = next.To;
                }

                return true;
            }
        }

        private static bool Runs(string version, string release) =>
            version == release || version.StartsWith(release + ".", StringComparison.Ordinal);
    }
}
