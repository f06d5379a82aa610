using CsCheck;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using Xunit;

namespace GrandStair.Core.Tests.Plans;

public sealed class PlanProgressTests
{
    private const int MostSteps = 5000;
    private static readonly TimeSpan Soak = TimeSpan.FromDays(2);

    [Fact]
    public void A_plan_comes_to_its_end_by_itself_and_no_slot_breaks_a_window_or_a_limit_whatever_fails_and_however_long_it_takes()
    {
        var moves = 0;
        Gen.Select(Gen.Int[0, 100_000], Gen.Int[4, 24])
            .Sample(
                (seed, machines) =>
                {
                    var world = new PlanWorld(seed, machines);
                    Run(world, _ => Assert.Empty(world.BrokenSlots()));
                    Interlocked.Add(ref moves, world.Moves);
                    var going = world.Members.Where(m => m.Run is not null).ToArray();
                    Assert.Equal(machines - (machines / 9), going.Length);
                    Assert.All(going, m => Assert.True(m.Status is Status.Done or Status.Exempt, $"{m.Status}"));
                    Assert.All(world.Members.Except(going), m => Assert.Equal(Status.NotReady, m.Status));
                },
                iter: 60
            );
        Assert.True(moves > 50, $"{moves} slots were moved");
    }

    [Fact]
    public void A_wave_begins_once_enough_of_the_one_before_are_verified_and_have_soaked_and_not_earlier() =>
        Gen.Int[0, 100_000]
            .Sample(
                seed =>
                {
                    var world = new PlanWorld(seed, 18);
                    Run(world, changes =>
                    {
                        foreach (var wave in changes.Waves.Where(w => w.Number > 1 && w.Opened == world.SteppedAt))
                            Assert.True(HasSoaked(world, wave.Number - 1), $"{wave.Name} began at {world.SteppedAt:u}");
                    });
                    Assert.All(world.Waves, w => Assert.NotNull(w.Opened));
                },
                iter: 60
            );

    [Fact]
    public void A_second_step_at_the_same_moment_changes_nothing() =>
        Gen.Int[0, 100_000]
            .Sample(seed => Run(new PlanWorld(seed, 12), (world, _) =>
                    {
                        // What the step decided has been applied already.
                        AssertNothingChanges(PlanProgress.Step(world.State, world.Facts, world.SteppedAt));
                    }), iter: 20);

    [Fact]
    public void Nothing_changes_by_time_alone_before_the_moment_that_a_step_names() =>
        Gen.Select(Gen.Int[0, 100_000], Gen.Double[0.01, 0.99])
            .Sample((seed, share) => Run(new PlanWorld(seed, 12), (world, changes) =>
                    {
                        var next = changes.Next ?? world.SteppedAt.AddDays(30);
                        var between = world.SteppedAt + ((next - world.SteppedAt) * share);
                        AssertNothingChanges(PlanProgress.Step(world.State, world.Facts, between));
                    }), iter: 20);

    private static void AssertNothingChanges(PlanChanges changes)
    {
        Assert.Empty(changes.Waves);
        Assert.Empty(changes.Members);
        Assert.Empty(changes.Openings);
        Assert.Empty(changes.Moves);
    }

    /// <summary>Whether enough of a wave's machines have been verified for long enough, counted apart from the rule's own code.</summary>
    private static bool HasSoaked(PlanWorld world, int wave)
    {
        var own = world.Members.Where(m => m.Wave == wave && m.Status is not (Status.NotReady or Status.Exempt)).ToArray();
        var soaked = own.Count(m => m.Verified <= world.SteppedAt - Soak);
        var failed = own.Count(m => m.Status is Status.Parked or Status.Stopped);
        return failed <= 2 && soaked >= Math.Ceiling(own.Length * 0.8);
    }

    private static void Run(PlanWorld world, Action<PlanChanges> look) => Run(world, (_, changes) => look(changes));

    private static void Run(PlanWorld world, Action<PlanWorld, PlanChanges> look)
    {
        for (var steps = 0; !world.IsOver; steps++)
        {
            Assert.True(steps < MostSteps, $"it stands still at {world.Now:u}: {world}");
            world.Step(look);
        }
    }
}
