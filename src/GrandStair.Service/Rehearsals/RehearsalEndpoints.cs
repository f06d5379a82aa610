using System.Collections.Immutable;
using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Engine.Rehearsals;
using GrandStair.Service.Access;
using GrandStair.Storage.Rehearsals;

namespace GrandStair.Service.Rehearsals;

/// <summary>Rehearsals of plans with their what-ifs, and the forecasts of running plans.</summary>
internal static class RehearsalEndpoints
{
    public static void MapRehearsals(this RouteGroupBuilder api)
    {
        api.MapPost("/plans/{name}/rehearsals", AskAsync)
            .WithName("AskRehearsal")
            .Produces<RehearsalView>(202)
            .ProducesProblem(404)
            .ProducesProblem(409)
            .ProducesProblem(422);
        api.MapGet("/plans/{name}/rehearsals", async (string name, ScopedPlans plans, RehearsalTable table, CancellationToken stop) =>
            {
                var plan = await plans.WholeAsync(name, stop);
                // What came of each is left to the call for that one; the list stays short.
                return (await table.OfAsync(plan.Name, stop)).Select(r => Show(r, [])).ToArray();
            })
            .WithName("ListRehearsals")
            .ProducesProblem(404);
        api.MapGet(
                "/plans/{name}/rehearsals/{id:long}",
                async (
                    string name,
                    long id,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    RehearsalTable table,
                    ForecastAges ages,
                    CancellationToken stop
                ) => await ShowAsync(await FindAsync(name, id, plans, table, stop), plans, fleet, ages, stop)
            )
            .WithName("GetRehearsal")
            .ProducesProblem(404);
        api.MapDelete(
                "/plans/{name}/rehearsals/{id:long}",
                async (
                    string name,
                    long id,
                    ScopedPlans plans,
                    RehearsalTable table,
                    ClaimsPrincipal caller,
                    TimeProvider clock,
                    CancellationToken stop
                ) =>
                {
                    var rehearsal = await FindAsync(name, id, plans, table, stop);
                    if (!await table.CancelAsync(rehearsal, caller.Actor(), clock.GetUtcNow(), stop))
                        throw RefusedException.Conflict(
                            "rehearsal-over",
                            $"Rehearsal {id} of plan '{name}' is over; there is nothing to cancel."
                        );
                    return Results.NoContent();
                }
            )
            .WithName("CancelRehearsal")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapGet(
                "/plans/{name}/forecast",
                async (
                    string name,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    RehearsalTable table,
                    ForecastAges ages,
                    CancellationToken stop
                ) =>
                {
                    var plan = await plans.WholeAsync(name, stop);
                    var forecast = await table.ForecastAsync(plan.Name, stop)
                        ?? throw RefusedException.Unknown(
                            "unknown-forecast",
                            plan.State == PlanStatus.Started
                                ? $"Plan '{name}' has no forecast yet; it is being made."
                                : $"Plan '{name}' has no forecast as long as it is not running; rehearse it: 'gstair plan rehearse'."
                        );
                    return (await ShowAsync(forecast, plans, fleet, ages, stop)).Results[0];
                }
            )
            .WithName("GetForecast")
            .ProducesProblem(404);
    }

    /// <summary>A forecast without its sites and machines.</summary>
    public static ForecastView Briefly(StoredRehearsal forecast, ForecastAge age) =>
        Show(
            forecast.Results[0],
            forecast.Revision,
            age,
            ImmutableDictionary<MachineId, Machine>.Empty,
            ImmutableDictionary<MachineId, Member>.Empty
        ) with
        {
            Sites = [],
            Late = [],
        };

    private static async Task<IResult> AskAsync(
        string name,
        RehearsalRequest request,
        ScopedPlans plans,
        RehearsalRunner desk,
        RehearsalTable table,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var plan = await plans.WholeAsync(name, stop);
        var usual = RehearsalSettings.Usual;
        var fixing = request.FixingHours is { } hours
            ? hours > 0
                ? TimeSpan.FromHours(Math.Min(hours, 10_000))
                : (TimeSpan?)null
            : usual.Fixing;
        WhatIf[] whatIfs = [.. (request.WhatIfs ?? []).Select(w => new WhatIf(w.Name ?? string.Join(", ", w.Changes), w.Changes, w.Plan))];
        var id = await desk.AskAsync(
            plan,
            new(request.Draws ?? usual.Draws, request.Seed ?? (long)usual.Seed, fixing, whatIfs),
            caller.Actor(),
            stop
        );
        return Results.Accepted(
            $"/api/v1/plans/{Uri.EscapeDataString(name)}/rehearsals/{id}",
            Show((await table.FindAsync(id, stop))!, [])
        );
    }

    private static async Task<StoredRehearsal> FindAsync(
        string name,
        long id,
        ScopedPlans plans,
        RehearsalTable table,
        CancellationToken stop
    )
    {
        var plan = await plans.WholeAsync(name, stop);
        return await table.FindAsync(id, stop) is { } found && found.Plan == plan.Name
            ? found
            : throw RefusedException.Unknown(
                "unknown-rehearsal",
                $"Plan '{name}' has no rehearsal {id}. 'gstair plan rehearsals {name}' shows those that it has."
            );
    }

    private static async Task<RehearsalView> ShowAsync(
        StoredRehearsal rehearsal,
        ScopedPlans plans,
        ScopedFleet fleet,
        ForecastAges ages,
        CancellationToken stop
    )
    {
        var machines = await fleet.AllAsync(stop);
        var members = (await plans.MembersAsync(rehearsal.Plan, stop)).ToDictionary(m => m.Machine);
        var age = await ages.OfAsync(rehearsal, stop);
        return Show(rehearsal, [.. rehearsal.Results.Select(r => Show(r, rehearsal.Revision, age, machines, members))]);
    }

    private static RehearsalView Show(StoredRehearsal r, IReadOnlyList<ForecastView> results) =>
        new(
            r.Id,
            r.Plan,
            r.Revision,
            RunMachine.Name(r.State),
            r.Done,
            r.Total,
            r.Asked.Draws,
            r.Asked.Seed,
            r.Asked.Fixing?.TotalHours,
            r.AskedBy,
            r.AskedAt,
            r.Ended,
            results,
            r.Why
        );

    private static ForecastView Show(
        Rehearsed rehearsed,
        int revision,
        ForecastAge age,
        IReadOnlyDictionary<MachineId, Machine> machines,
        IReadOnlyDictionary<MachineId, Member> members
    )
    {
        var f = rehearsed.Forecast;
        return new(
            rehearsed.Name,
            rehearsed.Changes,
            revision,
            f.From,
            age.Made,
            age.Age.TotalSeconds,
            age.Outdated,
            f.Draws,
            f.Machines,
            Show(f.Verified),
            rehearsed.Deadline?.ToString("yyyy-MM-dd", null),
            f.InTime,
            Show(f.NotVerified),
            Show(f.MissedSlots),
            [.. f.Waves.Select(w => new WaveForecastView(w.Wave, Show(w.Begins), Show(w.Verified)))],
            [
                .. f.Sites.Select(s => new SiteForecastView(
                    s.Site,
                    s.Machines,
                    Show(s.Verified),
                    Words(s.Bottleneck),
                    s.Hours,
                    [.. s.Waits.Select(w => new WaitView(Words(w.Cause), w.Hours))]
                )),
            ],
            [
                .. f
                    .Late.Where(l => machines.ContainsKey(l.Machine))
                    .Select(l =>
                    {
                        var member = members.GetValueOrDefault(l.Machine);
                        return new LateView(
                            machines[l.Machine].Name,
                            machines[l.Machine].Site,
                            member is null ? "" : f.Waves.ElementAtOrDefault(member.Wave - 1)?.Wave ?? "",
                            member is null ? "" : RunMachine.Name(member.Status),
                            member?.Why,
                            l.Misses
                        );
                    }),
            ],
            [.. f.Steps.Select(s => new ForecastStepView(s.Machines, Show(s.Verified)))]
        );
    }

    private static RangeView Show(Spread spread) => new(spread.P10, spread.P50, spread.P90);

    private static AmountView Show(Amount amount) => new(amount.P10, amount.P50, amount.P90);

    /// <summary>What is waited for, in words that go on from "waits for".</summary>
    private static string Words(Cause cause) =>
        cause switch
        {
            Cause.Waves => "the wave before",
            Cause.Fixing => "manual fixes",
            Cause.Windows => "the maintenance window",
            Cause.SiteLimit => "the limit at one site",
            Cause.PlanLimit => "the limit of the whole plan",
            Cause.Uplink => "the uplink of its site",
            Cause.Crew => "an on-site technician",
            Cause.Cluster => "others of its cluster",
            _ => "a decision",
        };
}
