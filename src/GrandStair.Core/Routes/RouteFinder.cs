using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Routes;

/// <summary>The hops from where a machine is to the target, or why there are none.</summary>
/// <param name="Hops">The hops in order; empty where the machine is there already or has no route.</param>
/// <param name="Why">What is missing, in a sentence; null where there is a route.</param>
/// <param name="Arrived">Whether the machine runs the target already.</param>
public sealed record Route(ImmutableArray<Hop> Hops, string? Why, bool Arrived)
{
    /// <summary>Whether the machine can get to the target.</summary>
    public bool Exists => Why is null;
}

/// <summary>Finds routes.</summary>
public static class RouteFinder
{
    /// <summary>The shortest chain of hops to a release, by breadth-first search; edition by edition where the hops tell editions apart.</summary>
    public static Route Find(Product product, Machine machine, Release target)
    {
        var version = machine.TextOf(product.VersionKey);
        if (version is null) return Missing($"its {product.VersionKey} is not known");
        if (product.ReleaseOf(version) is not { } from) return Missing($"{product.Name} {version} is of no release that the catalogue knows");
        if (from.Version == target.Version) return new([], null, Arrived: true);
        if (VersionOrder.Instance.Compare(from.Version, target.Version) > 0) return Missing($"it runs {from.Name}, which is newer than {target.Name}");

        var edition = product.EditionKey is { } key ? machine.TextOf(key) : null;
        var queue = new Queue<(string Release, string? Edition, ImmutableArray<Hop> Hops)>([(from.Version, edition, [])]);
        var seen = new HashSet<(string, string?)> { (from.Version, edition) };
        string? noEdition = null;
        while (queue.TryDequeue(out var at))
        {
            foreach (var hop in product.Hops.Where(h => h.From.Contains(at.Release)))
            {
                if (!TryMap(hop, at.Edition, out var mapped))
                {
                    noEdition ??= at.Edition is null ? $"its edition is not known, and hop {hop.Name} needs it" : $"hop {hop.Name} takes no edition '{at.Edition}'";
                    continue;
                }

                ImmutableArray<Hop> hops = [.. at.Hops, hop];
                if (hop.To == target.Version) return new(hops, null, Arrived: false);
                if (seen.Add((hop.To, mapped))) queue.Enqueue((hop.To, mapped, hops));
            }
        }

        return Missing(noEdition ?? $"no hop leads from {from.Name} to {target.Name}");
    }

    private static bool TryMap(Hop hop, string? edition, out string? mapped)
    {
        mapped = edition;
        return hop.Editions.IsEmpty || (edition is not null && hop.Editions.TryGetValue(edition, out mapped));
    }

    private static Route Missing(string why) => new([], why, Arrived: false);
}
