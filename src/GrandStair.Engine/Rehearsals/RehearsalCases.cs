using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Plans;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Rehearsals;

/// <summary>Makes plans into cases to rehearse: who is in them and how each would go, from where everything stands now.</summary>
public sealed class RehearsalCases(CatalogueCache catalogues, PlanTable plans, PlanWriter writer, PlanFactsReader facts, TimeProvider clock)
{
    /// <summary>The case of a plan as it is kept.</summary>
    public async Task<RehearsalCase> OfAsync(PlanRecord stored, CancellationToken stop)
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
    /// <exception cref="RefusedException">As <see cref="PlanWriter.DraftAsync"/>.</exception>
    public async Task<RehearsalCase> OfAsync(PlanRecord stored, string body, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var draft = await writer.DraftAsync(body, stored.Sites, stop);
        if (draft.Plan.Name != stored.Name)
            throw RefusedException.Conflict("another-plan", $"The what-if is of plan '{draft.Plan.Name}', and not of '{stored.Name}'.");
        return await OfAsync(draft.Record with { State = stored.State }, draft.Plan, draft.Members, stop);
    }

    private async Task<RehearsalCase> OfAsync(PlanRecord stored, Plan plan, IReadOnlyList<Member> members, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var product = await catalogues.ByHashAsync(stored.CatalogueHash, stop);
        var aim = PlanSlots.AimOf(plan, product);
        var known = await facts.OfStateAsync(new(stored, plan, product, members), now, stop);
        var runs = await facts.RunsAsync(members, stop);
        var machines = known.Machines;
        var begun = stored.Waves.Where(w => w.State != WaveState.Waiting).Select(w => w.Number).ToHashSet();
        var going = members
            .Where(m => m.Exemption is null)
            .Select(m =>
            {
                var machine = machines[m.Machine];
                if (m.Run is { } run && runs.TryGetValue(run, out var state))
                    return Rehearsed(machine, m, product.Method(state.CurrentLeg.Method)!, state.Legs) with { Run = state };
                var assessment = Assessment.Of(aim, machine, Moment.Planning, now, known.Decided.GetValueOrDefault(m.Machine));
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
        var pending = PlanSlots.Pending(known.Elsewhere, members, machines);
        return new(
            plan,
            known.Calendars,
            [.. going.Select(g => g with { Request = g.Request with { After = PlanSlots.After(machines[g.Request.Machine], pending) } })],
            [
                .. stored.Waves.Select(w => new RehearsedWave(
                    w.State == WaveState.Waiting ? null : w.Opened ?? now,
                    w.State == WaveState.Passed
                )),
            ],
            now
        )
        {
            Others = [.. known.Elsewhere.Slots],
        };

        RehearsedMachine Rehearsed(Machine machine, Member member, Method? method, ImmutableArray<LegSpec> legs)
        {
            var request = method is null
                ? new SlotRequest(machine.Id, machine.Site, TimeSpan.FromMinutes(1), TimeSpan.Zero)
                {
                    Name = machine.Name,
                    Group = machine.Group,
                }
                : PlanSlots.Request(
                    machine,
                    method,
                    known.Lengths(legs.First(l => l.Method == method.Name).Hop, method, PlanSlots.ModelOf(machine)),
                    member.ChosenSlot(now)
                );
            var line = plan.UplinkOf(machine.Site);
            return new(request, member.Wave - 1, legs)
            {
                Model = string.Intern(PlanSlots.ModelOf(machine)),
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
        return methods.Any(m => m.Method is null)
            ? []
            : [.. methods.Select(m => PlanSlots.Leg(m.Hop, m.Method!, leastBuild: null, patches: null))];
    }
}
