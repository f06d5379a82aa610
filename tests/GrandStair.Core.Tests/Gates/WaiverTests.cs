using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using Xunit;

namespace GrandStair.Core.Tests.Gates;

public sealed class WaiverTests
{
    private static readonly Check Space = Fleets.Check("space", "disk.system.free >= 32 GiB") with { Waivable = true };

    [Fact]
    public void A_waived_must_opens_the_gate_until_the_waiver_ends()
    {
        var waiver = Waive(Space, ("disk.system.free", "20 GiB"));
        var gate = Judge(Space, waiver, Fleets.Now, ("disk.system.free", "20 GiB"));
        Assert.Equal((GateState.Open, CheckState.Waived), (gate.State, gate.Checks[0].State));
        Assert.Equal(waiver.Until, gate.Until);
        var after = Judge(Space, waiver, waiver.Until, ("disk.system.free", "20 GiB"));
        Assert.Equal(GateState.Blocked, after.State);
        Assert.Contains("the waiver by planner ended on 2027-01-21", after.Checks[0].Lapsed, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("25 GiB", true)]
    [InlineData("20 GiB", true)]
    [InlineData("12 GiB", false)]
    [InlineData("-", false)]
    [InlineData("?", false)]
    public void A_waiver_lapses_when_the_value_gets_worse(string now, bool holds)
    {
        var result = Judge(Space, Waive(Space, ("disk.system.free", "20 GiB")), Fleets.Now, ("disk.system.free", now)).Checks[0];
        Assert.Equal(holds, result.State == CheckState.Waived);
        if (!holds)
            Assert.Contains("was '21474836480 B' when planner waived it", result.Lapsed, StringComparison.Ordinal);
    }

    [Fact]
    public void A_waiver_lapses_when_the_check_changes_or_can_no_longer_be_waived()
    {
        var waiver = Waive(Space, ("disk.system.free", "20 GiB"));
        Assert.Contains(
            "was changed",
            Judge(Space with { Wants = Fleets.Parse("disk.system.free >= 40 GiB") }, waiver, Fleets.Now, ("disk.system.free", "20 GiB"))
                .Checks[0]
                .Lapsed,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "cannot be waived",
            Judge(Space with { Waivable = false }, waiver, Fleets.Now, ("disk.system.free", "20 GiB")).Checks[0].Lapsed,
            StringComparison.Ordinal
        );
        Assert.Equal(
            CheckState.Waived,
            Judge(Space with { Title = "other words" }, waiver, Fleets.Now, ("disk.system.free", "20 GiB")).Checks[0].State
        );
    }

    [Fact]
    public void A_waiver_over_a_table_holds_while_no_further_row_is_in_the_way()
    {
        var apps = Fleets.Check("apps", "not apps has (version < 9)") with { Waivable = true };
        const string one = """[{"name":"Ledger","version":"8.2"},{"name":"Chart","version":"9"}]""";
        var waiver = Waive(apps, ("apps", one));
        Assert.Equal(
            CheckState.Waived,
            Judge(apps, waiver, Fleets.Now, ("apps", """[{"name":"Ledger","version":"8.2"},{"name":"Till","version":"12"}]"""))
                .Checks[0]
                .State
        );
        Assert.NotNull(
            Judge(apps, waiver, Fleets.Now, ("apps", """[{"name":"Ledger","version":"8.2"},{"name":"Till","version":"7"}]"""))
                .Checks[0]
                .Lapsed
        );
    }

    [Fact]
    public void A_check_s_version_says_what_it_asks_and_not_its_words()
    {
        Assert.Equal(Space.Version, (Space with { Title = "x", Fix = new(FixedBy.Vendor, "y", null) }).Version);
        Assert.NotEqual(Space.Version, (Space with { Need = Need.Should }).Version);
        Assert.NotEqual(Space.Version, (Space with { Fresh = TimeSpan.FromDays(1) }).Version);
    }

    private static Waiver Waive(Check check, params (string, string)[] seen)
    {
        var result = Gate.Judge([check], Fleets.With(seen), Moment.Planning, Fleets.Now).Checks[0];
        return new(
            check.Name,
            check.Version,
            Waiver.SeenIn(result),
            "a second disk comes next week",
            "planner",
            Fleets.Now,
            Fleets.Now.AddDays(10)
        );
    }

    private static Gate Judge(Check check, Waiver waiver, DateTimeOffset now, params (string, string)[] values) =>
        Gate.Judge([check], Fleets.With(values), Moment.Planning, now, [waiver]);
}
