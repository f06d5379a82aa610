using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.SupportCases;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Plans;
using GrandStair.Service.Readiness;
using GrandStair.Service.Rehearsals;
using GrandStair.Service.Runs;
using GrandStair.Service.SupportCases;
using GrandStair.Storage.Rehearsals;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Overview;

/// <summary>One page: how far it is, whether the date will be made, what is in the way.</summary>
internal static class OverviewEndpoints
{
    private const int MostInTheWay = 100;
    private const int MostRunning = 50;
    private const int MostNext = 6;

    public static void MapOverview(this RouteGroupBuilder api) =>
        api.MapGet("/overview/{plan}", ShowAsync).WithName("GetOverview").ProducesProblem(404);

    private static async Task<OverviewView> ShowAsync(
        string plan,
        CatalogueCache catalogues,
        ScopedFleet fleet,
        ScopedPlans plans,
        RunLog runs,
        RehearsalTable rehearsals,
        ForecastAges ages,
        RunRows runRows,
        ScopedSupportCases cases,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var now = clock.GetUtcNow();
        var stored = await plans.FindAsync(plan, stop);
        var (body, product) = await catalogues.ReadPlanAsync(stored, stop);
        var members = await plans.MembersAsync(plan, stop);
        var machines = await fleet.AllAsync(stop);
        var all = (await runs.ListAsync(plan, stop)).Where(r => machines.ContainsKey(new(r.State.Machine))).ToArray();
        var rows = await runRows.OfAsync(all, machines, stop);
        var target = PlanSlots.AimOf(body, product).Target;
        return new(
            PlanEndpoints.Row(stored, body, target, members),
            target,
            now,
            clock.ShownPace,
            SupportEnds(product, members, machines)?.ToString("yyyy-MM-dd", null),
            stored.State == PlanStatus.Started && plans.SeesAllOf(stored) && await rehearsals.ForecastAsync(plan, stop) is { } made
                ? RehearsalEndpoints.Briefly(made, await ages.OfAsync(made, stop))
                : null,
            PlanEndpoints.Waves(stored, body, members, plans.SeesAllOf(stored)),
            Line(members.Select(m => m.PlannedEnd)),
            Line(members.Select(m => m.Verified)),
            [
                .. InTheWay(await NotReadyAsync(product, body, members, fleet, now, stop), members, machines, all, rows, now)
                    .Concat(WithUs(await cases.AllAsync(stop), members, machines))
                    .OrderByDescending(w => w.Kind is "parked" or "asked" or "stopped" or "suspended" or "no-contact" or "support-case")
                    .ThenByDescending(w => w.Opens)
                    .ThenByDescending(w => w.Machines)
                    .ThenByDescending(w => w.Unknown)
                    .Take(MostInTheWay),
            ],
            [
                .. rows.Where(r => r.Status == "running")
                    .OrderByDescending(r => r.NoContact is not null || r.OverSeconds is not null)
                    .ThenBy(r => r.LeftSeconds)
                    .Take(MostRunning),
            ],
            Limits.Shown(body.Limits.All),
            [.. Next(members, machines, all, now)]
        );
    }

    /// <summary>The earliest support end among the releases that machines still to come run.</summary>
    private static DateOnly? SupportEnds(Product product, IEnumerable<Member> members, IReadOnlyDictionary<MachineId, Machine> machines) =>
        members
            .Select(m => machines[m.Machine])
            .Select(m => product.ReleaseOf(m.TextOf(product.VersionKey))?.SupportEnd(product.EditionKey is { } key ? m.TextOf(key) : null))
            .Min();

    private static StairPoint[] Line(IEnumerable<DateTimeOffset?> moments) =>
        [.. moments.OfType<DateTimeOffset>().Order().Select((at, i) => new StairPoint(at, i + 1)).GroupBy(p => p.At).Select(g => g.Last())];

    /// <summary>What keeps the machines that are not ready.</summary>
    private static Task<FleetSummary> NotReadyAsync(
        Product product,
        Plan plan,
        IReadOnlyList<Member> members,
        ScopedFleet fleet,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var notReady = members.Where(m => m is { Status: Status.NotReady, Run: null }).Select(m => m.Machine).ToHashSet();
        return fleet.JudgedAsync(
            PlanSlots.AimOf(plan, product),
            plan.Name,
            now,
            (judgement, _, _) =>
                FleetSummary.Of(
                    judgement,
                    [
                        .. Enumerable
                            .Range(0, judgement.Rows)
                            .Select(r =>
                                notReady.Contains(judgement.Fleet[r].Id) && judgement.PlaceOf(r) is not (Place.Open or Place.Arrived)
                            ),
                    ]
                ),
            stop
        );
    }

    private static IEnumerable<InTheWayView> InTheWay(
        FleetSummary readiness,
        IReadOnlyList<Member> members,
        IReadOnlyDictionary<MachineId, Machine> machines,
        IReadOnlyList<StoredRun> runs,
        IReadOnlyList<RunRow> rows,
        DateTimeOffset now
    )
    {
        foreach (
            var parked in runs.Select(r => r.State)
                .Where(r => r is { Parked: not null, Closed: null })
                .GroupBy(r => r.ParkedCause ?? r.Parked!)
        )
            yield return new(
                "parked",
                parked.Count(),
                parked.Key,
                "waiting for a decision: " + Names(parked.Select(r => machines[new(r.Machine)].Name)),
                null,
                null,
                "parked",
                0
            );
        foreach (var stopped in members.Where(m => m.Status == Status.Stopped).GroupBy(_ => true))
            yield return new(
                "stopped",
                stopped.Count(),
                "Stopped without success",
                "decide: retry, or exempt " + Names(stopped.Select(m => machines[m.Machine].Name)),
                null,
                null,
                "stopped",
                0
            );

        foreach (var asked in rows.Where(r => r is { Asked: not null, Status: not "parked" }).GroupBy(r => r.Asked!.Words))
            yield return new(
                "asked",
                asked.Count(),
                asked.Key,
                $"{asked.First().Asked!.Who}: answer for {Names(asked.Select(r => r.Machine))}",
                "person",
                null,
                "asked",
                0
            );

        // While a run goes on, it resumes what it has suspended soon.
        foreach (
            var (thing, suspended) in rows.Where(r => r.Closed is not null || r.Status == "parked")
                .SelectMany(r => r.Suspended.Select(thing => (thing, r.Machine)))
                .GroupBy(s => s.thing, s => s.Machine)
                .Select(g => (g.Key, g.ToArray()))
        )
            yield return new(
                "suspended",
                suspended.Length,
                $"Still suspended: {thing}",
                $"decide about the run, or resume it by hand: {Names(suspended)}",
                "person",
                null,
                "suspended",
                0
            );

        var silent = rows.Where(r => r is { NoContact: not null, Status: not ("parked" or "verified") }).ToArray();
        if (silent.Length > 0)
            yield return new(
                "no-contact",
                silent.Length,
                "No contact during the upgrade",
                $"longest for {Units.Show(silent.Max(r => r.NoContact!.Seconds), ValueKind.Duration)}; what was begun goes on: "
                    + $"{Names(silent.Select(r => r.Machine))}",
                null,
                null,
                "running",
                0
            );

        foreach (var check in ReadinessEndpoints.Counts(readiness).Where(c => c.Need == "must" && c.Unmet + c.Unknown > 0))
            yield return new(
                "check",
                check.Unmet,
                check.Title,
                $"{check.Fix.Words}{(check.Opens > 0 ? $" Opens {check.Opens}." : "")}",
                check.Fix.By,
                check.Fix.Minutes,
                check.Name,
                check.Opens,
                check.Unknown
            );
        foreach (var reason in readiness.Reasons)
            yield return new("route", reason.Machines, reason.Reason, "decide: replace, retire or stay", null, null, "not-ready", 0);
        var followUps = rows.Where(r => r.FollowUps > 0).ToArray();
        var overdue = runs.SelectMany(r => r.State.FollowUps).Count(f => f.IsOverdue(now));
        if (followUps.Length > 0)
            yield return new(
                "follow-up",
                followUps.Length,
                "Follow-ups after the upgrade",
                $"{followUps.Sum(r => r.FollowUps)} to close on {Names(followUps.Select(r => r.Machine))}"
                    + (overdue > 0 ? $"; {overdue} overdue" : ""),
                "person",
                null,
                "verified",
                0
            );
    }

    /// <summary>Support cases about machines of the plan in which we have to act next.</summary>
    private static IEnumerable<InTheWayView> WithUs(
        IReadOnlyList<SupportCase> cases,
        IReadOnlyList<Member> members,
        IReadOnlyDictionary<MachineId, Machine> machines
    )
    {
        var own = members.Select(m => m.Machine).ToHashSet();
        return cases
            .Where(c => c.State == SupportCaseState.WithUs && c.Machines.Any(own.Contains))
            .Select(c => new InTheWayView(
                "support-case",
                c.Machines.Count(own.Contains),
                $"Support waits for us: {c.About}",
                $"case {c.Reference} with {c.With}: {Names(c.Machines.Where(own.Contains).Select(m => machines[m].Name))}",
                "person",
                null,
                c.Name,
                0
            ));
    }

    private static string Names(IEnumerable<string> names)
    {
        var all = names.Order(StringComparer.Ordinal).ToArray();
        return all.Length <= 3 ? string.Join(", ", all) : $"{string.Join(", ", all[..3])} and {all.Length - 3} more";
    }

    private static IEnumerable<NextView> Next(
        IReadOnlyList<Member> members,
        IReadOnlyDictionary<MachineId, Machine> machines,
        IEnumerable<StoredRun> runs,
        DateTimeOffset now
    )
    {
        var staged = runs.Where(r => r.State is { Phase: Phase.Wait, NeedsSlot: false })
            .Select(r => new MachineId(r.State.Machine))
            .ToHashSet();
        // Slots of a site that begin within twelve hours of its first are shown as one.
        return members
            .Where(m => m.Status == Status.Scheduled && m.Slot!.Start > now)
            .Select(m => (machines[m.Machine].Site, m.Slot, m.Machine))
            .GroupBy(m => (m.Site, Night: m.Slot!.Start.AddHours(-12).Date))
            .Select(g => new NextView(
                g.Min(m => m.Slot!.Start),
                g.Max(m => m.Slot!.End),
                g.Key.Site,
                g.Count(),
                g.Count(m => staged.Contains(m.Machine))
            ))
            .OrderBy(n => n.From)
            .Take(MostNext);
    }
}
