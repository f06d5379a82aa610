using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Durations;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Rehearsals;

/// <summary>Makes plans into cases to rehearse: who is in them and how each would go, from where everything stands now.</summary>
public sealed class RehearsalCases(
    CatalogueCache catalogues,
    FleetCache fleet,
    PlanTable plans,
    PlanWriter writer,
    DecisionTable decisions,
    RunLog runs,
    MeasuredRuns measured,
    CalendarCache calendars,
    OtherPlans otherPlans,
    TimeProvider clock
)
{
    /// <summary>The case of a plan as it is kept.</summary>
    public async Task<RehearsalCase> OfAsync(StoredPlan stored, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        return await OfAsync(
            stored,
            (await catalogues.ReadPlanAsync(stored, stop)).Plan,
            await plans.MembersAsync(stored.Name, stop),
            stop
        );
    }

    /// <summary>The case of a plan as another text of it would make it.</summary>
    /// <exception cref="CommandException">As <see cref="PlanWriter.DraftAsync"/>.</exception>
    public async Task<RehearsalCase> OfAsync(StoredPlan stored, string body, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var draft = await writer.DraftAsync(body, stored.Sites, stop);
        if (draft.Plan.Name != stored.Name)
            throw new CommandException("another-plan", $"The what-if is of plan '{draft.Plan.Name}', and not of '{stored.Name}'.");
        return await OfAsync(draft.Stored with { State = stored.State }, draft.Plan, draft.Members, stop);
    }

    private async Task<RehearsalCase> OfAsync(StoredPlan stored, Plan plan, IReadOnlyList<Member> members, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var product = await catalogues.ByHashAsync(stored.CatalogueHash, stop);
        var aim = PlanCommands.AimOf(plan, product);
        var decided = await decisions.OfAsync(product.Name, plan.Name, now, stop);
        var machines = await fleet.AllAsync(stop);
        var learnt = await measured.ExperienceAsync(product, stop);
        var (known, _) = await calendars.AllAsync(stop);
        var states = members.Any(m => m.Run is not null)
            ? (await runs.ListAsync(plan.Name, stop)).ToDictionary(r => r.State.Run, r => r.State)
            : [];
        var begun = stored.Waves.Where(w => w.State != WaveState.Waiting).Select(w => w.Number).ToHashSet();
        var going = members
            .Where(m => m.Exemption is null)
            .Select(m =>
            {
                var machine = machines[m.Machine];
                if (m.Run is { } run && states.TryGetValue(run, out var state))
                    return Rehearsed(machine, m, product.Method(state.CurrentLeg.Method)!, state.Legs) with { Run = state };
                var assessment = Assessment.Of(aim, machine, Moment.Planning, now, decided.GetValueOrDefault(m.Machine));
                var legs = LegsOf(assessment, aim);
                if (legs.IsEmpty)
                    return Rehearsed(machine, m, null, []) with { Ready = false, CanBeFixed = false };
                return Rehearsed(machine, m, product.Method(legs[0].Method)!, legs) with
                {
                    Ready = assessment.CanBePlanned,
                    CanBeFixed = !assessment.CannotBeFixed,
                    Slot = begun.Contains(m.Wave) && m.Slot?.LatestTurn > now ? m.Slot : null,
                };
            })
            .ToArray();
        var elsewhere = await otherPlans.OfAsync(plan.Name, stored.Started, stop);
        var pending = PlanWriter.Pending(elsewhere, members, machines);
        return new(
            plan,
            known,
            [.. going.Select(g => g with { Request = g.Request with { After = PlanWriter.After(machines[g.Request.Machine], pending) } })],
            [
                .. stored.Waves.Select(w => new RehearsedWave(
                    w.State == WaveState.Waiting ? null : w.Opened ?? now,
                    w.State == WaveState.Passed
                )),
            ],
            now
        )
        {
            Others = [.. elsewhere.Slots],
        };

        RehearsedMachine Rehearsed(Machine machine, Member member, Method? method, ImmutableArray<LegSpec> legs)
        {
            var request = method is null
                ? new SlotRequest(machine.Id, machine.Site, TimeSpan.FromMinutes(1), TimeSpan.Zero)
                {
                    Name = machine.Name,
                    Group = machine.Group,
                }
                : PlanWriter.Request(
                    machine,
                    method,
                    learnt.Lengths(legs.First(l => l.Method == method.Name).Hop, method, MeasuredRuns.ModelOf(machine)),
                    PlanWriter.Chosen(member, now)
                );
            var line = plan.UplinkOf(machine.Site);
            return new(request, member.Wave - 1, legs)
            {
                Model = string.Intern(MeasuredRuns.ModelOf(machine)),
                OverUplink = line is null || request.Stages <= 0 ? null : TimeSpan.FromMinutes(request.Stages / line.BytesPerMinute),
            };
        }
    }

    /// <summary>
    /// The legs of a machine as they are chosen; where something is still in the way, those that it would go through once that is fixed.
    /// </summary>
    private static ImmutableArray<LegSpec> LegsOf(Assessment assessment, Aim aim)
    {
        var methods = assessment
            .Legs.Select(l =>
                (
                    l.Hop,
                    Method: l.Method is { Way: Way.Upgrade } chosen
                        ? chosen
                        : aim
                            .Methods.Select(aim.Product.Method)
                            .FirstOrDefault(m => m is { Way: Way.Upgrade } && m.Hops.Contains(l.Hop.Name))
                )
            )
            .ToArray();
        return methods.Any(m => m.Method is null) ? [] : [.. methods.Select(m => PlanWriter.Leg(m.Hop, m.Method!, leastBuild: null))];
    }
}
