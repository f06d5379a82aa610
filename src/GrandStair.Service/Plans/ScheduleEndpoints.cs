using System.Security.Claims;
using System.Text;
using GrandStair.Contracts;
using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Plans;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Plans;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Plans;

/// <summary>
/// When a plan's machines go: comparing and loading its text, its schedule, its board, approvals, proposals, and its slots as files.
/// </summary>
internal static class ScheduleEndpoints
{
    private static readonly TimeSpan BoardSpan = TimeSpan.FromDays(21);
    private static readonly TimeSpan LongestBoard = TimeSpan.FromDays(120);

    public static void MapSchedules(this RouteGroupBuilder api)
    {
        api.MapPost("/plans/compare", CompareAsync)
            .Accepts<string>("application/yaml")
            .WithName("ComparePlan")
            .ProducesProblem(404)
            .ProducesProblem(409)
            .ProducesProblem(422);
        api.MapPut("/plans/{name}", LoadAsync)
            .Accepts<string>("application/yaml")
            .WithName("LoadPlan")
            .ProducesProblem(404)
            .ProducesProblem(409)
            .ProducesProblem(422);
        api.MapGet("/plans/{name}/schedule", ScheduleAsync).WithName("GetSchedule").ProducesProblem(404);
        api.MapGet("/plans/{name}/board", BoardAsync).WithName("GetBoard").ProducesProblem(404);
        api.MapGet("/plans/{name}/revisions", async (string name, ScopedPlans plans, ApprovalTable table, CancellationToken stop) =>
                (await table.RevisionsAsync((await plans.WholeAsync(name, stop)).Name, stop))
                    .Select(r => new RevisionRow(r.Number, r.At, r.By, r.Reason))
                    .ToArray()
            )
            .WithName("ListRevisions")
            .ProducesProblem(404);
        api.MapPost(
                "/plans/{name}/approvals",
                async (
                    string name,
                    ApprovalCommand command,
                    ScopedPlans plans,
                    PlanApprovals approvals,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    var stored = await plans.WholeAsync(name, stop);
                    await approvals.ApproveAsync(
                        stored,
                        command.Wave,
                        command.Intent,
                        RequestFields.Reason(command.Reason),
                        caller.Actor(),
                        stop
                    );
                    return Show(await approvals.NeededAsync(stored, stop));
                }
            )
            .WithName("ApprovePlan")
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost(
                "/plans/{name}/members/{machine}/move",
                async (
                    string name,
                    string machine,
                    MoveCommand command,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    PlanWriter writer,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    var stored = await plans.FindAsync(name, stop);
                    await writer.MoveAsync(
                        stored,
                        await fleet.MachineAsync(machine, stop),
                        command.Wave,
                        RequestFields.Reason(command.Reason),
                        caller.Actor(),
                        stop
                    );
                    return Results.NoContent();
                }
            )
            .WithName("MoveMachine")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapGet("/plans/{name}/proposals", ProposalsAsync).WithName("ListProposals").ProducesProblem(404);
        api.MapPost("/plans/{name}/proposals", AcceptAsync).WithName("AcceptProposals").ProducesProblem(404).ProducesProblem(409);
        api.MapGet("/plans/{name}/slots", SlotsAsync)
            .WithName("GetSlots")
            .Produces<string>(200, "text/calendar", "text/csv", "text/html")
            .ProducesProblem(404);
    }

    /// <summary>What a plan is beside its waves, as its caller sees it.</summary>
    /// <param name="stored">The plan.</param>
    /// <param name="plan">The plan as it is understood.</param>
    /// <param name="approvals">The approvals that it needs.</param>
    /// <param name="sites">The sites that are reported.</param>
    public static PlanningView Show(PlanRecord stored, Plan plan, IReadOnlyList<NeededApproval> approvals, SiteScope sites) =>
        new(
            stored.Revision,
            stored.RevisedBy,
            plan.ChangeRecord,
            Show(approvals),
            // What is covered is told of the whole scope.
            sites.Covers(stored.Sites)
                ? Show(stored.Coverages)
                : [],
            [
                .. plan
                    .Crews.Where(c => c.Sites.IsEmpty || c.Sites.Any(sites.Holds))
                    .Select(c => new CrewView(c.Name, c.Kind, c.Hands, c.PerDay, [.. c.Sites.Where(sites.Holds)], Tell(c.When))),
            ],
            [
                .. plan
                    .Uplinks.Where(l => l.Sites.Any(sites.Holds))
                    .Select(l => new UplinkView(
                        [.. l.Sites.Where(sites.Holds)],
                        l.Rate,
                        l.Share,
                        l.Hours is null ? "always" : Tell(l.Hours)
                    )),
            ]
        );

    private static ApprovalView[] Show(IReadOnlyList<NeededApproval> approvals) =>
        [
            .. approvals.Select(a => new ApprovalView(
                a.Subject,
                a.Intent,
                a.By,
                a.Contributors,
                a.Why,
                a.Given?.By,
                a.Given?.At,
                a.Given?.Reason,
                a.Before is { } before ? $"{before.By} approved revision {before.Revision} on {before.At:yyyy-MM-dd}" : null,
                [.. a.LoadedSince.Select(c => new LoadedSince(c.Name, c.Loaded, c.LoadedBy))]
            )),
        ];

    private static CoverageView[] Show(IEnumerable<Coverage> coverages) =>
        [
            .. coverages.Select(c => new CoverageView(
                c.Wave,
                c.Values,
                c.Covered,
                [.. c.Uncovered.Select(u => new UncoveredView(u.Key, u.Value, u.Machines, u.Why))],
                c.Unknown
            )),
        ];

    /// <summary>A rule as people write it.</summary>
    private static string Tell(TimeRule rule)
    {
        string[] calendar = rule.Calendar is { } name ? [$"calendar {name}"] : [];
        var times = rule.Weekly.Select(w => w.ToString()).Concat(rule.Days.Select(d => d.ToString())).Concat(calendar);
        return $"{string.Join(", ", times)} ({rule.Zone})";
    }

    private static async Task<ComparisonView> CompareAsync(
        HttpRequest request,
        PlanWriter writer,
        CatalogueCache catalogues,
        ScopedPlans plans,
        ScopedFleet fleet,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var body = await PlanEndpoints.BodyAsync(request, stop);
        var before = await plans.ToWriteAsync(catalogues.ReadPlan(body).Name, stop);
        var draft = await writer.DraftAsync(body, caller.Caller().Sites, stop);
        var members = before is null ? [] : await plans.MembersAsync(before.Name, stop);
        var machines = await fleet.AllAsync(stop);
        var changes = before is null ? [] : draft.Proposals(before, members);
        var lines = FileChange
            .Between(
                new Dictionary<string, string> { ["plan"] = before?.Body ?? "" },
                new Dictionary<string, string> { ["plan"] = draft.Record.Body }
            )
            .SelectMany(f => f.Lines);
        return new(
            draft.Plan.Name,
            draft.Record.Revision,
            draft.Members.Length,
            before is null ? [] : [.. lines],
            Rows(changes, machines),
            [
                .. draft
                    .PlanSchedule.Waves.SelectMany(w => w.Schedule.Moved)
                    .Select(m => new MovedRow(machines[m.Machine].Name, machines[m.Machine].Site, m.Before.Start, m.After?.Start)),
            ],
            Show(draft, machines),
            Show(draft.Record.Coverages),
            [.. draft.Record.Undecided.Select(u => u.ToString())],
            draft.Missing,
            draft.NoEffect
        );
    }

    private static WaveChangeRow[] Rows(IEnumerable<WaveChange> changes, IReadOnlyDictionary<MachineId, Machine> machines) =>
        [
            .. changes
                .Where(c => machines.ContainsKey(c.Machine))
                .Select(c => new WaveChangeRow(machines[c.Machine].Name, machines[c.Machine].Site, c.From, c.To)),
        ];

    private static async Task<PlanView> LoadAsync(
        string name,
        string? reason,
        int? after,
        HttpRequest request,
        PlanWriter writer,
        ScopedPlans plans,
        CatalogueCache catalogues,
        PlanApprovals approvals,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        await plans.WholeAsync(name, stop);
        var body = await PlanEndpoints.BodyAsync(request, stop);
        if (catalogues.ReadPlan(body).Name is var named && named != name)
            throw RefusedException.Conflict("another-plan", $"The file is of plan '{named}', and not of '{name}'.");
        await writer.ReviseAsync(body, after, RequestFields.Reason(reason), caller.Actor(), stop);
        return await PlanEndpoints.ViewAsync(name, catalogues, plans, approvals, stop);
    }

    private static async Task<ScheduleView> ScheduleAsync(
        string name,
        PlanWriter writer,
        ScopedPlans plans,
        ScopedFleet fleet,
        CancellationToken stop
    )
    {
        var stored = await plans.WholeAsync(name, stop);
        var draft = await writer.DraftAsync(stored.Body, stored.Sites, stop);
        return Show(draft with { Record = stored }, await fleet.AllAsync(stop));
    }

    private static ScheduleView Show(Draft draft, IReadOnlyDictionary<MachineId, Machine> machines)
    {
        var waveOf = draft.Members.ToDictionary(m => m.Machine, m => draft.Plan.Waves[m.Wave - 1].Name);
        var notReady = draft.Members.Count(m => m is { Run: null, Exemption: null, Status: Status.NotReady });
        var changes =
            draft.MeetsDeadline && !draft.PlanSchedule.Left.Any()
                ? []
                : PlanSchedule.ToMeet(
                    draft.Plan,
                    draft.Calendars,
                    draft.Requests,
                    draft.Taken,
                    draft.Begun,
                    draft.PlanSchedule.Waves[0].From
                );
        return new(
            draft.Plan.Name,
            draft.Record.Revision,
            [
                .. draft.PlanSchedule.Waves.Select(w =>
                {
                    var placed = w.Schedule.All.Count(p => p.Slot is not null);
                    double? share =
                        w.Schedule is { End: { } end, Bound: { } bound } && bound.End > w.From
                            ? (end - w.From) / (bound.End - w.From)
                            : null;
                    return new WaveScheduleView(
                        w.Wave,
                        placed,
                        w.Schedule.All.Length - placed,
                        w.From,
                        w.Schedule.End,
                        w.Schedule.Bound?.End,
                        w.Schedule.Bound?.Why,
                        share
                    );
                }),
            ],
            draft.PlanSchedule.End,
            draft.Plan.Deadline?.ToString("yyyy-MM-dd", null),
            draft.MeetsDeadline,
            [.. changes.Select(c => new PlanChangeView(c.What, c.End, c.Meets))],
            [
                .. draft.PlanSchedule.Left.Select(p => new LeftView(
                    machines[p.Machine].Name,
                    machines[p.Machine].Site,
                    waveOf[p.Machine],
                    p.Why!,
                    p.Change!
                )),
            ],
            draft.Members.Count(m => m.Exemption is null) - notReady,
            notReady
        );
    }

    private static async Task<BoardView> BoardAsync(
        string name,
        DateTimeOffset? from,
        DateTimeOffset? to,
        ScopedPlans plans,
        ScopedFleet fleet,
        CatalogueCache catalogues,
        PlanWriter writer,
        CalendarCache calendars,
        TimeProvider clock,
        CancellationToken stop
    )
    {
        var stored = await plans.FindAsync(name, stop);
        var (plan, _) = await catalogues.ReadPlanAsync(stored, stop);
        var members = await plans.MembersAsync(name, stop);
        // Of a plan that is running what is scheduled for waves to come is kept up to date.
        var tentative =
            stored.State == PlanStatus.Drafted
                ? (await writer.DraftAsync(stored.Body, stored.Sites, stop))
                    .PlanSchedule.All.Where(p => p.Slot is not null)
                    .ToDictionary(p => p.Machine, p => p.Slot!)
                : [];
        Slot? SlotOf(Member m) => m.Slot ?? (stored.State == PlanStatus.Drafted ? tentative.GetValueOrDefault(m.Machine) : m.Tentative);
        var now = clock.GetUtcNow();
        var begin = RequestFields.Moment("from", from)
            ?? members.Select(m => SlotOf(m)?.Start).Where(s => s > now.AddDays(-2)).Min()
            ?? now;
        var end = RequestFields.Moment("to", to) ?? begin + BoardSpan;
        if (end <= begin || end - begin > LongestBoard)
            throw RefusedException.Invalid(
                "board-span",
                $"The board shows up to {LongestBoard.TotalDays:0} days from a moment on; from {begin:yyyy-MM-dd HH:mm} to "
                    + $"{end:yyyy-MM-dd HH:mm} is none."
            );
        var machines = await fleet.AllAsync(stop);
        var (known, _) = await calendars.AllAsync(stop);
        var windows = new Core.Waves.Windows(plan, known, begin, end);
        var sites = members
            .GroupBy(m => machines[m.Machine].Site)
            .OrderBy(g => g.Key, StringComparer.OrdinalIgnoreCase)
            .Select(g => new BoardSite(
                g.Key,
                // A machine with rules of its own is drawn within what holds for its site.
                [.. windows.Of(g.Key, "", "").Select(s => new SpanView(s.From, s.To))],
                [
                    .. plan
                        .Freezes.Where(c => c.For.IsEveryone || c.For.Sites.Contains(g.Key, StringComparer.OrdinalIgnoreCase))
                        .SelectMany(c => c.When.Between(begin, end, known).Select(s => new ClosedView(s.From, s.To, c.Why))),
                ],
                [
                    .. g.Select(m => (Member: m, Slot: SlotOf(m)))
                        .Where(m => m.Slot is { } slot && slot.Start < end && slot.End > begin && m.Member.Exemption is null)
                        .OrderBy(m => m.Slot!.Start)
                        .ThenBy(m => machines[m.Member.Machine].Name, StringComparer.OrdinalIgnoreCase)
                        .Select(m => new BoardSlot(
                            machines[m.Member.Machine].Name,
                            m.Member.Wave,
                            RunMachine.Name(m.Member.Status),
                            m.Slot!.Start,
                            m.Slot.End,
                            m.Slot.StageFrom,
                            m.Slot.Crew,
                            m.Member.Slot is not null,
                            m.Member.Rescheduled == m.Slot.Start
                        )),
                ],
                g.Count(m => m.Exemption is null && SlotOf(m) is null && m.Run is null)
            ));
        // As everywhere, callers who do not see all machines do not see waves without any of theirs.
        var waves = stored
            .Waves.Where(w => plans.SeesAllOf(stored) || members.Any(m => m.Wave == w.Number))
            .Select(w =>
                (Wave: w, Slots: members.Where(m => m.Wave == w.Number && m.Exemption is null).Select(SlotOf).OfType<Slot>().ToArray())
            )
            .Select(w => new BoardWave(
                w.Wave.Number,
                w.Wave.Name,
                RunMachine.Name(w.Wave.State),
                w.Slots.Min(s => (DateTimeOffset?)s.Start),
                w.Slots.Max(s => (DateTimeOffset?)s.End),
                plan.Waves[w.Wave.Number - 1].NotBefore
            ));
        return new(begin, end, now, [.. waves], [.. sites]);
    }

    private static async Task<IReadOnlyList<WaveChangeRow>> ProposalsAsync(
        string name,
        PlanWriter writer,
        ScopedPlans plans,
        ScopedFleet fleet,
        CancellationToken stop
    )
    {
        var stored = await plans.WholeAsync(name, stop);
        if (stored.State == PlanStatus.Ended)
            return [];
        var draft = await writer.DraftMembersAsync(stored.Body, stored.Sites, stop);
        return Rows(draft.Proposals(stored, await plans.MembersAsync(name, stop)), await fleet.AllAsync(stop));
    }

    private static async Task<PlanView> AcceptAsync(
        string name,
        Because because,
        PlanWriter writer,
        ScopedPlans plans,
        CatalogueCache catalogues,
        PlanApprovals approvals,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var stored = await plans.WholeAsync(name, stop);
        await writer.ReviseAsync(stored.Body, stored.Revision, RequestFields.Reason(because.Reason), caller.Actor(), stop);
        return await PlanEndpoints.ViewAsync(name, catalogues, plans, approvals, stop);
    }

    private static async Task<IResult> SlotsAsync(
        string name,
        [AsParameters] SlotsQuery asked,
        ScopedPlans plans,
        ScopedFleet fleet,
        CatalogueCache catalogues,
        PlanApprovals approvals,
        TimeProvider clock,
        CancellationToken stop
    )
    {
        var (format, wave, site, crew, owner) = asked;
        var stored = await plans.FindAsync(name, stop);
        var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
        var report = SlotSheet.Of(
            stored,
            plan,
            product,
            await plans.MembersAsync(name, stop),
            await fleet.AllAsync(stop),
            await approvals.NeededAsync(stored, stop),
            clock.GetUtcNow(),
            SlotSheet.Which(wave, site, crew, owner)
        );
        if (!plans.SeesAllOf(stored))
            report = report with { Plan = SlotSheet.Within(plan, fleet.Sites) };
        switch (format ?? "ics")
        {
            case "ics":
                return Results.Text(
                    SlotSheet.Calendar(
                        report,
                        [wave is { } number ? stored.Waves.ElementAtOrDefault(number - 1)?.Name : null, site, crew, owner]
                    ),
                    "text/calendar",
                    Encoding.UTF8
                );
            case "csv":
                return Results.Text(report.Csv(), "text/csv", Encoding.UTF8);
            case "html":
                return Results.Text(report.Html(), "text/html", Encoding.UTF8);
            default:
                throw RefusedException.Invalid("format", $"format is '{format}'; expected ics, csv or html.");
        }
    }

    /// <summary>Which slots are asked for, and how; null stands for all.</summary>
    /// <param name="Format"><c>ics</c>, <c>csv</c> or <c>html</c>; null for <c>ics</c>.</param>
    /// <param name="Wave">The wave's number, from 1.</param>
    /// <param name="Site">The site.</param>
    /// <param name="Crew">The crew.</param>
    /// <param name="Owner">The machines' owner.</param>
    private sealed record SlotsQuery(
        [FromQuery(Name = "format")] string? Format,
        [FromQuery(Name = "wave")] int? Wave,
        [FromQuery(Name = "site")] string? Site,
        [FromQuery(Name = "crew")] string? Crew,
        [FromQuery(Name = "owner")] string? Owner
    );
}
