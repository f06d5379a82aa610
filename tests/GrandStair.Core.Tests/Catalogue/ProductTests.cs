using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Catalogue;

public sealed class ProductTests
{
    [Theory]
    [InlineData("6", "6")]
    [InlineData("6.4.9", "6")]
    [InlineData("60.1", null)]
    [InlineData("7.1", "7")]
    [InlineData("5", null)]
    [InlineData(null, null)]
    public void A_version_belongs_to_the_release_that_it_begins_with(string? version, string? release) =>
        Assert.Equal(release, Fleets.Product([]).ReleaseOf(version)?.Version);

    [Theory]
    [InlineData("Workplace", "2027-03-31")]
    [InlineData("Kiosk", "2026-12-31")]
    [InlineData(null, "2026-12-31")]
    public void The_end_of_support_is_that_of_the_edition_or_else_of_all(string? edition, string end)
    {
        var ends = new Dictionary<string, DateOnly> { ["Workplace"] = new(2027, 3, 31), ["*"] = new(2026, 12, 31) }.ToImmutableDictionary();
        var release = new Release("6", "Brae Desktop 6", ReleaseStatus.Available, ends);
        Assert.Equal(end, release.SupportEnd(edition)?.ToString("yyyy-MM-dd", null));
        Assert.Null(
            new Release("6", "Brae Desktop 6", ReleaseStatus.Available, ImmutableDictionary<string, DateOnly>.Empty).SupportEnd(edition)
        );
    }

    [Fact]
    public void A_method_s_slot_holds_only_what_must_be_in_it_and_knows_what_follows_the_point_of_no_return()
    {
        var method = Fleets.Method("image");
        Assert.Equal(TimeSpan.FromMinutes(5 + 40 + 5 + 5), method.Typical.Slot);
        Assert.Equal(TimeSpan.FromMinutes(40 + 5 + 5), method.Typical.AfterPointOfNoReturn);
    }

    [Fact]
    public void A_condition_names_the_keys_that_it_looks_at_and_keeps_its_text()
    {
        const string text = "os.version < 7 and (firmware.tpm.on = yes or not os.version older than 3 d)";
        var condition = Fleets.Parse(text);
        Assert.Equal(["os.version", "firmware.tpm.on"], condition.Keys);
        Assert.Equal(text, condition.ToString());
    }

    [Fact]
    public void What_the_fleet_says_of_a_machine_never_grows_old()
    {
        var machine = Fleets.With(TimeSpan.FromDays(400), ("os.version", "6"));
        var answer = Fleets
            .Parse("site = Westhaven and tag = pilot")
            .Ask(machine, new EvaluationContext(Fleets.Now, TimeSpan.FromMinutes(1)));
        Assert.Equal((Kleene.Yes, (DateTimeOffset?)null), (answer.Value, answer.Until));
        Assert.Equal(
            Kleene.Unknown,
            Fleets.Parse("os.version = 6").Ask(machine, new EvaluationContext(Fleets.Now, TimeSpan.FromMinutes(1))).Value
        );
        Assert.Equal("fleet", machine.Find("name")!.Source);
        Assert.Null(machine.Find("os.edition"));
        Assert.Equal(ReadingState.Value, machine.Find("connection")!.State);
    }
}
