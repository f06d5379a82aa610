using GrandStair.Contracts;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Clocks;
using GrandStair.Files.Reports;
using GrandStair.Service.Requests;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Readiness;

/// <summary>Whether machines may go to a target, and exactly why not.</summary>
internal static class ReadinessEndpoints
{
    public static void MapReadiness(this RouteGroupBuilder api)
    {
        api.MapGet("/readiness", ShowAsync).WithName("GetReadiness").ProducesProblem(404);
        api.MapGet("/readiness/machines", MachinesAsync).WithName("ListReadinessMachines").ProducesProblem(404);
        api.MapGet("/readiness/report", ReportAsync)
            .WithName("GetReadinessReport")
            .Produces<string>(200, "text/html", "text/csv", "application/json")
            .ProducesProblem(404);
        api.MapGet("/machines/{name}/gate", GateAsync).WithName("GetGate").ProducesProblem(404);
    }

    /// <summary>A check's fix as people see it.</summary>
    public static FixView Show(Core.Catalogue.Fix fix) =>
        new(RunMachine.Name(fix.By), fix.Words, fix.Takes?.TotalMinutes, fix.Script, fix.Restarts);

    /// <summary>Every check's counts, as people see them.</summary>
    public static IEnumerable<CheckCount> Counts(FleetSummary summary) =>
        summary.Checks.Select(t => new CheckCount(
            t.Check.Name,
            t.Check.Title,
            RunMachine.Name(t.Check.Need),
            t[CheckState.Met],
            t[CheckState.Unmet],
            t[CheckState.Unknown],
            t[CheckState.Waived],
            t[CheckState.Deferred],
            t[CheckState.NotApplicable],
            Show(t.Check.Fix),
            t.Opens,
            t.Check.Component
        ));

    /// <summary>A machine's gate as people see it.</summary>
    public static GateView ShowGate(Target target, Machine machine, Assessment a, DateTimeOffset now) =>
        new(
            machine.Name,
            target.Aim.ReleaseFor(machine).Name,
            RunMachine.Name(a.State),
            a.Route.Arrived,
            a.Why,
            [.. a.Route.Hops.Select(h => h.Name)],
            a.Choice?.Method?.Name,
            a.Choice?.Method is { } method ? RunMachine.Name(method.Preserves) : null,
            [.. (a.Choice?.Rejected ?? []).Select(x => new RejectedMethodView(x.Method, x.Why))],
            [.. a.Legs.SelectMany((l, i) => (l.Gate?.Checks ?? []).Select(c => Show(c, i + 1, now)))],
            a.Until
        )
        {
            Legs =
            [
                .. a.Legs.Zip(a.Route.Editions, (l, edition) =>
                    new LegView(
                        l.Hop.Name,
                        l.Hop.Component,
                        l.Hop.To,
                        edition,
                        l.Hop.Brings.ToDictionary(b => b.Key, b => b.Value.Show()),
                        l.Method?.Name,
                        l.Method?.Title,
                        l.Method is { } m ? RunMachine.Name(m.Preserves) : null,
                        l.Why
                    )
                ),
            ],
            Alternatives = [.. a.Route.Alternatives.Select(x => new AlternativeView([.. x.Hops.Select(h => h.Name)], x.Why))],
            Build = a.Route.Build,
            PartlyTo = a.Route.PartlyTo?.Name,
            Offer = RunMachine.Name(a.Offer),
            OutageMinutes = a.Route.Outage.TotalMinutes,
            Instead = a.Instead is { } instead ? RunMachine.Name(instead.Way) : null,
            Overridden = a.Choice?.Overridden is { } chosen ? new(chosen.Method, chosen.Reason, chosen.By, chosen.At) : null,
        };

    private static async Task<ReadinessView> ShowAsync(
        [AsParameters] TargetQuery query,
        string? scope,
        Targets targets,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var target = await targets.OfAsync(query, stop);
        return await targets.RowsAsync(
            target,
            scope,
            (judgement, rows, _, undecided) => View(target, target.Scope(scope), judgement, rows, undecided, clock.GetUtcNow()),
            stop
        );
    }

    private static ReadinessView View(Target target, string scope, FleetJudgement judgement, bool[] rows, int undecided, DateTimeOffset now)
    {
        var summary = FleetSummary.Of(judgement, rows);
        DateTimeOffset? oldest = null;
        var (conflict, silent) = (0, 0);
        for (var row = 0; row < rows.Length; row++)
        {
            if (!rows[row] || judgement.PlaceOf(row) == Place.Arrived)
                continue;
            if (judgement.Fleet.Conflicts(row))
                conflict++;
            if (judgement.Fleet[row].IsSilent(now))
                silent++;
            if (judgement.Fleet[row].Find(target.Aim.Product.VersionKey)?.Seen is { } seen && (oldest is null || seen < oldest))
                oldest = seen;
        }

        return new(
            target.Aim.Target,
            scope,
            summary.Machines,
            summary.Arrived,
            summary.Open,
            summary.Undecided,
            summary.Blocked,
            summary.NotFixable,
            conflict,
            oldest,
            [.. Counts(summary)],
            [.. summary.Reasons.Select(r => new ReasonCount(r.Reason, r.Machines))]
        )
        {
            WaitingForOffer = summary.WaitingForOffer,
            UndecidedScope = undecided,
            Silent = silent,
            ToFix =
            [
                .. summary.ToFix.Select(m => new FixingView(
                    m.Check.Name,
                    m.Check.Title,
                    RunMachine.Name(m.Check.Fix.By),
                    m.Check.Fix.Takes?.TotalMinutes,
                    m.Check.Fix.Script is not null,
                    m.Machines,
                    m.Opens,
                    m.OpenThen
                )),
            ],
        };
    }

    private static async Task<Page<ReadinessRow>> MachinesAsync(
        [AsParameters] TargetQuery query,
        [AsParameters] RowsQuery asked,
        Targets targets,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var target = await targets.OfAsync(query, stop);
        var now = clock.GetUtcNow();
        var states = asked.State?.Split(',').Select(s => RequestFields.Word<CheckState>("state", s)).ToHashSet();
        var machines = await targets.RowsAsync(
            target,
            asked.Scope,
            (judgement, rows, order, _) =>
                order
                    .Where(r => r < rows.Length && rows[r] && IsMeant(judgement, r, asked.Check, states, asked.Gate))
                    .Select(r => judgement.Fleet[r])
                    .ToArray(),
            stop
        );
        var decided = await targets.DecidedAsync(target, stop);
        return machines.Page(asked.Limit, asked.Cursor, m => Row(target.Aim, m, decided.GetValueOrDefault(m.Id), asked.Check, now));
    }

    private static bool IsMeant(FleetJudgement judgement, int row, string? check, HashSet<CheckState>? states, string? gate)
    {
        var place = judgement.PlaceOf(row);
        var fits = gate switch
        {
            null => place != Place.Arrived,
            "not-offered" => judgement.IsWaitingForOffer(row),
            "not-fixable" => judgement.IsNotFixable(row),
            "without" => judgement.ReasonOf(row) is not null,
            _ => place == RequestFields.Word<Place>("gate", gate),
        };
        if (!fits || check is null)
            return fits;
        return judgement.Check(check)?[row] is { } state && states?.Contains(state) != false;
    }

    private static ReadinessRow Row(Aim aim, Machine machine, Decisions? decisions, string? check, DateTimeOffset now)
    {
        var a = Assessment.Of(aim, machine, Core.Catalogue.Moment.Planning, now, decisions);
        var result = check is null ? null : a.Checks.Where(c => c.Check.Name == check).MaxBy(c => c.State);
        return new(
            machine.Id.ToString(),
            machine.Name,
            machine.Site,
            machine.Group,
            a.Route.Arrived ? "arrived" : RunMachine.Name(a.State),
            a.CannotBeFixed,
            a.Why,
            a.Choice?.Method?.Name,
            result is null ? null : RunMachine.Name(result.State),
            result is null ? [] : Seen(result, now)
        );
    }

    private static async Task<IResult> ReportAsync(
        [AsParameters] TargetQuery query,
        string? scope,
        string? format,
        Targets targets,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var target = await targets.OfAsync(query, stop);
        var now = clock.GetUtcNow();
        var decided = await targets.DecidedAsync(target, stop);
        var (summary, machines) = await targets.RowsAsync(
            target,
            scope,
            (judgement, rows, order, _) =>
                (FleetSummary.Of(judgement, rows), order.Where(r => r < rows.Length && rows[r]).Select(r => judgement.Fleet[r]).ToArray()),
            stop
        );
        var report = new ReadinessReport(
            target.Aim.Target,
            target.Scope(scope),
            now,
            summary,
            [
                .. machines.Select(m =>
                    (m, Assessment.Of(target.Aim, m, Core.Catalogue.Moment.Planning, now, decided.GetValueOrDefault(m.Id)))
                ),
            ]
        );
        var name = $"readiness-{now:yyyy-MM-dd}.{format ?? "html"}";
        return (format ?? "html") switch
        {
            "html" => Written(w => report.WriteHtml(w), "text/html; charset=utf-8", name),
            "csv" => Written(w => report.WriteCsv(w), "text/csv; charset=utf-8", name),
            "json" => Json(report, name),
            _ => throw RefusedException.Invalid("format", $"format is '{format}'; expected html, csv or json."),
        };
    }

    private static IResult Json(ReadinessReport report, string name)
    {
        using var buffer = new MemoryStream();
        report.WriteJson(buffer);
        return Results.File(buffer.ToArray(), "application/json", name);
    }

    private static IResult Written(Action<TextWriter> write, string type, string name)
    {
        using var buffer = new MemoryStream();
        using (var writer = new StreamWriter(buffer, new System.Text.UTF8Encoding(false), leaveOpen: true))
            write(writer);
        return Results.File(buffer.ToArray(), type, name);
    }

    private static async Task<GateView> GateAsync(
        string name,
        [AsParameters] TargetQuery query,
        Targets targets,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var (machine, target) = await targets.OfMachineAsync(name, query, stop);
        return ShowGate(target, machine, await targets.AssessAsync(target, machine, stop), clock.GetUtcNow());
    }

    private static CheckView Show(CheckResult c, int leg, DateTimeOffset now) =>
        new(
            c.Check.Name,
            c.Check.Title,
            RunMachine.Name(c.Check.Need),
            RunMachine.Name(c.State),
            Seen(c, now),
            c.Check.Wants.Text,
            Show(c.Check.Fix),
            leg,
            c.Check.Component,
            [.. c.Check.AskedAt.Order().Select(m => RunMachine.Name(m))],
            c.Check.Fresh?.TotalSeconds,
            c.Check.Waivable,
            c.Waiver is { } w ? new(null, null, w.Check, w.Reason, w.By, w.Given, w.Until, "active") : null,
            c.Lapsed
        );

    private static SeenView[] Seen(CheckResult result, DateTimeOffset now) =>
        [
            .. result.Seen.Select(l => new SeenView(
                l.Text,
                l.Key,
                l.Show(),
                l.Reading is { Source: not ("fleet" or "route") } r ? Math.Max(0, (now - r.Seen).TotalSeconds) : null,
                l.Reading?.Source,
                l.Note
            )),
        ];

    /// <summary>Which machines a readiness list shows.</summary>
    /// <param name="Scope">A condition; null for all of the target's.</param>
    /// <param name="Check">The check that is asked about; null for none.</param>
    /// <param name="State">The states of that check, separated by commas; null for all.</param>
    /// <param name="Gate">How their gates stand; null for all that have not arrived.</param>
    /// <param name="Limit">How many at most.</param>
    /// <param name="Cursor">Where to go on; null for the start.</param>
    private sealed record RowsQuery(
        [FromQuery(Name = "scope")] string? Scope,
        [FromQuery(Name = "check")] string? Check,
        [FromQuery(Name = "state")] string? State,
        [FromQuery(Name = "gate")] string? Gate,
        [FromQuery(Name = "limit")] int? Limit,
        [FromQuery(Name = "cursor")] string? Cursor
    );
}
