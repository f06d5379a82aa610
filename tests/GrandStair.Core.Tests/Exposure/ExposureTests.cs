using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Exposure;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Exposure;

public sealed class ExposureTests
{
    private static readonly Product Desktop = Fleets.Product([]) with
    {
        Zone = "Asia/Tokyo",
        Releases =
        [
            new("6", "Brae Desktop 6", ReleaseStatus.Available, Ends(("*", new(2027, 1, 11)), ("Bridge", new(2028, 1, 11)))),
            new("7", "Brae Desktop 7", ReleaseStatus.Recommended, Ends(("*", new(2031, 10, 14)))),
        ],
    };

    private static readonly FleetColumns Fleet = FleetColumns.Of([
        Desk(1, "6.4", "Workplace"),
        Desk(2, "6.4", "Workplace"),
        Desk(3, "6.1", "Bridge"),
        Desk(4, "7.1", "Workplace"),
        Desk(5, "5.0", "Workplace"),
        Desk(6, "6.4", "Workplace") with
        {
            Readings = [],
        },
    ]);

    [Fact]
    public void Machines_are_counted_by_release_and_edition_and_what_ends_first_comes_first()
    {
        var exposure = ProductExposure.Of(Desktop, Fleet, Fleets.Now, null, SiteScope.All);
        Assert.Equal(5, exposure.Machines);
        Assert.Equal(
            [("6", "Workplace", 2, 1), ("6", "Bridge", 1, 366), ("7", "Workplace", 1, 1738), (null, "Workplace", 1, null)],
            exposure.Releases.Select(r => (r.Release?.Version, r.Edition!, r.Machines, r.DaysLeft))
        );
        Assert.Empty(exposure.Fallen);
    }

    [Fact]
    public void A_partly_upgraded_machine_counts_by_the_support_of_what_it_still_runs()
    {
        var partly = Desk(7, "7.1", "Workplace");
        var exposure = ProductExposure.Of(
            Desktop,
            FleetColumns.Of([
                Desk(4, "7.1", "Workplace"),
                partly with
                {
                    Readings = [.. partly.Readings, Fleets.Read(KeyRegistry.PartlyUpgraded, "7", TimeSpan.FromHours(1))],
                },
            ]),
            Fleets.Now,
            new DateOnly(2027, 3, 31),
            SiteScope.All
        );
        Assert.Equal(
            [("7", true, new DateOnly(2027, 1, 11)), ("7", false, new DateOnly(2031, 10, 14))],
            exposure.Releases.Select(r => (r.Release!.Version, r.IsPartly, r.SupportEnds!.Value))
        );
        Assert.Equal(["desk-7"], exposure.Falling.Select(m => m.Name));
    }

    [Fact]
    public void A_day_is_the_vendor_s_day()
    {
        // In Tokyo the twelfth begins nine hours before it does in UTC.
        var lastHour = new DateTimeOffset(2027, 1, 11, 14, 59, 59, TimeSpan.Zero);
        Assert.Empty(ProductExposure.Of(Desktop, Fleet, lastHour, null, SiteScope.All).Fallen);
        var over = ProductExposure.Of(Desktop, Fleet, lastHour.AddSeconds(1), null, SiteScope.All);
        Assert.Equal(["desk-1", "desk-2"], over.Fallen.Select(m => m.Name));
        Assert.Equal(0, over.Releases[0].DaysLeft);
    }

    [Fact]
    public void Machines_whose_support_ends_on_or_before_a_day_are_listed()
    {
        Assert.Equal(
            ["desk-1", "desk-2"],
            ProductExposure.Of(Desktop, Fleet, Fleets.Now, new DateOnly(2027, 3, 31), SiteScope.All).Falling.Select(m => m.Name)
        );
        Assert.Equal(3, ProductExposure.Of(Desktop, Fleet, Fleets.Now, new DateOnly(2028, 1, 12), SiteScope.All).Falling.Length);
        // Support that ends on the day itself counts.
        Assert.Equal(2, ProductExposure.Of(Desktop, Fleet, Fleets.Now, new DateOnly(2027, 1, 11), SiteScope.All).Falling.Length);
        Assert.Empty(ProductExposure.Of(Desktop, Fleet, Fleets.Now, new DateOnly(2027, 1, 10), SiteScope.All).Falling);
    }

    [Fact]
    public void Dependents_are_a_reading_of_what_they_hang_on_as_old_as_the_oldest_of_them()
    {
        var gate = Fleets.Machine("gate-1", []);
        Machine Radio(string name, TimeSpan age, params (string, string)[] values) =>
            Fleets.With(age, [("hangs-on", "gate-1"), .. values]) with
            {
                Name = name,
            };
        var with = Dependents.With(
            gate,
            [
                Radio("radio-2", TimeSpan.FromHours(9), ("hardware.model", "Skua 1")),
                Radio("radio-1", TimeSpan.FromHours(2), ("hardware.model", "-")),
            ]
        );
        var reading = with.Find("dependents")!;
        Assert.Equal(Fleets.Now.AddHours(-9), reading.Seen);
        Assert.Equal(
            ["radio-1, product not known, version not known", "radio-2, model Skua 1, product not known, version not known"],
            reading.Value!.Rows.Select(r => r.Show())
        );
        Assert.Equal(Core.Conditions.Kleene.Unknown, Fleets.Parse("dependents has (version < 3)").Ask(with, new(Fleets.Now)).Value);
        Assert.Null(Dependents.With(with, []).Find("dependents"));
    }

    private static ImmutableDictionary<string, DateOnly> Ends(params (string Edition, DateOnly End)[] ends) =>
        ends.ToImmutableDictionary(e => e.Edition, e => e.End);

    private static Machine Desk(int id, string version, string edition) =>
        Fleets.With(("os.product", "Brae Desktop"), ("os.version", version), ("os.edition", edition)) with
        {
            Id = new(id),
            Name = $"desk-{id}",
        };
}
