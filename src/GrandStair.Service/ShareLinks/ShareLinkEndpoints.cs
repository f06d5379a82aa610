using System.Security.Claims;
using System.Text;
using GrandStair.Contracts;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Service.Access;
using GrandStair.Service.Plans;
using GrandStair.Service.Requests;
using GrandStair.Storage.Access;
using GrandStair.Storage.Plans;

namespace GrandStair.Service.ShareLinks;

/// <summary>Share links of a plan's slots: creating and revoking them, and what they show.</summary>
internal static class ShareLinkEndpoints
{
    public static void MapShareLinks(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/plans/{name}/share-links",
                async (
                    string name,
                    ShareLinkTable links,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    TimeProvider clock,
                    CancellationToken stop
                ) =>
                {
                    var stored = await plans.FindAsync(name, stop);
                    var isOver = SharedSlots.IsOver(stored, clock.GetUtcNow());
                    return (await SeenAsync(stored, links, fleet, stop)).Select(a => Row(a, isOver)).ToArray();
                }
            )
            .WithName("ListShareLinks")
            .ProducesProblem(404);
        api.MapPost("/plans/{name}/share-links", MakeAsync).WithName("MakeShareLink").ProducesProblem(404).ProducesProblem(409);
        api.MapPost(
                "/plans/{name}/share-links/{id}/end",
                async (
                    string name,
                    string id,
                    Because because,
                    ShareLinkTable links,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    ClaimsPrincipal caller,
                    TimeProvider clock,
                    CancellationToken stop
                ) =>
                    (await SeenAsync(await plans.FindAsync(name, stop), links, fleet, stop)).FirstOrDefault(a =>
                        a.Id == RequestFields.Number('a', id)
                    )
                        is { } link
                    && await links.EndAsync(
                        link.Plan,
                        link.Id,
                        RequestFields.Reason(because.Reason),
                        caller.Actor(),
                        clock.GetUtcNow(),
                        stop
                    )
                        ? Results.NoContent()
                        : throw RefusedException.Unknown(
                            "unknown-share-link",
                            $"Plan '{name}' has no share link '{id}' in use. 'gstair share list {name}' shows them."
                        )
            )
            .WithName("EndShareLink")
            .Produces(204)
            .ProducesProblem(404);

        var shared = api.MapGroup("/shared/{secret}").AllowAnonymous().ProducesProblem(404);
        shared
            .MapGet("/", async (string secret, SharedSlots slots, SharedReports reports, CancellationToken stop) =>
                await ShowAsync(await slots.FindAsync(secret, stop), reports, stop)
            )
            .WithName("GetShared");
        shared
            .MapGet("/calendar.ics", async (string secret, SharedSlots slots, CancellationToken stop) =>
            {
                var shown = await slots.FindAsync(secret, stop);
                return Results.Text(
                    SlotSheet.Calendar(shown.Report, [shown.Link.Of.Length > 0 ? shown.Link.Of : null]),
                    "text/calendar",
                    Encoding.UTF8
                );
            })
            .WithName("GetSharedCalendar")
            .Produces<string>(200, "text/calendar");
        shared
            .MapGet("/machines/{machine}/times", async (string secret, string machine, SharedSlots slots, CancellationToken stop) =>
                (await slots.TimesAsync(secret, machine, stop)).Select(s => new SpanView(s.Start, s.End)).ToArray()
            )
            .WithName("ListSharedTimes")
            .ProducesProblem(409);
        shared
            .MapPost(
                "/machines/{machine}/choose",
                async (
                    string secret,
                    string machine,
                    ChooseCommand command,
                    SharedSlots slots,
                    SharedReports reports,
                    HttpContext context,
                    CancellationToken stop
                ) =>
                {
                    await slots.ChooseAsync(secret, machine, RequestFields.Moment("start", command.Start), context.Address(), stop);
                    return await ShowAsync(await slots.FindAsync(secret, stop), reports, stop);
                }
            )
            .WithName("ChooseSharedTime")
            .ProducesProblem(409);
        shared
            .MapPost(
                "/machines/{machine}/reports",
                async (
                    string secret,
                    string machine,
                    ReportCommand command,
                    SharedSlots slots,
                    SharedReports reports,
                    HttpContext context,
                    CancellationToken stop
                ) =>
                {
                    await reports.AddAsync(secret, machine, command.Words, context.Address(), stop);
                    return await ShowAsync(await slots.FindAsync(secret, stop), reports, stop);
                }
            )
            .WithName("ReportSharedProblem")
            .ProducesProblem(400)
            .ProducesProblem(409);
    }

    /// <summary>The links of a plan that show only what the caller sees.</summary>
    private static async Task<IEnumerable<StoredShareLink>> SeenAsync(
        PlanRecord plan,
        ShareLinkTable links,
        ScopedFleet fleet,
        CancellationToken stop
    ) => (await links.OfPlanAsync(plan.Name, stop)).Where(a => fleet.Sites.Covers(a.Sites));

    private static async Task<NewShareLink> MakeAsync(
        string name,
        ShareLinkCommand command,
        ShareLinkTable links,
        ScopedPlans plans,
        ScopedFleet fleet,
        CatalogueCache catalogues,
        ClaimsPrincipal caller,
        TimeProvider clock,
        CancellationToken stop
    )
    {
        var stored = await plans.FindAsync(name, stop);
        var kind = RequestFields.Word<ShareLinkKind>("kind", command.Kind);
        var machines = await fleet.AllAsync(stop);
        var (plan, _) = await catalogues.ReadPlanAsync(stored, stop);
        var members = (await plans.MembersAsync(name, stop)).Select(m => machines[m.Machine]);
        string[] known = kind switch
        {
            ShareLinkKind.Plan => [""],
            ShareLinkKind.Wave => [.. stored.Waves.Select(w => w.Name)],
            ShareLinkKind.Crew => [.. plan.Crews.Select(c => c.Name)],
            ShareLinkKind.Site => [.. members.Select(m => m.Site).Distinct(StringComparer.OrdinalIgnoreCase)],
            _ => [.. members.Select(m => m.Owner).Where(o => o.Length > 0).Distinct(StringComparer.OrdinalIgnoreCase)],
        };
        var of = kind == ShareLinkKind.Plan ? "" : known.FirstOrDefault(k => k.Equals(command.Of, StringComparison.OrdinalIgnoreCase));
        if (of is null)
        {
            var some = string.Join(", ", known.Order(StringComparer.OrdinalIgnoreCase).Take(10));
            var otherwise = known.Length == 0 ? "; it has none at all." : $"; expected one of {some}.";
            throw RefusedException.Unknown(
                "unknown-whom",
                $"Plan '{name}' has no {RunMachine.Name(kind)} '{command.Of}'{Spelling.DidYouMean(command.Of ?? "", known, otherwise)}"
            );
        }

        var secret = AccessTable.NewSecret();
        var link = new StoredShareLink(0, stored.Name, kind, of, fleet.Sites, clock.GetUtcNow(), caller.Actor().Name, null, null);
        var id = await links.AddAsync(secret, link, caller.Actor(), stop);
        return new($"/api/v1/shared/{secret}/calendar.ics", $"/times/{secret}", Row(link with { Id = id }, isOver: false));
    }

    private static ShareLinkRow Row(StoredShareLink a, bool isOver) =>
        new($"a{a.Id}", RunMachine.Name(a.Kind), a.Of, a.Ended is null && !isOver ? "active" : "ended", a.Made, a.MadeBy, a.LastUsed);

    private static async Task<SharedView> ShowAsync(Shown shown, SharedReports reports, CancellationToken stop)
    {
        var reported = await reports.OfAsync(shown, stop);
        return new(
            shown.Stored.Name,
            shown.Report.Target,
            RunMachine.Name(shown.Link.Kind),
            shown.Link.Of,
            shown.Report.At,
            shown.Link.Kind == ShareLinkKind.Owner ? shown.Report.Plan.Owners?.Notice.TotalHours : null,
            [
                .. shown.Report.Slots.Select(s =>
                {
                    var choice = shown.Choice(s);
                    return new SharedSlot(
                        s.Machine.Name,
                        s.Machine.Site,
                        s.Wave,
                        s.Status,
                        s.Start,
                        s.End,
                        s.Stands,
                        shown.IsChosen(s),
                        choice?.From,
                        choice?.To
                    )
                    {
                        OwnerPresent = s.OwnerPresent,
                        MayReport = SharedReports.IsPossible(shown, shown.Members[s.Machine.Id]),
                        Reports = [.. reported[s.Machine.Id].Select(f => new SharedReport(f.Title, f.Opened, f.Closed, f.Because))],
                    };
                }),
            ]
        );
    }
}
