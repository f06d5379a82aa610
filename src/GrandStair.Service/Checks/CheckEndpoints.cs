using System.Globalization;
using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Checks;
using GrandStair.Engine.Clocks;
using GrandStair.Files.Reports;
using GrandStair.Service.Access;
using GrandStair.Service.Readiness;
using GrandStair.Service.Requests;
using GrandStair.Service.Runs;
using GrandStair.Service.SupportCases;
using GrandStair.Storage.Checks;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Checks;

/// <summary>One check on one machine: recheck it, waive it, fix it, hand it to the vendor's support.</summary>
internal static class CheckEndpoints
{
    private const int MostFixes = 200;

    public static void MapChecks(this RouteGroupBuilder api)
    {
        api.MapPost("/machines/{name}/checks/{check}/recheck", RecheckAsync).WithName("Recheck").ProducesProblem(404).ProducesProblem(502);
        api.MapPost("/machines/{name}/checks/{check}/waivers", WaiveAsync).WithName("WaiveCheck").ProducesProblem(404).ProducesProblem(409);
        api.MapPost("/machines/{name}/checks/{check}/fixes", FixAsync).WithName("FixCheck").ProducesProblem(404).ProducesProblem(409);
        api.MapGet("/fixes", FixesAsync).WithName("ListFixes").ProducesProblem(404);
        api.MapGet("/waivers", WaiversAsync).WithName("ListWaivers");
        api.MapPost("/waivers/{id}/end", EndAsync).WithName("EndWaiver").Produces(204).ProducesProblem(404);
        api.MapGet("/machines/{name}/referral", ReferAsync)
            .WithName("GetReferralPack")
            .Produces<Stream>(200, "application/zip")
            .ProducesProblem(404);
    }

    private static async Task<GateView> RecheckAsync(
        [AsParameters] CheckQuery asked,
        CheckRunner checks,
        Targets targets,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (machine, target) = await targets.OfMachineAsync(asked.Machine, asked, stop);
        machine = await checks.RecheckAsync(target.Aim, machine, asked.Check, caller.Actor(), stop);
        return ReadinessEndpoints.ShowGate(target, machine, await targets.AssessAsync(target, machine, stop), clock.GetUtcNow());
    }

    private static async Task<GateView> WaiveAsync(
        WaiveCommand command,
        [AsParameters] CheckQuery asked,
        CheckRunner checks,
        Targets targets,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (machine, target) = await targets.OfMachineAsync(asked.Machine, asked, stop);
        var last = RequestFields.Day("until", command.Until);
        await checks.WaiveAsync(
            target.Aim,
            machine,
            asked.Check,
            RequestFields.Reason(command.Reason),
            new(last.AddDays(1), default, default),
            caller.Actor(),
            stop
        );
        return ReadinessEndpoints.ShowGate(target, machine, await targets.AssessAsync(target, machine, stop), clock.GetUtcNow());
    }

    private static async Task<FixRunView> FixAsync(
        FixCommand command,
        [AsParameters] CheckQuery asked,
        CheckRunner checks,
        Targets targets,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (machine, target) = await targets.OfMachineAsync(asked.Machine, asked, stop);
        var fix = await checks.FixAsync(
            target.Aim,
            machine,
            asked.Check,
            target.Plan,
            RequestFields.Reason(command.Reason),
            command.Now,
            caller.Actor(),
            stop
        );
        return Show(fix, machine.Name, clock.GetUtcNow());
    }

    private static async Task<IReadOnlyList<FixRunView>> FixesAsync(
        string? machine,
        FixTable fixes,
        ScopedFleet fleet,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var of = machine is null ? null : await fleet.MachineAsync(machine, stop);
        var all = await fleet.AllAsync(stop);
        return
        [
            .. (await fixes.ListAsync(of?.Id, openOnly: false, MostFixes, stop))
                .Where(f => all.ContainsKey(f.Machine))
                .Select(f => Show(f, all[f.Machine].Name, clock.GetUtcNow())),
        ];
    }

    private static FixRunView Show(StoredFix f, string machine, DateTimeOffset now) =>
        new(
            $"f{f.Id}",
            machine,
            f.Check,
            f.Script,
            f.ScriptHash,
            f.Actor,
            f.Begun,
            f.NotBefore,
            f.Ended,
            f.Exit,
            f.Note,
            f.NotBefore > now ? "scheduled"
                : f.Ended is null ? "running"
                : f.Exit == 0 ? "done"
                : "failed",
            f.CheckState
        );

    private static async Task<IReadOnlyList<WaiverView>> WaiversAsync(
        DecisionTable decisions,
        ScopedFleet fleet,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var all = await fleet.AllAsync(stop);
        var now = clock.GetUtcNow();
        return
        [
            .. (await decisions.WaiversAsync(stop))
                .Where(w => all.ContainsKey(w.Machine))
                .Select(w => new WaiverView(
                    $"w{w.Id}",
                    all[w.Machine].Name,
                    w.Waiver.Check,
                    w.Waiver.Reason,
                    w.Waiver.By,
                    w.Waiver.Given,
                    w.Waiver.Until,
                    w.Ended is not null ? "ended"
                        : now >= w.Waiver.Until ? "expired"
                        : "active"
                )),
        ];
    }

    private static async Task<IResult> EndAsync(
        string id,
        Because because,
        DecisionTable decisions,
        ScopedFleet fleet,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var his = await fleet.AllAsync(stop);
        if (
            id is not ['w', .. var digits]
            || !long.TryParse(digits, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            || !(await decisions.WaiversAsync(stop)).Any(w => w.Id == number && his.ContainsKey(w.Machine))
            || !await decisions.EndWaiverAsync(number, RequestFields.Reason(because.Reason), caller.Actor(), clock.GetUtcNow(), stop)
        )
            throw RefusedException.Unknown("unknown-waiver", $"There is no active waiver '{id}'. 'gstair check waivers' shows them.");
        return Results.NoContent();
    }

    private static async Task<IResult> ReferAsync(
        string name,
        [AsParameters] TargetQuery query,
        Targets targets,
        FixTable fixes,
        RunLog runs,
        ScopedSupportCases cases,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var (machine, target) = await targets.OfMachineAsync(name, query, stop);
        var now = clock.GetUtcNow();
        var log = new List<object>();
        var known = await cases.OfMachineAsync(machine.Id, stop);
        foreach (var run in await runs.OfMachineAsync(machine.Id, stop))
            log.AddRange(
                (await runs.EventsAsync(run.State.Run, stop)).Select(e => new
                {
                    e.Event.At,
                    Run = $"r{run.State.Run}",
                    e.Event.Type,
                    e.Event.Actor,
                    Text = RunViews.Tell(e.Event, run.State),
                })
            );
        log.AddRange((await fixes.ListAsync(machine.Id, openOnly: false, MostFixes, stop)).Select(f => Show(f, machine.Name, now)));
        using var zip = new MemoryStream();
        ReferralPack.Write(zip, target.Aim, machine, await targets.AssessAsync(target, machine, stop), known, log, now);
        return Results.File(
            zip.ToArray(),
            "application/zip",
            $"{string.Concat(machine.Name.Select(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.' ? c : '_'))}-{now:yyyy-MM-dd}.zip"
        );
    }
}
