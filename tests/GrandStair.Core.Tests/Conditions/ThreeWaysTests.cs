using CsCheck;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Core.Tests.Conditions;

/// <summary>The path that explains, the path by columns and SQL in SQLite answer the same.</summary>
public sealed class ThreeWaysTests
{
    private const int Questions = 3;
    private static readonly int Cases = Seeds.Cases(600);

    [Fact]
    public void Thousands_of_drawn_conditions_get_the_same_answer_three_ways()
    {
        var asked = 0;
        Gen.Select(Drawn.Fleet, Drawn.Condition.Array[Questions], Fleets.Among<double?>(null, 1, 72))
            .Sample(
                (fleet, texts, hours) =>
                {
                    var context = new EvaluationContext(Fleets.Now, hours is { } h ? TimeSpan.FromHours(h) : null);
                    using var sql = new SqlFleet(fleet);
                    var columns = FleetColumns.Of(fleet);
                    foreach (var text in texts)
                    {
                        var condition = ConditionParser.Parse(text, Drawn.Keys);
                        var explained = fleet.Select(m => condition.Ask(m, context)).ToArray();
                        var expected = explained.Select(a => a.Value).ToArray();
                        var byColumns = FleetQuestion.Ask(condition, columns, context);
                        Assert.Equal(expected, byColumns.Values);
                        Assert.Equal(expected, sql.Ask(condition, context));
                        Assert.Equal(explained.Min(a => a.Until), byColumns.Until);
                        Interlocked.Increment(ref asked);
                    }
                },
                iter: Cases
            );
        Assert.Equal(Cases * Questions, asked);
    }

    [Fact]
    public void An_answer_holds_until_the_moment_it_names() =>
        Gen.Select(Drawn.Fleet, Drawn.Condition, Fleets.Among<double?>(null, 72))
            .Sample(
                (fleet, text, hours) =>
                {
                    var context = new EvaluationContext(Fleets.Now, hours is { } h ? TimeSpan.FromHours(h) : null);
                    var condition = ConditionParser.Parse(text, Drawn.Keys);
                    foreach (var machine in fleet)
                    {
                        var answer = condition.Ask(machine, context);
                        var last = answer.Until?.AddTicks(-1) ?? Fleets.Now.AddYears(50);
                        Assert.Equal(answer.Value, condition.Ask(machine, context with { Now = last }).Value);
                    }
                }
            );

    [Fact]
    public void A_condition_written_anew_is_read_back_the_same() =>
        Gen.Select(Drawn.Fleet, Drawn.Condition)
            .Sample(
                (fleet, text) =>
                {
                    var condition = ConditionParser.Parse(text, Drawn.Keys);
                    var again = ConditionParser.Parse(condition.Written, Drawn.Keys);
                    Assert.Equal(condition.Written, again.Written);
                    Assert.All(fleet, m => Assert.Equal(condition.Ask(m, new(Fleets.Now)).Value, again.Ask(m, new(Fleets.Now)).Value));
                }
            );

    [Fact]
    public void The_laws_of_three_valued_logic_hold_for_whole_conditions() =>
        Gen.Select(Drawn.Fleet, Drawn.Condition, Drawn.Condition, Drawn.Condition)
            .Sample(
                (fleet, a, b, c) =>
                {
                    var columns = FleetColumns.Of(fleet);
                    void Same(string left, string right) => Assert.Equal(Ask(left), Ask(right));
                    Kleene[] Ask(string text) =>
                        FleetQuestion.Ask(ConditionParser.Parse(text, Drawn.Keys), columns, new(Fleets.Now)).Values;
                    Same($"not (not ({a}))", a);
                    Same($"({a}) and ({b})", $"({b}) and ({a})");
                    Same($"({a}) or (({b}) or ({c}))", $"(({a}) or ({b})) or ({c})");
                    Same($"({a}) and (({b}) or ({c}))", $"(({a}) and ({b})) or (({a}) and ({c}))");
                    Same($"not (({a}) and ({b}))", $"not ({a}) or not ({b})");
                    Same($"({a}) and (({a}) or ({b}))", a);
                }
            );

    [Fact]
    public void Columns_follow_every_machine_that_is_put_in_again() =>
        Gen.Select(Drawn.Fleet, Drawn.Fleet, Drawn.Condition)
            .Sample(
                (before, after, text) =>
                {
                    var columns = FleetColumns.Of(before);
                    foreach (var machine in after)
                        columns.Put(machine);
                    var condition = ConditionParser.Parse(text, Drawn.Keys);
                    var answers = FleetQuestion.Ask(condition, columns, new(Fleets.Now)).Values;
                    for (var row = 0; row < columns.Count; row++)
                        Assert.Equal(condition.Ask(columns[row], new(Fleets.Now)).Value, answers[row]);
                }
            );

    [Fact]
    public void What_is_supposed_stands_in_place_of_what_machines_report()
    {
        var fleet = new[] { Fleets.With(("os.version", "6")), Fleets.Machine("bare", []) with { Id = new(2) } };
        var supposed = Fleets.With(("os.version", "7"));
        var answer = FleetQuestion.Ask(
            Fleets.Parse("os.version >= 7 and os.edition is known"),
            FleetColumns.Of(fleet),
            new(Fleets.Now),
            new Supposed(supposed)
        );
        Assert.Equal([Kleene.No, Kleene.No], answer.Values);
        Assert.Equal(
            [Kleene.Yes, Kleene.Yes],
            FleetQuestion.Ask(Fleets.Parse("os.version >= 7"), FleetColumns.Of(fleet), new(Fleets.Now), new Supposed(supposed)).Values
        );
    }

    private sealed class Supposed(Machine machine) : IReadable
    {
        public Reading? Find(string key) => key == "os.version" ? machine.Find(key) : null;
    }
}
