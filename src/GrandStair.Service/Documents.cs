using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Files.Calendars;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Plans;
using GrandStair.Storage.Plans;

namespace GrandStair.Service;

/// <summary>Parses plans and products.</summary>
internal sealed class Documents : IDocuments
{
    public Product ReadProduct(CatalogueContent content) =>
        CatalogueFolder.Parse(content.Files, KeyRegistry.BuiltIn, $"{content.Product}/product.yaml");

    public Plan ReadPlan(string body, KeyRegistry keys, Func<string, Product?> product) => PlanFile.Parse(body, keys, product, "the plan");

    public string ChangePlan(string body, IReadOnlyList<string> changes) => PlanText.With(body, changes);

    public ICalendar ReadCalendar(string body, string name, out int events)
    {
        var calendar = CalendarFile.Parse(body, name);
        events = calendar.Events;
        return calendar;
    }
}
