using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Runs;
using GrandStair.Engine.Plans;

namespace GrandStair.Service.Catalogue;

/// <summary>The products that the service knows.</summary>
internal static class CatalogueEndpoints
{
    public static void MapCatalogue(this RouteGroupBuilder api) =>
        api.MapGet("/catalogue", (Shelf shelf) => shelf.Products.Values.Select(Show).ToArray()).WithName("ListProducts");

    private static ProductView Show(Product p) => new(
        p.Name,
        p.Hash,
        [.. p.Releases.Select(r => new ReleaseView(r.Version, r.Name, RunMachine.Name(r.Status), r.SupportEnds.ToDictionary(e => e.Key, e => e.Value.ToString("yyyy-MM-dd", null))))],
        [.. p.Hops.Select(h => new HopView(h.Name, h.From, h.To, h.Checks.Length))],
        [.. p.Methods.Select(m => new MethodView(m.Name, m.Title, RunMachine.Name(m.Carries), m.SlotLasts.TotalMinutes, m.Rollback.Words))]);
}
