using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Exposure;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Fleet;

namespace GrandStair.Engine.Exposure;

/// <summary>Reports exposure, and keeps the daily tally for its trend.</summary>
public sealed class ExposureReport(CatalogueCache catalogues, FleetCache fleet, TallyTable tallies, TimeProvider clock)
{
    /// <summary>How many days the trend goes back.</summary>
    public const int TrendDays = 90;

    /// <summary>What the tally calls versions of no known release.</summary>
    public const string OtherRelease = "other";

    private static readonly TimeSpan Tick = TimeSpan.FromSeconds(5);

    /// <summary>By product the day whose tally was stored last.</summary>
    private readonly Dictionary<string, DateOnly> _stored = new(StringComparer.Ordinal);

    /// <summary>Who of a product is exposed, at some sites.</summary>
    public Task<ProductExposure> OfAsync(Product product, DateOnly? by, SiteScope sites, CancellationToken stop) =>
        fleet.ColumnsAsync(columns => ProductExposure.Of(product, columns, clock.GetUtcNow(), by, sites), stop);

    /// <summary>
    /// The trend of a product, oldest day first; today is as it is now. The tally is kept for all sites together, so of some sites there is
    /// today alone.
    /// </summary>
    public async Task<IReadOnlyList<DayTally>> TrendAsync(ProductExposure exposure, SiteScope sites, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(exposure);
        ArgumentNullException.ThrowIfNull(sites);
        var product = exposure.Product;
        var today = ProductExposure.Today(product, clock.GetUtcNow());
        var before = !sites.IsAll
            ? []
            : (await tallies.SinceAsync(product.Name, today.AddDays(-TrendDays), stop)).Where(t => t.Day < today);
        return [.. before, .. Tally(exposure).Select(t => new DayTally(today, product.Name, t.Key, t.Value))];
    }

    /// <summary>Stores the tally of each day.</summary>
    public Duty Duty => new("daily-tally", Tick, TallyAsync) { IsSingle = true };

    private async Task TallyAsync(CancellationToken stop)
    {
        foreach (var product in catalogues.Products.Values)
        {
            var today = ProductExposure.Today(product, clock.GetUtcNow());
            if (_stored.GetValueOrDefault(product.Name) == today)
                continue;
            await tallies.PutAsync(today, product.Name, Tally(await OfAsync(product, null, SiteScope.All, stop)), stop);
            _stored[product.Name] = today;
        }
    }

    private static Dictionary<string, int> Tally(ProductExposure exposure) =>
        exposure.Releases.GroupBy(r => r.Release?.Version ?? OtherRelease).ToDictionary(g => g.Key, g => g.Sum(r => r.Machines));
}
