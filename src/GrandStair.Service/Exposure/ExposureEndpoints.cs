using System.Globalization;
using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Exposure;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Exposure;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;

namespace GrandStair.Service.Exposure;

/// <summary>Which machines run what, and when their support ends.</summary>
internal static class ExposureEndpoints
{
    public static void MapExposure(this RouteGroupBuilder api) =>
        api.MapGet("/exposure", ListAsync).WithName("GetExposure").ProducesProblem(404).ProducesProblem(409);

    private static async Task<IReadOnlyList<ExposureView>> ListAsync(
        string? product,
        string? by,
        ExposureReport desk,
        ScopedFleet fleet,
        CatalogueCache catalogues,
        CancellationToken stop
    )
    {
        DateOnly? until = by is null ? null : RequestFields.Day("by", by);
        var products = product is null ? catalogues.Products.Values : [catalogues.AimAt(product, null).Product];
        var views = new List<ExposureView>();
        foreach (var one in products)
        {
            var exposure = await desk.OfAsync(one, until, fleet.Sites, stop);
            if (exposure.Machines == 0 && product is null)
                continue;
            views.Add(
                new(
                    one.Name,
                    one.Releases.LastOrDefault(r => r.Status == ReleaseStatus.Recommended)?.Name,
                    exposure.Machines,
                    by,
                    exposure.Fallen.Length,
                    exposure.Falling.Length,
                    [.. exposure.Releases.Select(r => Show(exposure, r))],
                    [
                        .. (await desk.TrendAsync(exposure, fleet.Sites, stop)).Select(t => new TallyView(
                            t.Day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
                            t.Release,
                            t.Machines
                        )),
                    ]
                )
            );
        }

        return [.. views.OrderBy(v => v.Releases.Min(r => r.DaysLeft) ?? int.MaxValue)];
    }

    private static ReleaseExposureView Show(ProductExposure exposure, ReleaseExposure r) =>
        new(
            r.Release?.Version,
            r.Release is null ? "of no known release"
                : r.IsPartly ? $"{r.Release.Name}, partly upgraded"
                : r.Release.Name,
            r.Release is { } release ? RunMachine.Name(release.Status) : "unknown",
            r.Edition,
            r.Machines,
            r.SupportEnds?.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
            r.DaysLeft,
            Condition(exposure.Product, r) + (exposure.OutOfService > 0 ? " and in-service = yes" : "")
        );

    private static string Condition(Product product, ReleaseExposure r)
    {
        var release = r.Release is { } known
            ? $" and ({product.VersionKey} = {known.Version} or {product.VersionKey} like \"{known.Version}.*\")"
            : string.Concat(
                product.Releases.Select(k =>
                    $" and not ({product.VersionKey} = {k.Version} or {product.VersionKey} like \"{k.Version}.*\")"
                )
            );
        var edition =
            product.EditionKey is not { } key ? ""
            : r.Edition is { } e ? $" and {key} = \"{e}\""
            : $" and not {key} like \"?*\"";
        var partly =
            r.Release is null ? ""
            : r.IsPartly ? $" and {KeyRegistry.PartlyUpgraded} = {r.Release.Version}"
            : $" and not ({KeyRegistry.PartlyUpgraded} is known and {KeyRegistry.PartlyUpgraded} = {r.Release.Version})";
        return $"({product.Is.Text}){release}{edition}{partly}";
    }
}
