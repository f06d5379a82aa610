using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Plans;

public sealed class AssessmentMemoryTests
{
    private readonly PlanWorld _world = new(seed: 1, machines: 20);

    [Fact]
    public void An_assessment_is_used_again_until_it_is_five_minutes_old()
    {
        var (first, memory) = Assess(AssessmentMemory.None, Machines, _world.Now);
        Assert.Equal(first, Machines.Select(m => Assessment.Of(Aim, m, Moment.Planning, _world.Now)), (a, b) =>
            (a.State, a.Why) == (b.State, b.Why)
        );
        var (again, kept) = Assess(memory, Machines, _world.Now.AddMinutes(4));
        Assert.All(first.Zip(again), p => Assert.Same(p.First, p.Second));
        var (late, _) = Assess(kept, Machines, _world.Now.AddMinutes(5));
        Assert.All(first.Zip(late), p => Assert.NotSame(p.First, p.Second));
    }

    [Fact]
    public void A_machine_that_has_changed_is_assessed_again_and_the_others_are_not()
    {
        var (first, memory) = Assess(AssessmentMemory.None, Machines, _world.Now);
        Machine[] changed =
        [
            Machines[0] with
            {
                Readings = [.. Machines[0].Readings.Select(r => r.Key == "patches.pending" ? Pending(3) : r)],
            },
            .. Machines.Skip(1),
        ];
        var (again, _) = Assess(memory, changed, _world.Now);
        Assert.Equal((GateState.Open, GateState.Blocked), (first[0].State, again[0].State));
        Assert.All(first.Zip(again).Skip(1), p => Assert.Same(p.First, p.Second));
    }

    [Fact]
    public void An_answer_that_may_have_changed_by_age_is_asked_again()
    {
        var (first, memory) = Assess(AssessmentMemory.None, Machines, _world.Now);
        var until = first.Min(a => a.Until)!.Value;
        var (before, kept) = Assess(memory, Machines, until.AddMinutes(-1));
        var (after, _) = Assess(kept, Machines, until.AddSeconds(1));
        Assert.Equal(GateState.Open, before[0].State);
        Assert.Equal(GateState.Undecided, after[0].State);
    }

    private Machine[] Machines => [.. _world.Facts.Machines.Values.OrderBy(m => m.Id.Value)];

    private Aim Aim => PlanSlots.AimOf(_world.State.Plan, _world.State.Product);

    private (IReadOnlyList<Assessment> Assessments, AssessmentMemory Memory) Assess(
        AssessmentMemory memory,
        IEnumerable<Machine> machines,
        DateTimeOffset now
    ) => memory.Assess(_world.State, Aim, _world.Facts, machines, now);

    private static Reading Pending(int count) => Fleets.Read("patches.pending", $"{count}", TimeSpan.FromHours(1));
}
