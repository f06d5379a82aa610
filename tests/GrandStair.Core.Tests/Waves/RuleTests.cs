using System.Collections.Immutable;
using CsCheck;
using GrandStair.Core.Readings;
using GrandStair.Core.Tests.Scheduling;
using GrandStair.Core.Waves;
using NodaTime;
using Xunit;

namespace GrandStair.Core.Tests.Waves;

/// <summary>When something holds, asked moment by moment of the clock on the wall: another way to the same answer.</summary>
public sealed class RuleTests
{
    private static readonly ImmutableDictionary<string, ICalendar> NoCalendars = ImmutableDictionary<string, ICalendar>.Empty;

    // The clocks change between 1 and 3; rules that begin or end there have tests of their own.
    private static readonly Gen<TimeOnly> Time = Gen.Int[16, 95].Select(quarter => new TimeOnly(quarter / 4, quarter % 4 * 15));

    private static readonly Gen<WeeklyRule> Rule = Gen.Select(Gen.Int[1, 127], Time, Time, (days, from, to) =>
        new WeeklyRule([.. Enumerable.Range(0, 7).Where(d => (days >> d & 1) == 1).Select(d => (DayOfWeek)d)], from, to)
    );

    private static readonly Gen<string> Zone = Fleets.Among("Europe/London", "America/New_York", "Pacific/Auckland", "Asia/Kolkata", "UTC");

    /// <summary>Some days, often about a change of the clocks, north or south.</summary>
    private static readonly Gen<DateTimeOffset> Day = Gen.Select(
            Fleets.Among("2027-03-28", "2027-10-31", "2027-03-14", "2027-11-07", "2027-04-04", "2027-09-26", "2027-01-01"),
            Gen.Int[-3, 3]
        )
        .Select(d => new DateTimeOffset(
            DateOnly.Parse(d.Item1, System.Globalization.CultureInfo.InvariantCulture).AddDays(d.Item2),
            TimeOnly.MinValue,
            TimeSpan.Zero
        ));

    private static readonly Gen<TargetSelector> Some = Gen.Select(
            Names("Westhaven", "Eastness"),
            Names("office", "deck"),
            Names("desk-1", "desk-2")
        )
        .Select(n => new TargetSelector(n.Item1, n.Item2, n.Item3));

    [Fact]
    public void A_weekly_rule_that_is_written_is_read_as_it_was() =>
        Rule.Sample(rule =>
        {
            var read = WeeklyRule.Parse(rule.ToString());
            Assert.True(read.Days.SetEquals(rule.Days) && (read.From, read.To) == (rule.From, rule.To), rule.ToString());
        });

    [Fact]
    public void A_weekly_rule_holds_at_just_those_moments_at_which_the_clock_on_the_wall_says_so() =>
        Gen.Select(Rule, Zone, Day)
            .Sample(
                (rule, zone, day) =>
                {
                    var when = new TimeRule(zone, [rule]);
                    var stretches = when.Joined(day, day.AddDays(8), NoCalendars);
                    foreach (var moment in Moments(day))
                        Assert.True(
                            stretches.Any(s => s.From <= moment && moment < s.To) == Holds(rule, zone, moment),
                            $"{rule} in {zone} at {moment:u}"
                        );
                },
                iter: 200
            );

    [Fact]
    public void Days_last_from_midnight_to_midnight_whatever_the_clocks_do() =>
        Gen.Select(Zone, Day, Gen.Int[0, 4])
            .Sample(
                (zone, day, more) =>
                {
                    var span = new DaySpan(DateOnly.FromDateTime(day.UtcDateTime), DateOnly.FromDateTime(day.UtcDateTime).AddDays(more));
                    Assert.Equal(span, DaySpan.Parse(span.ToString()));
                    var stretch = span.In(DateTimeZoneProviders.Tzdb[zone]);
                    var (first, last) = (Local(zone, stretch.From), Local(zone, stretch.To.AddTicks(-1)));
                    Assert.Equal(
                        (span.First, TimeOnly.MinValue, span.Last),
                        (DateOnly.FromDateTime(first), TimeOnly.FromDateTime(first), DateOnly.FromDateTime(last))
                    );
                    Assert.InRange((stretch.To - stretch.From).TotalHours, ((more + 1) * 24) - 1, ((more + 1) * 24) + 1);
                }
            );

    [Fact]
    public void A_machine_may_be_touched_when_the_rules_that_name_it_most_closely_say_so_and_no_freeze_holds() =>
        Gen.Select(Gen.Select(Some, Rule, Zone).Array[1, 5], Gen.Select(Some, Rule, Zone).Array[0, 3], Day)
            .Sample(
                (windows, freezes, day) =>
                {
                    var plan = ScheduleTests.Basic with
                    {
                        Windows = [.. windows.Select(w => new WindowSpec(w.Item1, new(w.Item3, [w.Item2])))],
                        Freezes = [.. freezes.Select(c => new FreezeSpec(c.Item1, new(c.Item3, [c.Item2]), "blocked"))],
                    };
                    var found = new Windows(plan, NoCalendars, day, day.AddDays(8));
                    foreach (
                        var (site, group, machine) in new[]
                        {
                            ("Westhaven", "office", "desk-1"),
                            ("westhaven", "deck", "desk-9"),
                            ("Holm Pier", "Office", "desk-2"),
                            ("Holm Pier", "bridge", "desk-9"),
                            ("Eastness", "bridge", "DESK-1"),
                        }
                    )
                    {
                        // What names the machine, or else its group, or else its site, or else what is for everyone.
                        bool Named(ImmutableArray<string> names, string name) => names.Contains(name, StringComparer.OrdinalIgnoreCase);
                        Func<TargetSelector, bool>[] kinds =
                        [
                            w => Named(w.Machines, machine),
                            w => Named(w.Groups, group),
                            w => Named(w.Sites, site),
                            w => w.IsEveryone,
                        ];
                        var kind = kinds.FirstOrDefault(k => windows.Any(w => k(w.Item1)));
                        var open = found.Of(site, group, machine);
                        foreach (var moment in Moments(day))
                        {
                            var may =
                                kind is not null
                                && windows.Any(w => kind(w.Item1) && Holds(w.Item2, w.Item3, moment))
                                && !freezes.Any(c => kinds.Any(k => k(c.Item1)) && Holds(c.Item2, c.Item3, moment));
                            Assert.True(
                                open.Any(s => s.From <= moment && moment < s.To) == may,
                                $"{machine} of {group} at {site}, {moment:u}"
                            );
                        }
                    }
                },
                iter: 60
            );

    [Fact]
    public void A_uplink_s_minutes_are_those_of_its_hours() =>
        Gen.Select(Rule, Zone, Day, Gen.Int[0, 600], Gen.Int[15, 8000])
            .Sample(
                (rule, zone, day, after, length) =>
                {
                    var uplink = new UplinkSpec(["Westhaven"], 12e6, 0.5, new(zone, [rule]));
                    var (from, to) = (day.AddMinutes(after), day.AddMinutes(after + length));
                    var minutes = Enumerable.Range(0, length).Count(m => Holds(rule, zone, from.AddMinutes(m)));
                    Assert.Equal(minutes, uplink.MinutesBetween(from, to, NoCalendars), 1e-6);
                    Assert.Equal(length, (uplink with { Hours = null }).MinutesBetween(from, to, NoCalendars), 1e-6);
                },
                iter: 60
            );

    private static IEnumerable<DateTimeOffset> Moments(DateTimeOffset day) =>
        Enumerable.Range(0, 8 * 24 * 4).Select(quarter => day.AddMinutes(quarter * 15));

    private static bool Holds(WeeklyRule rule, string zone, DateTimeOffset moment)
    {
        var local = Local(zone, moment);
        var (time, today, yesterday) = (TimeOnly.FromDateTime(local), local.DayOfWeek, local.AddDays(-1).DayOfWeek);
        return rule.To > rule.From
            ? rule.Days.Contains(today) && time >= rule.From && time < rule.To
            : (rule.Days.Contains(today) && time >= rule.From) || (rule.Days.Contains(yesterday) && time < rule.To);
    }

    private static DateTime Local(string zone, DateTimeOffset moment) =>
        Instant.FromDateTimeOffset(moment).InZone(DateTimeZoneProviders.Tzdb[zone]).ToDateTimeUnspecified();

    private static Gen<ImmutableArray<string>> Names(params string[] names) =>
        Gen.Int[0, 5]
            .Select(n =>
                n < names.Length ? ImmutableArray.Create(names[n])
                : n == 2 ? [.. names]
                : []
            );
}
