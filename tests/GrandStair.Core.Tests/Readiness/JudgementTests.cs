using System.Collections.Immutable;
using CsCheck;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Tests.Conditions;
using Xunit;
using Check = GrandStair.Core.Catalogue.Check;

namespace GrandStair.Core.Tests.Readiness;

public sealed class JudgementTests
{
    private static readonly ImmutableDictionary<string, ReadingValue> Brings = ImmutableDictionary<string, ReadingValue>
        .Empty.Add("firmware.tpm.on", ReadingValue.Parse(ValueKind.Flag, "yes", out _)!)
        .Add("disk.system.free", ReadingValue.Parse(ValueKind.Size, "40 GiB", out _)!);

    private static readonly Gen<Check> Checks = Gen.Select(
        Drawn.Condition,
        Drawn.Condition,
        Gen.Int[0, 1_000_000],
        (wants, applies, seed) =>
            new Check
            {
                Name = $"c{seed % 7}",
                Title = $"Check {seed}",
                Need = seed % 3 == 0 ? Need.Should : Need.Must,
                Wants = Parse(wants),
                AppliesTo = seed % 4 == 0 ? Parse(applies) : null,
                Fresh = seed % 5 == 0 ? TimeSpan.FromDays(3) : null,
                AskedAt = seed % 11 == 0 ? [Moment.Start] : [Moment.Planning, Moment.Start],
                Fix = new((FixedBy)(seed % 4), "fix it", null),
                Waivable = true,
            }
    );

    private static readonly Gen<Method> Methods = Gen.Select(Drawn.Condition, Checks, Gen.Int[0, 1_000_000], (suits, own, seed) =>
        Fleets.Method("m") with
        {
            Suits = seed % 3 == 0 ? Parse(suits) : null,
            Way = seed % 5 == 0 ? Way.Replace : Way.Upgrade,
            Preserves = (Preserves)(seed % 3),
            Hops = seed % 7 == 0 ? ["6-to-7"] : ["6-to-7", "7-to-10", "6-to-10"],
            Needs = new(OwnerPresent: seed % 4 == 1),
            Checks = seed % 2 == 0 && seed % 5 != 0 ? [own with { Name = "own" }] : [],
        }
    );

    private static readonly Gen<Aim> Aims = Gen.Select(
        Checks.Array[0, 4],
        Checks.Array[0, 4],
        Methods.Array[1, 3],
        Drawn.Condition,
        Drawn.Condition,
        Gen.Int[0, 1000],
        (first, second, methods, touches, offered, seed) =>
        {
            ImmutableArray<Method> named = [.. methods.Select((m, i) => m with { Name = $"m{i}", Title = $"m{i}" })];
            var editions = new Dictionary<string, string>
            {
                ["Workplace"] = "Workplace",
                ["counter"] = "Workplace",
                ["6"] = "6",
            }.ToImmutableDictionary();
            var product = Fleets.Product([]) with
            {
                Is = Parse("site = Westhaven or site = Eastness and not name = desk-1"),
                Releases =
                [
                    Release("6"),
                    Release("7"),
                    Release("10") with
                    {
                        Status = seed % 3 == 0 ? ReleaseStatus.PhasedIn : ReleaseStatus.Available,
                        OfferedTo = Parse(offered),
                    },
                ],
                Hops =
                [
                    Hop("6-to-7", "6", "7", first) with
                    {
                        Brings = Brings,
                        Editions = editions,
                    },
                    Hop("7-to-10", "7", "10", second),
                    .. seed % 4 == 0 ? new[] { Hop("6-to-10", "6", "10", second) } : [],
                ],
                Methods = named,
                KnownIssues =
                [
                    new()
                    {
                        Name = "i",
                        Title = "i",
                        Release = "10",
                        Need = (Need)(seed % 2),
                        Touches = Parse(touches),
                        FixedIn = seed % 5 == 0 ? "10.0.2" : null,
                        Fix = new((FixedBy)(seed % 4), "x", null),
                    },
                ],
            };
            if (seed % 3 == 0)
                product = product with { BuildKey = "os.build" };
            return new Aim(product, product.Release("10"), [.. named.Select(m => m.Name), "none"], (Preserves)(seed % 3))
            {
                LeastBuild = seed % 2 == 0 ? "10.0.1" : null,
                But = (seed % 7) switch
                {
                    0 => [(TargetSelector.At("westhaven"), product.Release("7"), null)],
                    1 =>
                    [
                        (TargetSelector.At("Westhaven", "Eastness"), product.Release("7"), "7.0.1"),
                        (new([], [], ["desk-2"]), product.Release("10"), null),
                    ],
                    _ => [],
                },
            };
        }
    );

    [Fact]
    public void The_whole_fleet_judged_by_columns_says_the_same_as_machine_by_machine() =>
        Gen.Select(Drawn.Fleet, Aims)
            .Sample(
                (fleet, aim) =>
                {
                    var judgement = FleetJudgement.Of(aim, FleetColumns.Of(fleet), Fleets.Now);
                    for (var row = 0; row < fleet.Length; row++)
                        Same(aim, fleet[row], judgement, row, null);
                    var summary = FleetSummary.Of(judgement);
                    Assert.Equal(summary.Machines, summary.Arrived + summary.Open + summary.Undecided + summary.Blocked);
                },
                iter: 1500
            );

    [Fact]
    public void A_machine_judged_again_comes_to_what_judging_all_anew_comes_to() =>
        Gen.Select(Drawn.Fleet, Drawn.Fleet, Aims)
            .Sample(
                (before, after, aim) =>
                {
                    var columns = FleetColumns.Of(before);
                    var judgement = FleetJudgement.Of(aim, columns, Fleets.Now);
                    foreach (var machine in after.Take(before.Length))
                    {
                        columns.Put(machine);
                        judgement.Rejudge(columns.RowOf(machine.Id)!.Value, Fleets.Now);
                    }

                    for (var row = 0; row < columns.Count; row++)
                        Same(aim, columns[row], judgement, row, null);
                }
            );

    [Fact]
    public void What_people_decided_about_a_machine_counts_for_it_alone() =>
        Gen.Select(Drawn.Fleet, Aims)
            .Sample(
                (fleet, aim) =>
                {
                    var of = fleet[0];
                    var unmet = Assessment
                        .Of(aim, of, Moment.Planning, Fleets.Now)
                        .Checks.Where(c => c.State is CheckState.Unmet or CheckState.Unknown);
                    var decisions = new Decisions(
                        [
                            .. unmet.Select(c => new Waiver(
                                c.Check.Name,
                                c.Check.Version,
                                Waiver.SeenIn(c),
                                "r",
                                "planner",
                                Fleets.Now,
                                Fleets.Now.AddDays(1)
                            )),
                        ],
                        new("m0", "r", "planner", Fleets.Now)
                    );
                    var judgement = FleetJudgement.Of(
                        aim,
                        FleetColumns.Of(fleet),
                        Fleets.Now,
                        new Dictionary<MachineId, Decisions> { [of.Id] = decisions }
                    );
                    for (var row = 0; row < fleet.Length; row++)
                        Same(aim, fleet[row], judgement, row, row == 0 ? decisions : null);
                }
            );

    [Fact]
    public void What_opens_the_most_gates_comes_first_and_what_nobody_can_fix_is_left_out()
    {
        var checks = new[]
        {
            Fleets.Check("space", "disk.system.free >= 32 GiB"),
            Fleets.Check("chip", "firmware.tpm.on = yes"),
            Fleets.Check("processor", "hardware.processor = new", by: FixedBy.Nobody),
        };
        var product = Fleets.Product([.. checks], Fleets.Method("image"));
        Machine Desk(int id, string space, string chip, string processor) =>
            Fleets.With(
                ("os.version", "6.4"),
                ("os.product", "Brae Desktop"),
                ("os.edition", "Workplace"),
                ("disk.system.free", space),
                ("firmware.tpm.on", chip),
                ("hardware.processor", processor)
            ) with
            {
                Id = new(id),
                Name = $"desk-{id}",
            };
        var fleet = FleetColumns.Of([
            Desk(1, "10 GiB", "yes", "new"),
            Desk(2, "10 GiB", "no", "new"),
            Desk(3, "64 GiB", "no", "new"),
            Desk(4, "64 GiB", "?", "new"),
            Desk(5, "64 GiB", "no", "old"),
            Desk(6, "64 GiB", "yes", "new"),
        ]);
        var summary = FleetSummary.Of(FleetJudgement.Of(new(product, product.Release("7"), ["image"], Preserves.Full), fleet, Fleets.Now));
        Assert.Equal((6, 1, 1, 4, 1), (summary.Machines, summary.Open, summary.Undecided, summary.Blocked, summary.NotFixable));
        Assert.Equal([("chip", 3, 2, 3), ("space", 2, 2, 5)], summary.ToFix.Select(m => (m.Check.Name, m.Machines, m.Opens, m.OpenThen)));
        Assert.Equal([("chip", 2), ("space", 1), ("processor", 0)], summary.Checks.Select(c => (c.Check.Name, c.Opens)));
    }

    private static void Same(Aim aim, Machine machine, FleetJudgement judgement, int row, Decisions? decisions)
    {
        if (aim.Product.Is.Ask(machine, new EvaluationContext(Fleets.Now)).Value != Kleene.Yes)
        {
            Assert.Equal(Place.Elsewhere, judgement.PlaceOf(row));
            return;
        }

        var slow = Assessment.Of(aim, machine, Moment.Planning, Fleets.Now, decisions);
        var place = slow.Route.Arrived
            ? Place.Arrived
            : slow.State switch
            {
                GateState.Open => Place.Open,
                GateState.Undecided => Place.Undecided,
                _ => Place.Blocked,
            };
        Assert.Equal(
            (place, slow.CannotBeFixed, slow.IsWaitingForOffer),
            (judgement.PlaceOf(row), judgement.IsNotFixable(row), judgement.IsWaitingForOffer(row))
        );
        Assert.Equal(slow.Choice?.Method?.Name, judgement.MethodOf(row)?.Name);
        var expected = slow.Checks.GroupBy(c => c.Check.Name).ToDictionary(g => g.Key, g => g.Max(c => c.State));
        foreach (var column in judgement.Checks)
            Assert.Equal(expected.TryGetValue(column.Check.Name, out var state) ? state : null, column[row]);
        Assert.Equal(!slow.Route.Arrived && (slow.Legs.IsEmpty || slow.Legs.Any(l => l.Gate is null)), judgement.ReasonOf(row) is not null);
    }

    private static Condition Parse(string text) => ConditionParser.Parse(text, Drawn.Keys);

    private static Release Release(string version) =>
        new(version, $"Brae {version}", ReleaseStatus.Available, ImmutableDictionary<string, DateOnly>.Empty)
        {
            Builds = [new($"{version}.0.1", null, ""), new($"{version}.0.2", null, "")],
        };

    private static Hop Hop(string name, string from, string to, Check[] checks) =>
        new(name, [from], to, ImmutableDictionary<string, string>.Empty, [.. checks.DistinctBy(c => c.Name)]);
}
