using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Exposure;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Exposure;

/// <summary>Reports exposure, and keeps the daily tally for its trend.</summary>
public sealed class ExposureReport(CatalogueCache catalogues, FleetCache fleet, TallyTable tallies, TimeProvider clock, ILogger<ExposureReport> log)
{
    /// <summary>How many days the trend goes back.</summary>
    public const int TrendDays = 90;

    /// <summary>What the tally calls versions of no known release.</summary>
    public const string OtherRelease = "other";

    private static readonly TimeSpan Tick = TimeSpan.FromSeconds(5);

    /// <summary>Who of a product is exposed, at some sites.</summary>
    public Task<ProductExposure> OfAsync(Product product, DateOnly? by, SiteScope sites, CancellationToken stop) =>
        fleet.ColumnsAsync(columns => ProductExposure.Of(product, columns, clock.GetUtcNow(), by, sites), stop);

    /// <summary>The trend of a product, oldest day first; today is as it is now. The tally is kept for all sites together, so of some sites there is today alone.</summary>
    public async Task<IReadOnlyList<DayTally>> TrendAsync(ProductExposure exposure, SiteScope sites, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(exposure);
        ArgumentNullException.ThrowIfNull(sites);
        var product = exposure.Product;
        var today = ProductExposure.Today(product, clock.GetUtcNow());
        var before = !sites.IsAll ? [] : (await tallies.SinceAsync(product.Name, today.AddDays(-TrendDays), stop)).Where(t => t.Day < today);
        return [.. before, .. Tally(exposure).Select(t => new DayTally(today, product.Name, t.Key, t.Value))];
    }

    /// <summary>Keeps the tally until it is stopped.</summary>
    public async Task KeepAsync(CancellationToken stop)
    {
        var kept = new Dictionary<string, DateOnly>(StringComparer.Ordinal);
        while (!stop.IsCancellationRequested)
        {
            try
            {
                foreach (var product in catalogues.Products.Values)
                {
                    var today = ProductExposure.Today(product, clock.GetUtcNow());
                    if (kept.GetValueOrDefault(product.Name) == today) continue;
                    await tallies.PutAsync(today, product.Name, Tally(await OfAsync(product, null, SiteScope.All, stop)), stop);
                    kept[product.Name] = today;
                }
            }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException)
            {
                log.LogError("The daily tally cannot be kept, and is tried again: {Why}", error.Message);
            }

            await Task.Delay(Tick, stop);
        }
    }

    private static Dictionary<string, int> Tally(ProductExposure exposure) =>
        exposure.Releases.GroupBy(r => r.Release?.Version ?? OtherRelease).ToDictionary(g => g.Key, g => g.Sum(r => r.Machines));
}
