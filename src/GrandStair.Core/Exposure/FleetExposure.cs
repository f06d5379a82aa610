using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using NodaTime;

namespace GrandStair.Core.Exposure;

/// <summary>The machines on one release of a product in one edition.</summary>
/// <param name="Release">The release; null where the version is of none that the catalogue knows.</param>
/// <param name="Edition">The edition; null where it is not known or the product has none.</param>
/// <param name="Machines">How many.</param>
/// <param name="SupportEnds">The last day of support, in the vendor's zone; null where none is known.</param>
/// <param name="DaysLeft">How many days of support are left, today among them; negative or zero once it is over.</param>
/// <param name="IsPartly">Whether they were upgraded to the release only partly; what they still run of the one before counts for their
/// support.</param>
public sealed record ReleaseExposure(Release? Release, string? Edition, int Machines, DateOnly? SupportEnds, int? DaysLeft, bool IsPartly);

/// <summary>Who of a product is exposed, and from when.</summary>
/// <param name="Product">The product.</param>
/// <param name="Machines">How many machines run it.</param>
/// <param name="Releases">The releases they run, the one whose support ends first before the others.</param>
/// <param name="Fallen">The machines whose support is over.</param>
/// <param name="Falling">The machines whose support ends on or before a day that was asked about; those that have fallen among
/// them.</param>
public sealed record ProductExposure(
    Product Product,
    int Machines,
    ImmutableArray<ReleaseExposure> Releases,
    ImmutableArray<Machine> Fallen,
    ImmutableArray<Machine> Falling
)
{
    /// <summary>Machines that are not counted, since they stand by to take another one's place, or another one has taken theirs.</summary>
    public int OutOfService { get; init; }

    /// <summary>Looks over a fleet.</summary>
    /// <param name="product">The product.</param>
    /// <param name="fleet">The fleet.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="by">The day that is asked about, such as a plan's deadline; null for none.</param>
    /// <param name="sites">The sites whose machines are looked at.</param>
    public static ProductExposure Of(Product product, FleetColumns fleet, DateTimeOffset now, DateOnly? by, SiteScope sites)
    {
        ArgumentNullException.ThrowIfNull(sites);
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(fleet);
        var today = Today(product, now);
        var isOf = FleetQuestion.Ask(product.Is, fleet, new EvaluationContext(now)).Values;
        var counts = new Dictionary<(string? Version, string? Edition, bool IsPartly), (Release? Release, int Machines)>();
        var (fallen, falling) = (ImmutableArray.CreateBuilder<Machine>(), ImmutableArray.CreateBuilder<Machine>());
        var outOfService = 0;
        for (var row = 0; row < isOf.Length; row++)
        {
            if (isOf[row] != Kleene.Yes || !sites.Holds(fleet[row].Site))
                continue;
            var machine = fleet[row];
            if (!machine.IsInService)
            {
                outOfService++;
                continue;
            }

            var release = product.ReleaseOf(machine.TextOf(product.VersionKey));
            var edition = product.EditionKey is { } key ? machine.TextOf(key) : null;
            var isPartly = release is not null && product.ReleaseOf(machine.TextOf(KeyRegistry.PartlyUpgraded)) == release;
            var (_, known) = counts.GetValueOrDefault((release?.Version, edition, isPartly));
            counts[(release?.Version, edition, isPartly)] = (release, known + 1);
            if (SupportEnd(product, release, edition, isPartly) is not { } end)
                continue;
            if (end < today)
                fallen.Add(machine);
            if (by is { } day ? end <= day : end < today)
                falling.Add(machine);
        }

        var releases = counts
            .Select(c =>
            {
                var end = SupportEnd(product, c.Value.Release, c.Key.Edition, c.Key.IsPartly);
                return new ReleaseExposure(
                    c.Value.Release,
                    c.Key.Edition,
                    c.Value.Machines,
                    end,
                    end is { } day ? day.DayNumber - today.DayNumber + 1 : null,
                    c.Key.IsPartly
                );
            })
            .OrderBy(r => r.SupportEnds ?? DateOnly.MaxValue)
            .ThenBy(r => r.Release?.Version ?? "", VersionOrder.Instance)
            .ThenBy(r => r.Edition, StringComparer.Ordinal);
        return new(product, counts.Values.Sum(c => c.Machines), [.. releases], fallen.ToImmutable(), falling.ToImmutable())
        {
            OutOfService = outOfService,
        };
    }

    /// <summary>
    /// The last day of support: of the release, or of the earliest one that a machine which was upgraded only partly may have parts of.
    /// </summary>
    private static DateOnly? SupportEnd(Product product, Release? release, string? edition, bool isPartly)
    {
        if (release is null || !isPartly)
            return release?.SupportEnd(edition);
        return product
            .Hops.Where(h => h.Component is null && h.To == release.Version)
            .SelectMany(h => h.From)
            .Select(f => product.ReleaseOf(f)?.SupportEnd(edition))
            .Append(release.SupportEnd(edition))
            .Min();
    }

    /// <summary>The day it is where the product's vendor is.</summary>
    public static DateOnly Today(Product product, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(product);
        return Instant.FromDateTimeOffset(now).InZone(DateTimeZoneProviders.Tzdb[product.Zone]).Date.ToDateOnly();
    }
}
