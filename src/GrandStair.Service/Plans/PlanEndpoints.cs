using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Plans;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Plans;

/// <summary>Plans, their waves and their machines.</summary>
internal static class PlanEndpoints
{
    private const long MostBytes = 1L << 20;

    public static void MapPlans(this RouteGroupBuilder api)
    {
        api.MapPost("/plans", CreateAsync)
            .Accepts<string>("application/yaml")
            .WithName("CreatePlan")
            .ProducesProblem(409)
            .ProducesProblem(422);
        api.MapGet("/plans", ListAsync).WithName("ListPlans");
        api.MapGet(
                "/plans/{name}",
                async (string name, CatalogueCache catalogues, ScopedPlans plans, PlanApprovals approvals, CancellationToken stop) =>
                    await ViewAsync(name, catalogues, plans, approvals, stop)
            )
            .WithName("GetPlan")
            .ProducesProblem(404);
        api.MapGet("/plans/{name}/members", MembersAsync).WithName("ListMembers").ProducesProblem(404);
        api.MapPost(
                "/plans/{name}/start",
                async (
                    string name,
                    PlanCommands commands,
                    CatalogueCache catalogues,
                    ScopedPlans plans,
                    PlanApprovals approvals,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    await plans.WholeAsync(name, stop);
                    await commands.StartAsync(name, caller.Actor(), stop);
                    return await ViewAsync(name, catalogues, plans, approvals, stop);
                }
            )
            .WithName("StartPlan")
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost(
                "/plans/{name}/hold",
                async (
                    string name,
                    Because because,
                    PlanCommands commands,
                    CatalogueCache catalogues,
                    ScopedPlans plans,
                    PlanApprovals approvals,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    await plans.WholeAsync(name, stop);
                    await commands.HoldAsync(name, RequestFields.Reason(because.Reason), caller.Actor(), stop);
                    return await ViewAsync(name, catalogues, plans, approvals, stop);
                }
            )
            .WithName("HoldPlan")
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost(
                "/plans/{name}/discard",
                async (
                    string name,
                    Because because,
                    PlanCommands commands,
                    ScopedPlans plans,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    await plans.WholeAsync(name, stop);
                    await commands.DiscardAsync(name, RequestFields.Reason(because.Reason), caller.Actor(), stop);
                    return Results.NoContent();
                }
            )
            .WithName("DiscardPlan")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/plans/{name}/members/{machine}/exemption", ExemptAsync)
            .WithName("ExemptMachine")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost(
                "/plans/{name}/members/{machine}/again",
                async (
                    string name,
                    string machine,
                    Because because,
                    PlanCommands commands,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    await plans.FindAsync(name, stop);
                    await commands.AgainAsync(
                        name,
                        await fleet.MachineAsync(machine, stop),
                        RequestFields.Reason(because.Reason),
                        caller.Actor(),
                        stop
                    );
                    return Results.NoContent();
                }
            )
            .WithName("GoAgain")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPut(
                "/plans/{name}/members/{machine}/method",
                async (
                    string name,
                    string machine,
                    MethodCommand command,
                    PlanCommands commands,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    await plans.FindAsync(name, stop);
                    await commands.ChooseMethodAsync(
                        name,
                        await fleet.MachineAsync(machine, stop),
                        command.Method,
                        RequestFields.Reason(command.Reason),
                        caller.Actor(),
                        stop
                    );
                    return Results.NoContent();
                }
            )
            .WithName("ChooseMethod")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapGet(
                "/plans/{name}/acknowledgements",
                async (string name, PlanAcknowledgements acknowledgements, ScopedPlans plans, ScopedFleet fleet, CancellationToken stop) =>
                    Show(await acknowledgements.AllAsync(await plans.FindAsync(name, stop), fleet.Sites, stop))
            )
            .WithName("ListAcknowledgements")
            .ProducesProblem(404);
        api.MapPost(
                "/plans/{name}/acknowledgements",
                async (
                    string name,
                    AcknowledgeCommand command,
                    PlanAcknowledgements acknowledgements,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    var stored = await plans.WholeAsync(name, stop);
                    await acknowledgements.AcknowledgeAsync(
                        stored,
                        command.Names,
                        RequestFields.Reason(command.Reason),
                        caller.Actor(),
                        stop
                    );
                    return Show(await acknowledgements.AllAsync(stored, fleet.Sites, stop));
                }
            )
            .WithName("Acknowledge")
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapGet("/outcomes/{name}", OutcomesAsync).WithName("GetOutcomes").ProducesProblem(404);
    }

    /// <summary>A plan's text, as it was sent.</summary>
    public static Task<string> BodyAsync(HttpRequest request, CancellationToken stop) =>
        BoundedStream.ReadTextAsync(request, MostBytes, stop);

    private static AcknowledgementView[] Show(IEnumerable<ToAcknowledge> all) =>
        [
            .. all.Select(a => new AcknowledgementView(
                a.Kind,
                a.Name,
                a.Title,
                a.Words,
                a.Machines,
                a.Given?.By,
                a.Given?.At,
                a.Given?.Reason
            )),
        ];

    /// <summary>Counts of machines by status, as the API shows them: every status is named, in its order.</summary>
    public static IReadOnlyDictionary<string, int> Tally(IEnumerable<Member> members)
    {
        var tally = new Tally(members.Select(m => m.Status));
        return Enum.GetValues<Status>().ToDictionary(s => RunMachine.Name(s), s => tally[s]);
    }

    public static PlanRow Row(PlanRecord stored, Plan plan, string target, IReadOnlyList<Member> members) =>
        new(
            stored.Name,
            target,
            RunMachine.Name(stored.State),
            stored.Held,
            members.Count,
            Tally(members),
            stored.Created,
            stored.CreatedBy,
            stored.Started,
            stored.Ended,
            plan.Deadline?.ToString("yyyy-MM-dd", null)
        )
        {
            ToGo = members.Count(m => m.IsPending),
        };

    /// <summary>
    /// The waves of a plan with their members; what the advance rule says of all members, and waves of which none is seen, are left out
    /// where not all are.
    /// </summary>
    public static IReadOnlyList<WaveView> Waves(PlanRecord stored, Plan plan, IReadOnlyList<Member> members, bool seesAll) =>
        [
            .. stored
                .Waves.Select(w => (Wave: w, Own: members.Where(m => m.Wave == w.Number).ToArray()))
                .Where(w => seesAll || w.Own.Length > 0)
                .Select(x =>
                {
                    var (w, own) = x;
                    var why = w.Why
                        ?? (
                            w.State == WaveState.Waiting && plan.Waves[w.Number - 1].NotBefore is { } earliest
                                ? $"not before {earliest:yyyy-MM-dd HH:mm} UTC"
                                : null
                        );
                    return new WaveView(
                        w.Number,
                        w.Name,
                        RunMachine.Name(w.State),
                        w.Opened,
                        seesAll ? why : null,
                        own.Length,
                        Tally(own),
                        own.Min(m => m.PlannedEnd),
                        own.Max(m => m.PlannedEnd)
                    );
                }),
        ];

    private static async Task<PlanView> CreateAsync(
        HttpRequest request,
        PlanWriter writer,
        CatalogueCache catalogues,
        ScopedPlans plans,
        PlanApprovals approvals,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var body = await BodyAsync(request, stop);
        // Asked first, so that no other answer tells whether there is such a plan at other sites.
        await plans.ToWriteAsync(catalogues.ReadPlan(body).Name, stop);
        var created = await writer.CreateAsync(body, caller.Actor(), caller.Caller().Sites, stop);
        return await ViewAsync(created.Plan.Name, catalogues, plans, approvals, stop);
    }

    private static async Task<IReadOnlyList<PlanRow>> ListAsync(ScopedPlans plans, CatalogueCache catalogues, CancellationToken stop)
    {
        var rows = new List<PlanRow>();
        foreach (var stored in await plans.AllAsync(stop))
        {
            var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
            rows.Add(Row(stored, plan, TargetName(plan, product), await plans.MembersAsync(stored.Name, stop)));
        }

        return rows;
    }

    private static string TargetName(Plan plan, Core.Catalogue.Product product) => PlanSlots.AimOf(plan, product).Target;

    /// <summary>A plan as its caller sees it.</summary>
    public static async Task<PlanView> ViewAsync(
        string name,
        CatalogueCache catalogues,
        ScopedPlans plans,
        PlanApprovals approvals,
        CancellationToken stop
    )
    {
        var stored = await plans.FindAsync(name, stop);
        var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
        var members = await plans.MembersAsync(name, stop);
        return new(
            Row(stored, plan, TargetName(plan, product), members),
            // Text and scope may name machines at other sites.
            plans.SeesAllOf(stored)
                ? stored.Body
                : "",
            plans.SeesAllOf(stored) ? plan.Scope.Text : "",
            RunMachine.Name(plan.Preserves),
            plan.Methods,
            new(Limits.Shown(plan.Limits.All), Limits.Shown(plan.Limits.Site)),
            new(plan.Advance.Verified, plan.Advance.Failures, plan.Advance.Soak.TotalHours),
            Waves(stored, plan, members, plans.SeesAllOf(stored)),
            [.. stored.Undecided.Select(u => u.ToString())],
            ScheduleEndpoints.Show(stored, plan, await approvals.NeededAsync(stored, stop), plans.Sites),
            plans.SeesAllOf(stored) ? plans.TroubleOf(stored) : null
        );
    }

    private static async Task<Page<MemberRow>> MembersAsync(
        string name,
        [AsParameters] MembersQuery asked,
        ScopedFleet fleet,
        CatalogueCache catalogues,
        ScopedPlans plans,
        TimeProvider clock,
        CancellationToken stop
    )
    {
        var (status, wave, filter, limit, cursor) = asked;
        var stored = await plans.FindAsync(name, stop);
        // Without a filter also those that were removed from the fleet: the plan counts them as exempt.
        var machines = string.IsNullOrWhiteSpace(filter)
            ? await fleet.AllAsync(stop)
            : (await fleet.MatchingAsync(filter, catalogues, clock.GetUtcNow(), stop)).Matching.ToDictionary(m => m.Id);
        var statuses = status?.Split(',').Select(s => RequestFields.Word<Status>("status", s)).ToHashSet();
        var members = (await plans.MembersAsync(name, stop))
            .Where(m =>
                machines.ContainsKey(m.Machine) && (statuses is null || statuses.Contains(m.Status)) && (wave is null || m.Wave == wave)
            )
            .OrderBy(m => m.Wave)
            .ThenBy(m => m.Slot?.Start ?? DateTimeOffset.MaxValue)
            .ThenBy(m => machines[m.Machine].Name, StringComparer.OrdinalIgnoreCase)
            .ToArray();
        return members.Page(limit, cursor, m => Row(m, stored, machines[m.Machine]));
    }

    private static MemberRow Row(Member m, PlanRecord plan, Machine machine) =>
        new(
            m.Machine.ToString(),
            machine.Name,
            machine.Site,
            m.Wave,
            plan.Waves[m.Wave - 1].Name,
            RunMachine.Name(m.Status),
            RunMachine.Name(m.Gate),
            m.Why,
            m.CannotBeFixed,
            m.Method,
            m.Slot?.Start,
            m.Slot?.End,
            m.Run is { } run ? $"r{run}" : null,
            m.Verified,
            m.Exemption is { } exemption ? RunMachine.Name(exemption) : null,
            m.ExemptionReason,
            m.ExemptedBy,
            m.ExemptUntil?.ToString("yyyy-MM-dd", null),
            m.Change,
            m.Slot?.StageFrom,
            m.Slot?.Crew,
            m.Slot is null ? m.Tentative?.Start : m.PlannedStart,
            m.Missed,
            m.MovedReason is { } moved ? $"{m.MovedBy}: {moved}" : null,
            m.Rescheduled,
            ChosenBy(m)
        );

    /// <summary>Who chose a machine's time, and why; null where it was not chosen manually.</summary>
    public static string? ChosenBy(Member m) => m.Rescheduled is null ? null : $"{m.RescheduledBy}: {m.RescheduledReason}";

    private static async Task<IResult> ExemptAsync(
        string name,
        string machine,
        ExemptCommand command,
        PlanCommands commands,
        ScopedPlans plans,
        ScopedFleet fleet,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        DateOnly? until = command.Until is null ? null : RequestFields.Day("until", command.Until);
        await plans.FindAsync(name, stop);
        await commands.ExemptAsync(
            name,
            await fleet.MachineAsync(machine, stop),
            RequestFields.Word<Exemption>("as", command.As),
            RequestFields.Reason(command.Reason),
            until,
            caller.Actor(),
            stop
        );
        return Results.NoContent();
    }

    /// <summary>What waits for a decision comes first, then what cannot go, then what moves.</summary>
    private static int Urgency(Status status) =>
        status switch
        {
            Status.Parked => 0,
            Status.Stopped => 1,
            Status.NotReady => 2,
            Status.Running => 3,
            Status.Verified => 5,
            _ => 4,
        };

    private static async Task<OutcomesView> OutcomesAsync(
        string name,
        ScopedFleet fleet,
        ScopedPlans plans,
        Storage.Runs.RunLog runs,
        CancellationToken stop
    )
    {
        var stored = await plans.FindAsync(name, stop);
        var members = await plans.MembersAsync(name, stop);
        var machines = await fleet.AllAsync(stop);
        var states = (await runs.ListAsync(name, stop)).Select(r => r.State).Where(r => machines.ContainsKey(new(r.Machine))).ToArray();
        var outcomes = states.Select(r => r.Outcome).OfType<Outcome>().CountBy(o => RunMachine.Name(o)).ToDictionary();
        var parked = states.Where(r => r.Parked is not null).ToDictionary(r => $"r{r.Run}", r => r.Parked!);
        var exemptions = members.Select(m => m.Exemption).OfType<Exemption>().CountBy(e => RunMachine.Name(e)).ToDictionary();
        return new(
            name,
            members.Count,
            Tally(members),
            outcomes,
            exemptions,
            [
                .. members
                    .Where(m => m.Status is not (Status.Done or Status.Exempt))
                    .OrderBy(m => Urgency(m.Status))
                    .Select(m => Row(m, stored, machines[m.Machine]))
                    .Select(m => parked.TryGetValue(m.Run ?? "", out var why) ? m with { Why = why } : m),
            ]
        )
        {
            Rollbacks =
            [
                .. states
                    .Where(r => r.Outcome == Outcome.RolledBack)
                    .OrderByDescending(r => r.Closed)
                    .Select(r => (Run: r, Machine: machines[new(r.Machine)]))
                    .Select(r => new RollbackRow(
                        $"r{r.Run.Run}",
                        r.Machine.Name,
                        r.Machine.Site,
                        r.Run.Closed!.Value,
                        r.Run.Reason ?? "",
                        r.Run.RollbackCategory
                    )),
            ],
            ReclaimedBytes = states.Any(r => r.Reclaimed is not null) ? states.Sum(r => r.Reclaimed ?? 0) : null,
        };
    }

    /// <summary>Which of a plan's machines are asked for; null stands for all.</summary>
    /// <param name="Status">Their statuses, separated by commas.</param>
    /// <param name="Wave">The wave's number, from 1.</param>
    /// <param name="Filter">A condition.</param>
    /// <param name="Limit">How many at most.</param>
    /// <param name="Cursor">Where to go on.</param>
    private sealed record MembersQuery(
        [FromQuery(Name = "status")] string? Status,
        [FromQuery(Name = "wave")] int? Wave,
        [FromQuery(Name = "filter")] string? Filter,
        [FromQuery(Name = "limit")] int? Limit,
        [FromQuery(Name = "cursor")] string? Cursor
    );
}
