using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Catalogue;

/// <summary>Understands the files that plans and products are written in.</summary>
public interface IDocuments
{
    /// <summary>Parses a product's files.</summary>
    Product ReadProduct(CatalogueContent content);

    /// <summary>Parses a plan.</summary>
    Plan ReadPlan(string body, KeyRegistry keys, Func<string, Product?> product);

    /// <summary>Changes the text of a plan.</summary>
    /// <exception cref="FormatException">A change is none.</exception>
    string ChangePlan(string body, IReadOnlyList<string> changes);

    /// <summary>Understands a calendar.</summary>
    /// <param name="body">The calendar's text.</param>
    /// <param name="name">The calendar's name, for errors.</param>
    /// <param name="events">How many events it has, a recurring one counted once.</param>
    /// <exception cref="FormatException">The text is not a usable calendar; the message names the line.</exception>
    ICalendar ReadCalendar(string body, string name, out int events);
}
