using System.Security.Claims;
using System.Text;
using GrandStair.Contracts;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Plans;
using GrandStair.Files.Calendars;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Calendars;

namespace GrandStair.Service.Calendars;

/// <summary>The calendars that plans refer to: when ships are berthed, when crews work, when a site is closed.</summary>
internal static class CalendarEndpoints
{
    public static void MapCalendars(this RouteGroupBuilder api)
    {
        api.MapGet("/calendars", ListAsync).WithName("ListCalendars");
        api.MapGet("/calendars/{name}", async (string name, CalendarTable calendars, CancellationToken stop) =>
                Results.Text((await FindAsync(name, calendars, stop)).Body, "text/calendar", Encoding.UTF8)
            )
            .WithName("GetCalendar")
            .Produces<string>(200, "text/calendar")
            .ProducesProblem(404);
        api.MapPut("/calendars/{name}", PutAsync).Accepts<string>("text/calendar").WithName("LoadCalendar").ProducesProblem(422);
    }

    private static async Task<IReadOnlyList<CalendarRow>> ListAsync(
        CalendarTable calendars,
        ScopedPlans plans,
        CatalogueCache catalogues,
        CancellationToken stop
    )
    {
        var users = new List<(string Plan, string Calendar)>();
        foreach (var stored in await plans.AllAsync(stop))
            users.AddRange((await catalogues.ReadPlanAsync(stored, stop)).Plan.Calendars.Select(c => (stored.Name, c)));
        return [.. (await calendars.StatesAsync(stop)).Select(c => Row(c, users))];
    }

    private static async Task<CalendarRow> PutAsync(
        string name,
        HttpRequest request,
        CalendarCache catalogues,
        CalendarTable calendars,
        PlanApprovals approvals,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        if (
            await catalogues.PutAsync(
                name,
                await BoundedStream.ReadTextAsync(request, CalendarFile.LongestText, stop),
                caller.Actor(),
                stop
            )
        )
            await approvals.HoldUnapprovedAsync($"calendar {name} was loaded again", caller.Actor(), stop);
        return Row((await calendars.StatesAsync(stop)).First(c => c.Name.Equals(name, StringComparison.OrdinalIgnoreCase)), []);
    }

    private static async Task<StoredCalendar> FindAsync(string name, CalendarTable calendars, CancellationToken stop)
    {
        if (await calendars.FindAsync(name, stop) is { } found)
            return found;
        var names = (await calendars.StatesAsync(stop)).Select(c => c.Name);
        var end = Core.Readings.Spelling.DidYouMean(name, names, ". 'gstair calendar list' shows those that exist.");
        throw RefusedException.Unknown("unknown-calendar", $"There is no calendar '{name}'{end}");
    }

    private static CalendarRow Row(CalendarState c, IEnumerable<(string Plan, string Calendar)> users) =>
        new(
            c.Name,
            c.Events,
            c.Hash,
            c.Loaded,
            c.LoadedBy,
            [.. users.Where(u => u.Calendar.Equals(c.Name, StringComparison.OrdinalIgnoreCase)).Select(u => u.Plan)]
        );
}
