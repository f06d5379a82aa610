using System.Collections.Immutable;
using System.Text.Json;
using CsCheck;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Tests.Scheduling;
using GrandStair.Core.Waves;
using Xunit;

namespace GrandStair.Core.Tests.Rehearsals;

public sealed class RehearsalTests
{
    private static readonly DateTimeOffset Now = new(2027, 1, 11, 8, 0, 0, TimeSpan.Zero);

    private static readonly LegSpec Leg = new(
        "6-to-7",
        "image",
        [
            Step("fetch", Phase.Stage, 25),
            Step("save", Phase.Protect, 5),
            Step("apply", Phase.Apply, 38) with
            {
                PointOfNoReturn = true,
                Attempts = 2,
            },
            Step("restart", Phase.Apply, 4),
            Step("look", Phase.Verify, 5),
        ],
        [Step("back", Phase.RollBack, 30)],
        TimeSpan.FromDays(10),
        TimeSpan.FromMinutes(47)
    );

    private static readonly Plan Basic = ScheduleTests.Basic with
    {
        Waves = [new("Pilot", null, null), new("Early", null, null), new("Rest", null, null)],
        Limits = new(6, 2),
        Advance = new(0.9, 50, TimeSpan.FromDays(2)),
        Lead = TimeSpan.FromHours(2),
    };

    [Fact]
    public void Where_everything_goes_as_usual_every_machine_is_verified_at_the_end_of_the_slot_that_the_schedule_gives_it()
    {
        var @case = Case(
            Basic with
            {
                Crews = [new("deck", "deck-it", 1, 3, [], new("UTC", [WeeklyRule.Parse("Mon-Sun 18:00-06:00")]))],
            },
            60,
            m =>
                m with
                {
                    Request = m.Request with
                    {
                        Crew = m.Request.Machine.Value % 5 == 0 ? "deck-it" : null,
                        Cluster = m.Request.Machine.Value % 7 == 0 ? "pair" : null,
                    },
                }
        );
        var requests = @case
            .Plan.Waves.Select((_, w) => (IReadOnlyList<SlotRequest>)[.. @case.Machines.Where(m => m.Wave == w).Select(m => m.Request)])
            .ToArray();
        var tentative = PlanSchedule
            .Of(@case.Plan, @case.Calendars, requests, [], [], Now, thorough: false)
            .All.ToDictionary(p => p.Machine, p => p.Slot!);
        var verified = Rehearsal.Once(@case, new Sure(), CancellationToken.None);
        Assert.All(@case.Machines.Zip(verified), m => Assert.Equal(tentative[m.First.Request.Machine].End, m.Second));
    }

    [Fact]
    public void A_wave_that_may_not_begin_yet_waits_in_a_rehearsal_as_it_does_in_the_schedule()
    {
        var late = Now.AddDays(40);
        var @case = Case(Basic with { Waves = Basic.Waves.SetItem(2, Basic.Waves[2] with { NotBefore = late }) }, 60);
        var verified = @case
            .Machines.Zip(Rehearsal.Once(@case, new Sure(), CancellationToken.None))
            .ToLookup(m => m.First.Wave, m => m.Second!.Value);
        Assert.All(verified[1], at => Assert.True(at < late));
        Assert.All(verified[2], at => Assert.InRange(at, late, late.AddDays(10)));
    }

    [Fact]
    public void However_long_things_take_and_whatever_fails_no_limit_cluster_crew_or_uplink_is_broken_at_any_moment() =>
        Gen.Select(Gen.ULong, Gen.Int[1, 6], Gen.Int[1, 3], Gen.Int[5, 60])
            .Sample(
                (seed, all, site, count) =>
                {
                    var plan = Basic with
                    {
                        Limits = new(all, site),
                        Crews = [new("deck", "deck-it", 1, null, [], new("UTC", [WeeklyRule.Parse("Mon-Sun 18:00-08:00")]))],
                        Uplinks = [new(["Site 0"], 20e6, 0.5, null)],
                    };
                    var @case = Case(plan, count, m =>
                        m with
                        {
                            Request = m.Request with
                            {
                                Crew = m.Request.Machine.Value % 5 == 0 ? "deck-it" : null,
                                Cluster = m.Request.Machine.Value % 4 == 0 ? "pair" : null,
                                Stages = 2e9,
                            },
                            Ready = m.Request.Machine.Value % 6 > 0,
                        }
                    );
                    var wild = new Wild(seed);
                    Rehearsal.Once(@case, wild, CancellationToken.None);
                    Assert.NotEmpty(wild.Spans);
                    foreach (var moment in wild.Spans.Select(s => s.From))
                    {
                        var busy = wild.Spans.Where(s => s.From <= moment && moment < s.To).ToArray();
                        var going = busy.Where(s => s.Phase != Phase.Stage).Select(s => s.Of.Request).Distinct().ToArray();
                        Assert.True(going.Length <= all, $"{going.Length} of {all} at once at {moment:u}");
                        Assert.All(going.CountBy(r => r.Site), s =>
                            Assert.True(s.Value <= site, $"{s.Value} of {site} at {s.Key} at {moment:u}")
                        );
                        Assert.True(going.Count(r => r.Cluster is not null) <= 1, $"two of a cluster at {moment:u}");
                        Assert.True(going.Count(r => r.Crew is not null) <= 1, $"a crew at two machines at {moment:u}");
                        Assert.True(
                            busy.Count(s => s.Phase == Phase.Stage && s.Of.Request.Site == "Site 0") <= 1,
                            $"two over one uplink at {moment:u}"
                        );
                    }
                },
                iter: 60
            );

    [Fact]
    public void A_run_in_a_rehearsal_is_always_where_the_run_machine_would_have_it() =>
        Gen.Select(Gen.Select(Gen.Int[0, 99], Gen.Bool).Array[1, 60], Gen.Int[-1, 2])
            .Sample(
                (happenings, most) =>
                {
                    int? catchUp = most < 0 ? null : most;
                    var place = new RunTree().Open(0, [Leg, Leg], catchUp);
                    var slot = new Slot(Now, Now.AddHours(1), Now.AddHours(2));
                    var run = RunMachine
                        .Step(null, new RunOpened(Now, "w", 7, 3, "winter", 1, "Pilot", "", [Leg, Leg], slot, catchUp))
                        .State;
                    foreach (var (number, late) in happenings)
                    {
                        if (run.Outstanding is not { } order)
                            break;
                        var at = late ? Now.AddHours(3) : Now;
                        var (what, e) = Happen(run, order, number, late, at);
                        run = RunMachine.Step(run, e).State;
                        place = place.After(what);
                        Assert.Equal(Tell(run), Tell(place.Run));
                        Assert.Equal(run.NeedsRoom, place.NeedsRoom);
                        Assert.Equal(run.HoldsCluster, place.HoldsCluster);
                        if (place.Order is { Kind: not OrderKind.Slot } && run.Outstanding!.Name != order.Name)
                            Assert.Equal(run.Outstanding.NotBefore - at, place.Delay);
                    }
                },
                iter: 500
            );

    [Fact]
    public void The_same_seed_gives_the_same_forecast_on_one_processor_and_on_several_and_another_seed_gives_another()
    {
        var @case = Case(Basic, 80);
        string Run(ulong seed, int processors) =>
            JsonSerializer.Serialize(
                Rehearsal.Run(
                    @case,
                    new(Measurements.None),
                    new(40, seed, TimeSpan.FromDays(2)) { Processors = processors },
                    null,
                    CancellationToken.None
                ),
                RunEvent.Json
            );
        var one = Run(5, 1);
        Assert.Equal(one, Run(5, 4));
        Assert.NotEqual(one, Run(6, 1));
    }

    [Fact]
    public void A_rehearsal_says_how_far_it_is_and_ends_when_it_is_cancelled()
    {
        using var stop = new CancellationTokenSource();
        var most = 0;
        Assert.ThrowsAny<OperationCanceledException>(() =>
            Rehearsal.Run(
                Case(Basic, 80),
                new(Measurements.None),
                new(2000, 1, null),
                done =>
                {
                    most = Math.Max(most, done);
                    if (done == 3)
                        stop.Cancel();
                },
                stop.Token
            )
        );
        Assert.InRange(most, 3, 20);
    }

    [Fact]
    public void A_crew_is_the_bottleneck_of_its_site_until_a_second_one_is_there()
    {
        var one = new CrewSpec("deck", "deck-it", 1, 2, [], new("UTC", [WeeklyRule.Parse("Mon-Sun 18:00-06:00")]));
        Forecast Run(params ImmutableArray<CrewSpec> crews) =>
            Rehearsal.Run(
                Case(
                    Basic with
                    {
                        Crews = crews,
                        Deadline = new(2027, 2, 5),
                        Limits = new(20, 10),
                        Waves = [new("All", null, null)],
                    },
                    48,
                    m => m with { Wave = 0, Request = m.Request with { Site = "MV Gannet", Crew = "deck-it" } }
                ),
                new(Measurements.None),
                new(60, 3, null),
                null,
                CancellationToken.None
            );
        var alone = Run(one);
        var two = Run(one, one with { Name = "spare", Hands = 2, PerDay = 8 });
        Assert.Equal(Cause.Crew, alone.Sites.Single().Bottleneck);
        Assert.True(two.Verified.P50 < alone.Verified.P10, $"{two.Verified.P50} is not before {alone.Verified.P10}");
        Assert.True(alone.InTime < 0.2 && two.InTime > 0.8, $"{alone.InTime} and {two.InTime}");
        Assert.NotEmpty(alone.Late);
        Assert.All(alone.Waves, w => Assert.True(w.Verified.P10 <= w.Verified.P50 && w.Verified.P50 <= w.Verified.P90));
        Assert.Equal(48, alone.Steps[^1].Machines);
        Assert.Equal(alone.Steps.Select(s => s.Verified.P50).Order(), alone.Steps.Select(s => s.Verified.P50));
    }

    [Fact]
    public void A_machine_that_nobody_can_make_ready_misses_and_one_that_somebody_can_is_awaited()
    {
        var @case = Case(Basic with { Waves = [new("All", null, null)] }, 10, m =>
            m with
            {
                Wave = 0,
                Ready = m.Request.Machine.Value > 2,
                CanBeFixed = m.Request.Machine.Value != 1,
            }
        );
        var afterFix = Rehearsal.Run(@case, new(Measurements.None), new(40, 1, TimeSpan.FromDays(3)), null, CancellationToken.None);
        Assert.Equal(new LateMachine(new(1), 1), afterFix.Late[0]);
        Assert.Equal(1, afterFix.NotVerified.P50);
        var left = Rehearsal.Run(@case, new(Measurements.None), new(40, 1, null), null, CancellationToken.None);
        Assert.Equal(2, left.NotVerified.P50);
        Assert.True(left.Verified.P50 < afterFix.Verified.P50);
    }

    [Fact]
    public void A_plan_running_is_taken_up_where_every_run_stands()
    {
        var @case = Case(Basic, 30);
        var fetched = RunMachine.Replay([
            new RunOpened(
                Now.AddDays(-1),
                "w",
                1,
                1,
                "winter",
                1,
                "Pilot",
                "",
                [Leg],
                new(Now.AddHours(11), Now.AddHours(12), Now.AddHours(20))
            ),
            new GateJudged(Now.AddDays(-1), "w", new(1, 1, "gate-planning", 1), GateState.Open, [], []),
            new OrderEnded(Now.AddHours(-20), "w", new(1, 1, "fetch", 1), OrderResult.Ok, 0, ""),
        ])!;
        var applying = RunMachine.Replay([
            new RunOpened(
                Now.AddDays(-1),
                "w",
                2,
                2,
                "winter",
                1,
                "Pilot",
                "",
                [Leg],
                new(Now.AddHours(-1), Now.AddHours(1), Now.AddHours(2))
            ),
            new GateJudged(Now.AddDays(-1), "w", new(2, 1, "gate-planning", 1), GateState.Open, [], []),
            new OrderEnded(Now.AddHours(-20), "w", new(2, 1, "fetch", 1), OrderResult.Ok, 0, ""),
            new SlotOpened(Now.AddHours(-1), "w", new(2, 1, "slot", 1)),
            new GateJudged(Now.AddHours(-1), "w", new(2, 1, "gate-start", 1), GateState.Open, [], []),
            new OrderEnded(Now.AddMinutes(-50), "w", new(2, 1, "save", 1), OrderResult.Ok, 0, ""),
            new GateJudged(Now.AddMinutes(-30), "w", new(2, 1, "gate-protected", 1), GateState.Open, [], []),
        ])!;
        Assert.Equal((Phase.Wait, Phase.Apply), (fetched.Phase, applying.Phase));
        var under = @case with
        {
            Waves = [new(Now.AddDays(-1), false), default, default],
            Machines = [@case.Machines[0] with { Run = fetched }, @case.Machines[1] with { Run = applying }, .. @case.Machines.Skip(2)],
        };
        var verified = Rehearsal.Once(under, new Sure(), CancellationToken.None);
        // Applying takes 38 min from when it was asked for, then restart and look.
        Assert.Equal(Now.AddMinutes(8 + 4 + 5), verified[1]);
        Assert.Equal(Now.AddHours(11).AddMinutes(52), verified[0]);
        Assert.All(verified, p => Assert.NotNull(p));
    }

    [Fact]
    public void Wherever_runs_stand_a_rehearsal_takes_them_up_and_comes_to_an_end() =>
        Gen.Select(Gen.ULong, Gen.Select(Gen.Int[0, 99], Gen.Bool).Array[0, 30].Array[20])
            .Sample(
                (seed, all) =>
                {
                    var begun = all.Select(
                            (happenings, i) =>
                            {
                                var run = RunMachine
                                    .Step(
                                        null,
                                        new RunOpened(
                                            Now.AddDays(-1),
                                            "w",
                                            i + 1,
                                            i + 1,
                                            "winter",
                                            1,
                                            "Pilot",
                                            "",
                                            [Leg, Leg],
                                            new(Now.AddHours(-2 + (i % 5)), Now.AddHours(1 + (i % 5)), Now.AddHours(2 + (i % 5)))
                                        )
                                    )
                                    .State;
                                foreach (var (number, late) in happenings)
                                {
                                    if (run.Outstanding is { Kind: not OrderKind.Settle } order)
                                        run = RunMachine
                                            .Step(run, Happen(run, order, number, late, Now.AddHours(late ? 9 : -1)).Event)
                                            .State;
                                }

                                return run;
                            }
                        )
                        .ToArray();
                    var @case = Case(Basic, 30, m =>
                        m.Request.Machine.Value <= begun.Length
                            ? m with
                            {
                                Run = begun[m.Request.Machine.Value - 1],
                                Request = m.Request with { Cluster = m.Request.Machine.Value % 4 == 0 ? "pair" : null },
                            }
                            : m
                    ) with
                    {
                        Waves = [new(Now.AddDays(-1), false), new(Now.AddHours(-1), false), default],
                    };
                    var verified = Rehearsal.Once(@case, new Wild(seed), CancellationToken.None);
                    Assert.All(begun.Zip(verified).Where(b => b.First.Verified is not null), b => Assert.Equal(b.First.Verified, b.Second));
                    // Nobody waits for ever: who is not verified was tried again as often as there is patience for.
                    Assert.True(verified.Count(p => p is not null) > 8, $"{verified.Count(p => p is not null)} of 30 verified");
                },
                iter: 300
            );

    [Fact]
    public void Many_measured_cases_outweigh_what_the_method_says_and_few_lean_on_it()
    {
        var key = new StepKey("6-to-7", "image", "apply");
        MeasuredStep Took(double minutes, string model = "Tarn 3") =>
            new(key, model, "Site 0", false, OrderResult.Ok, TimeSpan.FromMinutes(minutes));
        var draw = new Random(4);
        var many = new Experience(new([.. Enumerable.Range(0, 200).Select(_ => Took(18 + (4 * draw.NextDouble())))], [], []));
        var few = new Experience(new([Took(19), Took(20)], [], []));
        var apply = Leg.Steps[2];
        var method = new Method
        {
            Name = "image",
            Title = "Image",
            Hops = ["6-to-7"],
            Preserves = Preserves.Full,
            Steps = [apply],
            Rollback = new("", TimeSpan.Zero, []),
        };
        Assert.InRange(many.Lengths("6-to-7", method, "Tarn 3").Slot, TimeSpan.FromMinutes(19), TimeSpan.FromMinutes(21));
        Assert.InRange(few.Lengths("6-to-7", method, "Tarn 3").Slot, TimeSpan.FromMinutes(25), TimeSpan.FromMinutes(33));
        Assert.Equal(method.Typical, new Experience(Measurements.None).Lengths("6-to-7", method, "Tarn 3"));

        // A model that takes twice as long is known from its own cases, and does not slow the others down.
        var models = new Experience(
            new(
                [
                    .. Enumerable
                        .Range(0, 60)
                        .SelectMany(_ => new[] { Took(18 + (4 * draw.NextDouble())), Took(38 + (4 * draw.NextDouble()), "Beck 5") }),
                ],
                [],
                []
            )
        );
        double Mean(string model) =>
            Enumerable
                .Range(0, 400)
                .Average(i =>
                    models
                        .Draw(1, i, null)
                        .Step(Machine(1, 0) with { Model = model }, Leg, apply, new(1, 1, "apply", 1), Now)
                        .Lasts.TotalMinutes
                );
        Assert.InRange(Mean("Tarn 3"), 18, 24);
        Assert.InRange(models.Lengths("6-to-7", method, "Beck 5").Slot / models.Lengths("6-to-7", method, "Tarn 3").Slot, 1.6, 2.2);
        Assert.InRange(Mean("Beck 5"), 35, 45);
    }

    [Fact]
    public void What_is_longer_than_usual_is_learnt_from_the_steps_of_the_same_model()
    {
        var apply = Leg.Steps[2];
        var draw = new Random(7);
        MeasuredStep Took(string model, double minutes) =>
            new(new("6-to-7", "image", apply.Name), model, "Site 0", false, OrderResult.Ok, TimeSpan.FromMinutes(minutes));
        double[] quick = [.. Enumerable.Range(0, 200).Select(_ => 20 * Math.Exp(0.1 * Math.Sin(6.28 * draw.NextDouble())))];
        var known = new Experience(new([.. quick.SelectMany(m => new[] { Took("Tarn 3", m), Took("Beck 5", 2 * m) })], [], []));

        var tarn = known.UsualLength("6-to-7", "image", apply, "Tarn 3");
        Assert.InRange(tarn.Middle, TimeSpan.FromMinutes(19), TimeSpan.FromMinutes(22));
        Assert.InRange(quick.Count(m => m < tarn.Longest.TotalMinutes) / 200.0, 0.9, 1);
        Assert.InRange(tarn.Longest, tarn.Middle, TimeSpan.FromMinutes(30));
        Assert.InRange(known.UsualLength("6-to-7", "image", apply, "Beck 5").Middle, TimeSpan.FromMinutes(37), TimeSpan.FromMinutes(43));
        Assert.Equal(400, tarn.Measured);

        // Where nothing was measured, the method's word counts, and is known to be off by some.
        var unknown = new Experience(Measurements.None).UsualLength("6-to-7", "image", apply, "Tarn 3");
        Assert.Equal(apply.Typical.TotalSeconds, unknown.Middle.TotalSeconds, 0.01);
        Assert.InRange(unknown.Longest / unknown.Middle, 1.5, 2);
    }

    [Fact]
    public void Who_was_not_made_ready_for_long_is_not_made_ready_as_if_that_had_just_begun()
    {
        var known = new Experience(
            Measurements.None with
            {
                Fixings = [.. Enumerable.Range(0, 60).Select(i => TimeSpan.FromHours(38 + (i / 2)))],
            }
        );
        double[] Drawn(TimeSpan waited) =>
            [
                .. Enumerable
                    .Range(0, 300)
                    .Select(i => known.Draw(7, i, TimeSpan.FromHours(54)).Fix(Machine(1, 0), waited)!.Value.TotalHours),
            ];
        Assert.InRange(Drawn(TimeSpan.Zero).Average(), 46, 62);
        Assert.All(Drawn(TimeSpan.FromHours(60)), h => Assert.True(h > 60));
        Assert.InRange(Drawn(TimeSpan.FromHours(60)).Average(), 61, 75);
        // Longer than anything that is known: it goes on for a good while.
        Assert.All(Drawn(TimeSpan.FromHours(4000)), h => Assert.InRange(h, 4001, 5001));
        Assert.Null(known.Draw(7, 1, null).Fix(Machine(1, 0), TimeSpan.Zero));
    }

    [Fact]
    public void A_log_shows_how_long_each_order_lasted_how_gates_were_judged_and_how_long_people_took()
    {
        RunEvent[] log =
        [
            new RunOpened(Now, "w", 1, 1, "winter", 1, "Pilot", "", [Leg], new(Now.AddHours(11), Now.AddHours(12), Now.AddHours(20))),
            new GateJudged(Now, "w", new(1, 1, "gate-planning", 1), GateState.Open, [], []),
            new OrderEnded(Now.AddHours(2), "w", new(1, 1, "fetch", 1), OrderResult.Ok, 0, "") { Lasted = TimeSpan.FromMinutes(31) },
            new SlotOpened(Now.AddHours(11), "w", new(1, 1, "slot", 1)),
            new GateJudged(
                Now.AddHours(11),
                "w",
                new(1, 1, "gate-start", 1),
                GateState.Blocked,
                [new("mains", "On mains", "no", "plug it in")],
                []
            ),
            new Decided(Now.AddHours(14), "planner", Decision.Retry, "plugged in"),
            new GateJudged(Now.AddHours(14), "w", new(1, 1, "gate-start", 2), GateState.Open, [], []),
            new OrderEnded(Now.AddHours(14).AddMinutes(6), "w", new(1, 1, "save", 1), OrderResult.Ok, 0, ""),
        ];
        var shown = Measurements.Of(log, "Tarn 3", "Westhaven");
        Assert.Equal(
            [
                new(new("6-to-7", "image", "fetch"), "Tarn 3", "Westhaven", false, OrderResult.Ok, TimeSpan.FromMinutes(31)),
                new(new("6-to-7", "image", "save"), "Tarn 3", "Westhaven", false, OrderResult.Ok, TimeSpan.FromMinutes(6)),
            ],
            shown.Steps.ToArray()
        );
        Assert.Equal(
            [
                new(Moment.Planning, false, GateState.Open),
                new(Moment.Start, false, GateState.Blocked),
                new(Moment.Start, true, GateState.Open),
            ],
            shown.Gates.ToArray()
        );
        Assert.Equal([new MeasuredDecision(Decision.Retry, TimeSpan.FromHours(3))], shown.Decisions.ToArray());
    }

    private static (RunTree.Happening What, RunEvent Event) Happen(RunState run, Order order, int number, bool late, DateTimeOffset at)
    {
        switch (order.Kind)
        {
            case OrderKind.Gate:
                var gate = (GateState)(number % 3);
                return (
                    new(RunTree.HappeningKind.Gate, (int)gate, late),
                    new GateJudged(
                        at,
                        "",
                        order.Name,
                        gate,
                        gate == GateState.Open ? [] : [new("rehearsed", "What was in the way", "rehearsed", "")],
                        []
                    )
                );
            case OrderKind.Slot:
                return run.NeedsSlot
                    ? (new(RunTree.HappeningKind.SlotMoved, 0, late), new SlotMoved(at, "", new(Now, Now.AddHours(1), Now.AddHours(2)), ""))
                    : (new(RunTree.HappeningKind.SlotOpened, 0, late), new SlotOpened(at, "", order.Name));
            case OrderKind.Step when number % 7 == 0 && run.Parked is null:
                return (new(RunTree.HappeningKind.Overdue, 0, late), new OrderOverdue(at, "", order.Name, ""));
            case OrderKind.Step:
                var result = (OrderResult)(number % 2);
                return (new(RunTree.HappeningKind.Ended, (int)result, late), new OrderEnded(at, "", order.Name, result, null, ""));
            case OrderKind.Decide:
                var possible = RunMachine.Possible(run);
                var decision = possible[number % possible.Length];
                return (new(RunTree.HappeningKind.Decided, (int)decision, late), new Decided(at, "", decision, ""));
            default:
                return (new(RunTree.HappeningKind.SlotOpened, 0, late), new SlotOpened(at, "", order.Name));
        }
    }

    private static string Tell(RunState run) =>
        $"{run.Leg} {run.Phase} {run.Moment} {run.Step} {run.Tries} {run.Outstanding?.Kind} {run.Outstanding?.Name.Step} "
        + $"{run.Outstanding?.Name.Attempt} parked={run.Parked is not null} turned={run.Turned} needs={run.NeedsSlot} "
        + $"missed={run.MissedSlots} {run.Outcome} verified={run.Verified is not null} events={run.Events}";

    private static RehearsalCase Case(Plan plan, int count, Func<RehearsedMachine, RehearsedMachine>? with = null) =>
        new(
            plan,
            ImmutableDictionary<string, ICalendar>.Empty,
            [
                .. Enumerable
                    .Range(0, count)
                    .Select(i =>
                        Machine(
                            i + 1,
                            i < count / 10 ? 0
                                : i < count / 2 ? 1
                                : 2
                        )
                    )
                    .Select(m => with is null ? m : with(m)),
            ],
            [.. plan.Waves.Select(_ => default(RehearsedWave))],
            Now
        );

    private static RehearsedMachine Machine(int id, int wave) =>
        new(
            new(new(id), $"Site {id % 3}", TimeSpan.FromMinutes(52), TimeSpan.FromMinutes(47))
            {
                Name = $"m{id}",
                RollbackLasts = TimeSpan.FromMinutes(30),
            },
            wave,
            [Leg]
        )
        {
            Model = $"Tarn {id % 4}",
        };

    private static StepSpec Step(string name, Phase phase, int minutes) =>
        new(name, name, phase, StepKind.Script, name, TimeSpan.FromMinutes(minutes), TimeSpan.FromMinutes(minutes * 6));

    /// <summary>Everything takes as long as the method says, and nothing fails.</summary>
    private sealed class Sure : IWorldModel
    {
        public SimulatedResult Step(RehearsedMachine machine, LegSpec leg, StepSpec step, OrderName order, DateTimeOffset at) =>
            new(step.Typical, OrderResult.Ok);

        public GateState Gate(RehearsedMachine machine, Moment moment, OrderName order, DateTimeOffset at) => GateState.Open;

        public (TimeSpan After, Decision Decision) Decide(
            RehearsedMachine machine,
            RunState run,
            OrderName order,
            ImmutableArray<Decision> possible
        ) => throw new InvalidOperationException("Nothing is to decide.");

        public TimeSpan? Fix(RehearsedMachine machine, TimeSpan waited) => TimeSpan.Zero;

        public TimeSpan? Again(RehearsedMachine machine, int attempts) =>
            throw new InvalidOperationException("Nothing ends without success.");
    }

    /// <summary>Anything takes any time and often fails; what it did is kept.</summary>
    private sealed class Wild(ulong seed) : IWorldModel
    {
        private readonly Random _draw = new((int)(seed % int.MaxValue));

        public List<(RehearsedMachine Of, Phase Phase, DateTimeOffset From, DateTimeOffset To)> Spans { get; } = [];

        public SimulatedResult Step(RehearsedMachine machine, LegSpec leg, StepSpec step, OrderName order, DateTimeOffset at)
        {
            var lasts = step.Typical * (0.2 + (8 * Math.Pow(_draw.NextDouble(), 3)));
            // What takes longer than its limit is parked, and gives its room to others.
            Spans.Add((machine, step.Phase, at, at + (lasts < step.Limit ? lasts : step.Limit)));
            return new(lasts, _draw.Next(8) == 0 ? OrderResult.Failed : OrderResult.Ok);
        }

        public GateState Gate(RehearsedMachine machine, Moment moment, OrderName order, DateTimeOffset at) =>
            _draw.Next(10) switch
            {
                0 => GateState.Undecided,
                1 => GateState.Blocked,
                _ => GateState.Open,
            };

        public (TimeSpan After, Decision Decision) Decide(
            RehearsedMachine machine,
            RunState run,
            OrderName order,
            ImmutableArray<Decision> possible
        ) => (TimeSpan.FromHours(1 + _draw.Next(30)), possible[_draw.Next(possible.Length)]);

        public TimeSpan? Fix(RehearsedMachine machine, TimeSpan waited) => TimeSpan.FromHours(_draw.Next(90));

        public TimeSpan? Again(RehearsedMachine machine, int attempts) => attempts < 4 ? TimeSpan.FromHours(_draw.Next(60)) : null;
    }
}
