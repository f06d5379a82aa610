using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readiness;
using GrandStair.Core.Routes;
using Xunit;

namespace GrandStair.Core.Tests.Gates;

public sealed class GateTests
{
    private static readonly Check Chip = Fleets.Check("chip", "firmware.tpm.on = yes", fresh: TimeSpan.FromHours(24));
    private static readonly Check Patched = Fleets.Check("patched", "patches.pending = 0");

    [Fact]
    public void A_gate_is_open_when_every_must_is_met() =>
        Assert.Equal(GateState.Open, Judge([Chip, Patched], ("firmware.tpm.on", "yes"), ("patches.pending", "0")).State);

    [Fact]
    public void A_gate_is_blocked_when_a_must_is_unmet_and_says_what_was_seen()
    {
        var gate = Judge([Chip, Patched], ("firmware.tpm.on", "no"), ("patches.pending", "?"));
        Assert.Equal(GateState.Blocked, gate.State);
        Assert.Equal("no", gate.InTheWay.First().Seen[0].Reading!.Show());
        Assert.Equal(["chip", "patched"], gate.InTheWay.Select(c => c.Check.Name));
    }

    [Fact]
    public void A_gate_is_undecided_when_a_must_reading_is_stale()
    {
        var gate = Gate.Judge([Chip], Fleets.With(TimeSpan.FromHours(25), ("firmware.tpm.on", "yes")), Moment.Planning, Fleets.Now);
        Assert.Equal((GateState.Undecided, CheckState.Unknown), (gate.State, gate.Checks[0].State));
    }

    [Fact]
    public void An_unmet_should_is_a_caution_and_leaves_the_gate_open()
    {
        var gate = Judge([Fleets.Check("memory", "hardware.memory >= 8 GiB", Need.Should)], ("hardware.memory", "4 GiB"));
        Assert.Equal(GateState.Open, gate.State);
        Assert.Single(gate.Cautions);
    }

    [Fact]
    public void A_check_that_is_asked_later_is_deferred_and_one_that_was_asked_is_gone()
    {
        var mains = Fleets.Check("mains", "power.mains = yes", moments: Moment.Start);
        Assert.Equal(CheckState.Deferred, Gate.Judge([mains], Fleets.With(), Moment.Planning, Fleets.Now).Checks[0].State);
        Assert.Empty(Gate.Judge([mains], Fleets.With(), Moment.Protected, Fleets.Now).Checks);
    }

    [Fact]
    public void A_check_that_does_not_apply_is_not_asked_and_one_of_which_it_cannot_be_told_is_unknown()
    {
        var check = Fleets.Check("mains", "power.mains = yes", appliesTo: "hardware.model like \"Lap*\"");
        Assert.Equal(CheckState.NotApplicable, Judge([check], ("hardware.model", "Tower")).Checks[0].State);
        Assert.Equal(CheckState.Unknown, Judge([check], ("power.mains", "yes")).Checks[0].State);
    }

    [Fact]
    public void The_first_method_that_suits_is_chosen_with_the_reason_against_those_before()
    {
        var product = Fleets.Product(
            [Chip],
            Fleets.Method("channel", "patches.pending = 5"),
            Fleets.Method("fresh", preserves: Preserves.None),
            Fleets.Method("image")
        );
        var choice = Choose(product, ["channel", "fresh", "no-such", "image"], ("patches.pending", "0"), ("firmware.tpm.on", "yes"));
        Assert.Equal("image", choice.Method!.Name);
        Assert.Equal(["channel", "fresh", "no-such"], choice.Rejected.Select(a => a.Method));
        Assert.Contains("found: 0", choice.Rejected[0].Why, StringComparison.Ordinal);
        Assert.Contains("preserves none", choice.Rejected[1].Why, StringComparison.Ordinal);
    }

    [Fact]
    public void A_choice_that_cannot_be_told_never_falls_through_to_a_method_that_preserves_less()
    {
        var product = Fleets.Product([], Fleets.Method("image", "patches.pending = 0"), Fleets.Method("fresh", preserves: Preserves.None));
        var choice = Choose(product, ["image", "fresh"], Preserves.None, ("patches.pending", "?"));
        Assert.Null(choice.Method);
        Assert.True(choice.Unknown);
    }

    [Fact]
    public void A_method_whose_own_check_nobody_can_fix_is_passed_over()
    {
        var product = Fleets.Product(
            [],
            Fleets.Method("image", null, Preserves.Full, Fleets.Check("disk", "disk.system.size >= 200 GiB", by: FixedBy.Nobody)),
            Fleets.Method("channel")
        );
        Assert.Equal("channel", Choose(product, ["image", "channel"], ("disk.system.size", "100 GiB")).Method!.Name);
    }

    [Theory]
    [InlineData("6.4", "Workplace", "7", "6-to-7")]
    [InlineData("6.4", "Counter", "8", "6-to-7 7-to-8")]
    [InlineData("7.1", "Workplace", "8", "7-to-8")]
    public void A_route_is_the_chain_of_hops_to_the_target(string version, string edition, string target, string hops)
    {
        var route = Route(version, edition, target);
        Assert.True(route.Exists);
        Assert.Equal(hops, string.Join(' ', route.Hops.Select(h => h.Name)));
    }

    [Theory]
    [InlineData("6.4", "Kiosk", "7", "edition 'Kiosk' cannot upgrade by hop")]
    [InlineData("7.0", "Counter", "8", "edition 'Counter' cannot upgrade by hop")]
    [InlineData("8", "Workplace", "7", "newer than")]
    [InlineData("5.1", "Workplace", "7", "no release that the catalogue knows")]
    [InlineData("6.4", "-", "7", "edition (os.edition) is not known")]
    [InlineData("?", "Workplace", "7", "os.version is not known")]
    public void Where_there_is_no_route_it_says_what_is_missing(string version, string edition, string target, string says) =>
        Assert.Contains(says, Route(version, edition, target).Why, StringComparison.Ordinal);

    [Fact]
    public void A_machine_that_runs_the_target_has_arrived() => Assert.True(Route("7.1", "Workplace", "7").Arrived);

    [Fact]
    public void An_assessment_sums_up_why_a_machine_cannot_go()
    {
        var product = Fleets.Product(
            [Chip, Fleets.Check("processor", "hardware.processor = new", by: FixedBy.Nobody)],
            Fleets.Method("image")
        );
        var machine = Fleets.With(
            ("os.version", "6.4"),
            ("os.edition", "Workplace"),
            ("firmware.tpm.on", "?"),
            ("hardware.processor", "old")
        );
        var assessment = Assessment.Of(new(product, product.Releases[1], ["image"], Preserves.Full), machine, Moment.Planning, Fleets.Now);
        Assert.Equal(GateState.Blocked, assessment.State);
        Assert.True(assessment.CannotBeFixed);
        Assert.Equal("unknown: chip; processor", assessment.Why);
    }

    private static Gate Judge(Check[] checks, params (string, string)[] values) =>
        Gate.Judge(checks, Fleets.With(values), Moment.Planning, Fleets.Now);

    private static MethodChoice Choose(Product product, string[] preference, params (string, string)[] values) =>
        Choose(product, preference, Preserves.Full, values);

    private static MethodChoice Choose(Product product, string[] preference, Preserves preserves, params (string, string)[] values) =>
        MethodChoice.Choose(
            new(product, product.Hops[0], product.Hops[0].Checks, null),
            preference,
            preserves,
            Fleets.With(values),
            Moment.Planning,
            Fleets.Now,
            Decisions.None
        );

    private static Route Route(string version, string edition, string target)
    {
        var product = Fleets.Product([]);
        return RouteFinder.Find(
            product,
            Fleets.With(("os.version", version), ("os.edition", edition)),
            product.Release(target),
            Fleets.Now
        );
    }
}
