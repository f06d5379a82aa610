using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using Xunit;

namespace GrandStair.Core.Tests.Waves;

public sealed class WaveTests
{
    private static readonly Plan Plan = new()
    {
        Name = "winter",
        Product = "Brae Desktop",
        Release = "7",
        Scope = Fleets.Parse("os.version < 7"),
        Methods = ["image"],
        Waves =
        [
            new("Pilot", Fleets.Parse("tag = pilot"), 2),
            new("Offices", Fleets.Parse("power.mains = yes"), null),
            new("Rest", null, null),
        ],
        Windows =
        [
            new(TargetSelector.Everyone, new("Europe/London", [WeeklyRule.Parse("Mon-Fri 19:00-05:00")])),
            new(TargetSelector.At("MV Gannet"), new("Europe/London", [WeeklyRule.Parse("Sun 01:30-03:30")])),
        ],
        Limits = new(3, 2),
        Advance = new(0.9, 1, TimeSpan.FromDays(3)),
    };

    [Fact]
    public void Every_machine_of_the_scope_is_in_one_wave_or_told_as_undecided()
    {
        Machine[] fleet =
        [
            Named("a", "6", "yes", true),
            Named("b", "6", "yes", true),
            Named("c", "6", "yes", true),
            Named("d", "6", "no", false),
            Named("e", "6", "?", false),
            Named("f", "?", "yes", false),
            Named("g", "7", "yes", true),
        ];
        var membership = Membership.Of(Plan, fleet.Reverse(), Fleets.Now, _ => new(true, true));
        Assert.Equal(["a b", "c", "d"], membership.Waves.Select(w => string.Join(' ', w.Select(m => m.Name))));
        Assert.Equal(["e", "f"], membership.Undecided.Select(u => u.Machine.Name));
        Assert.Contains("whether it is in wave Offices: power.mains unreadable", membership.Undecided[0].Why, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("Mon-Fri 19:00-05:00", 5)]
    [InlineData("Sat,Sun 06:00-12:00", 2)]
    [InlineData("Fri-Mon 00:00-00:00", 4)]
    public void A_weekly_rule_names_its_days(string text, int days) => Assert.Equal(days, WeeklyRule.Parse(text).Days.Count);

    [Theory]
    [InlineData("Mon 25:00-05:00")]
    [InlineData("Someday 19:00-05:00")]
    [InlineData("19:00-05:00")]
    [InlineData("Mon 19-05")]
    public void A_weekly_rule_that_is_none_is_refused(string text) =>
        Assert.Contains(
            "expected days and times",
            Assert.Throws<FormatException>(() => WeeklyRule.Parse(text)).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void A_window_over_midnight_keeps_to_the_clock_on_the_wall_when_summer_time_begins_and_ends()
    {
        var rule = WeeklyRule.Parse("Sat 22:00-05:00");
        var spring = rule.Between(Utc(2027, 3, 27), Utc(2027, 3, 29), London).Single();
        Assert.Equal((Utc(2027, 3, 27, 22), Utc(2027, 3, 28, 4)), (spring.From, spring.To));
        var autumn = rule.Between(Utc(2027, 10, 30), Utc(2027, 11, 1), London).Single();
        Assert.Equal((Utc(2027, 10, 30, 21), Utc(2027, 10, 31, 5)), (autumn.From, autumn.To));
    }

    [Theory]
    [InlineData("verified*9 scheduled", 4, true, "9 of 10 verified and soaked")]
    [InlineData("verified*9 scheduled", 2, false, "9 of 10 verified, soaks for 3 d")]
    [InlineData("verified*10", 4, true, "10 of 10 verified and soaked")]
    [InlineData("verified*8 scheduled*2", 4, false, "8 of 10 verified, 9 needed")]
    [InlineData("verified*20 parked stopped", 4, false, "2 parked or stopped")]
    [InlineData("verified*2 not-ready*7 exempt*4", 4, true, "2 of 2")]
    [InlineData("not-ready*3 exempt", 4, false, "none of its machines may go yet, 3 are not ready")]
    [InlineData("exempt*2", 4, true, "exempt")]
    public void The_next_wave_begins_when_the_rule_holds(string statuses, int daysSince, bool holds, string why)
    {
        var all = statuses
            .Split(' ')
            .Select(s => s.Split('*'))
            .SelectMany(s => Enumerable.Repeat(Named<Status>(s[0]), s.Length > 1 ? int.Parse(s[1], null) : 1));
        // The last of them was verified only now; what counts is since when there are enough.
        var verified = all.Count(s => s == Status.Verified);
        var moments = Enumerable.Range(0, verified).Select(i => i > 8 ? Fleets.Now : Fleets.Now.AddDays(-daysSince));
        var advance = Plan.Advance.Evaluate(new(all), moments, Fleets.Now, []);
        Assert.Equal(holds, advance.Holds);
        Assert.Contains(why, advance.Why, StringComparison.Ordinal);
    }

    [Fact]
    public void What_became_not_ready_after_the_wave_had_opened_counts_on_and_is_named()
    {
        var all = Enumerable.Repeat(Status.Verified, 8).Concat([Status.NotReady, Status.NotReady, Status.NotReady]);
        var moments = Enumerable.Repeat(Fleets.Now.AddDays(-4), 8);
        Assert.True(Plan.Advance.Evaluate(new(all), moments, Fleets.Now, []).Holds);
        var advance = Plan.Advance.Evaluate(new(all), moments, Fleets.Now, ["desk-1", "desk-2"]);
        Assert.Equal(
            (false, "8 of 10 verified, 9 needed; not ready any more since the wave opened: desk-1, desk-2"),
            (advance.Holds, advance.Why)
        );
    }

    private static readonly NodaTime.DateTimeZone London = NodaTime.DateTimeZoneProviders.Tzdb["Europe/London"];

    private static T Named<T>(string word)
        where T : struct, Enum => Enum.GetValues<T>().Single(v => RunMachine.Name(v) == word);

    private static DateTimeOffset Utc(int year, int month, int day, int hour = 0) => new(year, month, day, hour, 0, 0, TimeSpan.Zero);

    private static Machine Named(string name, string version, string mains, bool pilot) =>
        Fleets.With(("os.version", version), ("power.mains", mains)) with
        {
            Id = new(name[0]),
            Name = name,
            Tags = pilot ? ["pilot"] : [],
        };
}
