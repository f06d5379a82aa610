using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Routes;
using Xunit;

namespace GrandStair.Core.Tests.Routes;

public sealed class RouteTests
{
    private static readonly ImmutableDictionary<string, string> Folding = new Dictionary<string, string>
    {
        ["Workplace"] = "Workplace",
        ["Counter"] = "Workplace",
    }.ToImmutableDictionary();

    private static readonly Product Two = Fleets.Product([], Fleets.Method("image")) with
    {
        Hops = [Hop("6-to-7", "6", "7"), Hop("7-to-8", "7", "8"), Hop("6-to-8", "6", "8")],
        Methods =
        [
            Fleets.Method("image"),
            Fleets.Method("long") with
            {
                Hops = ["6-to-8"],
                Steps = [.. Fleets.Steps().Select(s => s with { Typical = s.Typical * 4 })],
            },
        ],
    };

    [Fact]
    public void The_route_that_is_out_of_service_for_the_shortest_time_wins_and_says_why_the_other_lost()
    {
        var route = Find(Two, "6.4", "8");
        Assert.Equal("6-to-7 7-to-8", Names(route));
        var lost = Assert.Single(route.Alternatives);
        Assert.Equal("6-to-8", Assert.Single(lost.Hops).Name);
        Assert.Contains("out of service for 1.8 h longer", lost.Why, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("7.1", "7", "7", "6-to-7")]
    [InlineData("7.1", "7", "8", "6-to-7 7-to-8")]
    [InlineData("6.4", "7", "7", "6-to-7")]
    [InlineData("7.1", "8", "8", "7-to-8")]
    public void A_machine_that_was_upgraded_only_partly_has_not_arrived_and_its_hop_is_finished_first(
        string version,
        string partly,
        string target,
        string hops
    )
    {
        var machine = Fleets.With(("os.version", version), ("os.edition", "Workplace"), (KeyRegistry.PartlyUpgraded, partly));
        var route = RouteFinder.Find(Two, machine, Two.Release(target), Fleets.Now);
        Assert.False(route.Arrived);
        Assert.Equal(partly, route.PartlyTo!.Version);
        Assert.Equal(hops, Names(route));
    }

    [Fact]
    public void A_machine_whose_upgrade_is_known_to_be_complete_has_arrived()
    {
        var route = RouteFinder.Find(
            Two,
            Fleets.With(("os.version", "7.1"), ("os.edition", "Workplace"), (KeyRegistry.PartlyUpgraded, "-")),
            Two.Release("7"),
            Fleets.Now
        );
        Assert.True(route.Arrived);
        Assert.Null(route.PartlyTo);
        var nowhere = RouteFinder.Find(
            Two,
            Fleets.With(("os.version", "6.4"), ("os.edition", "Workplace"), (KeyRegistry.PartlyUpgraded, "6")),
            Two.Release("7"),
            Fleets.Now
        );
        Assert.Equal("it was upgraded to Brae Desktop 6 only partly, and no hop leads there", nowhere.Why);
    }

    [Fact]
    public void Fewer_known_issues_count_more_than_a_shorter_outage()
    {
        var issue = Issue("audio", "7", fixedIn: null);
        var route = Find(Two with { KnownIssues = [issue] }, "6.4", "8");
        Assert.Equal("6-to-8", Names(route));
        Assert.Contains("leaves 1 more known issue", route.Alternatives[0].Why, StringComparison.Ordinal);
    }

    [Fact]
    public void An_edition_folds_along_the_way()
    {
        var product = Two with
        {
            Hops =
            [
                Hop("6-to-7", "6", "7") with
                {
                    Editions = Folding,
                },
                Hop("7-to-8", "7", "8") with
                {
                    Editions = new Dictionary<string, string> { ["Workplace"] = "Office" }.ToImmutableDictionary(),
                },
            ],
        };
        Assert.Equal(["Workplace", "Office"], Find(product, "6.4", "8", "Counter").Editions);
        Assert.Equal("edition 'Kiosk' cannot upgrade by hop 6-to-7; possible: Counter, Workplace", Find(product, "6.4", "8", "Kiosk").Why);
    }

    [Fact]
    public void The_build_is_the_first_that_spares_this_machine_every_must_issue()
    {
        var product = Two with
        {
            Releases =
            [
                Two.Releases[0],
                Two.Releases[1] with
                {
                    Builds = [new("7.0.1", null, ""), new("7.0.2", null, ""), new("7.0.4", null, "")],
                },
                Two.Releases[2],
            ],
            KnownIssues =
            [
                Issue("slow", "7", fixedIn: "7.0.2", touches: "hardware.model = Sound"),
                Issue("chart", "7", since: "7.0.2", fixedIn: "7.0.4"),
            ],
        };
        Assert.Equal("7.0.4", Find(product, "6.4", "7", model: "Sound").Build);
        Assert.Equal("7.0.1", Find(product, "6.4", "7", model: "Tarn").Build);
        Assert.Null(Find(product with { KnownIssues = [] }, "6.4", "7").Build);
        // The model was never seen: then it may be touched, and the later build is taken.
        Assert.Equal("7.0.4", Find(product, "6.4", "7").Build);
    }

    [Theory]
    [InlineData(
        "7.0.2",
        "7.0.1",
        GateState.Blocked,
        "it runs Brae Desktop 7 in build 7.0.1; install the release's patches until it has build 7.0.2 or later"
    )]
    [InlineData(
        "7.0.2",
        null,
        GateState.Undecided,
        "it runs Brae Desktop 7, but its os.build is not known; build 7.0.2 or later is needed"
    )]
    [InlineData("7.0.2", "7.0.2", GateState.Open, null)]
    [InlineData(null, "7.0.1", GateState.Open, null)]
    public void A_machine_on_the_target_release_has_arrived_only_with_a_build_that_will_do(
        string? least,
        string? build,
        GateState state,
        string? why
    )
    {
        var product = Two with { BuildKey = "os.build" };
        var aim = new Aim(product, product.Release("7"), [.. product.Methods.Select(m => m.Name)], Preserves.Full) { LeastBuild = least };
        var machine = Fleets.With([
            ("os.version", "7"),
            ("os.edition", "Workplace"),
            .. build is null ? [] : new[] { ("os.build", build) },
        ]);
        var assessment = Assessment.Of(aim, machine, Moment.Planning, Fleets.Now);
        Assert.Equal(
            (state, why, state == GateState.Open, false),
            (assessment.State, assessment.Why, assessment.Route.Arrived, assessment.CannotBeFixed)
        );
    }

    [Fact]
    public void A_known_issue_that_a_later_build_fixes_keeps_a_machine_from_having_arrived()
    {
        var product = Two with { BuildKey = "os.build", KnownIssues = [Issue("chart", "7", fixedIn: "7.0.4")] };
        Assert.Equal((false, true, "7.0.4"), Arrival("7.0.1"));
        Assert.Equal((true, false, null), Arrival("7.0.4"));

        (bool, bool, string?) Arrival(string build)
        {
            var route = RouteFinder.Find(product, Fleets.With(("os.version", "7"), ("os.build", build)), product.Release("7"), Fleets.Now);
            return (route.Arrived, route.NeedsPatches, route.Build);
        }
    }

    [Fact]
    public void The_build_that_the_plan_wants_is_asked_for_on_the_last_hop_alone_and_leaves_out_issues_that_it_fixes()
    {
        var product = Two with
        {
            BuildKey = "os.build",
            Releases =
            [
                Two.Releases[0],
                Two.Releases[1],
                Two.Releases[2] with
                {
                    Builds = [new("8.0.1", null, ""), new("8.0.2", null, ""), new("8.0.3", null, "")],
                },
            ],
            KnownIssues = [Issue("chart", "8", fixedIn: "8.0.2") with { Need = Need.Should }],
            Hops = Two.Hops.RemoveAt(2),
        };
        var machine = Fleets.With(("os.version", "6.4"), ("os.edition", "Workplace"));
        var aim = new Aim(product, product.Release("8"), ["in-place"], Preserves.Full) { LeastBuild = "8.0.2" };
        var route = aim.RouteOf(machine, product.IssuesTouching(machine, Fleets.Now));
        Assert.Equal(("6-to-7 7-to-8", "8.0.2"), (Names(route), route.Build));
        Assert.Empty(route.Issues);
        Assert.Equal([null, "8.0.2"], route.Hops.Select(h => aim.LeastBuildOf(h, machine)));
        Assert.Equal("build", product.ChecksOf(route.Hops[1], Fleets.Method("m"), machine, Fleets.Now, "8.0.2").Last().Name);
        Assert.DoesNotContain(product.ChecksOf(route.Hops[1], Fleets.Method("m"), machine, Fleets.Now, null), c => c.Name == "build");
    }

    [Fact]
    public void A_method_that_needs_the_owner_there_is_not_chosen_for_a_machine_without_one()
    {
        var product = Two with { Methods = [Fleets.Method("carried") with { Needs = new(OwnerPresent: true) }, Fleets.Method("in-place")] };
        var aim = new Aim(product, product.Release("7"), ["carried", "in-place"], Preserves.Full);
        var machine = Fleets.With(("os.version", "6.4"), ("os.edition", "Workplace"));
        var without = Assessment.Of(aim, machine, Moment.Planning, Fleets.Now).Choice!;
        Assert.Equal(
            ("in-place", "its owner has to be there, and the machine has none"),
            (without.Method!.Name, without.Rejected.Single().Why)
        );
        Assert.Equal("carried", Assessment.Of(aim, machine with { Owner = "deck-it" }, Moment.Planning, Fleets.Now).Choice!.Method!.Name);
    }

    [Fact]
    public void A_must_issue_that_no_build_fixes_blocks_the_gate_and_one_of_which_it_cannot_be_told_touches()
    {
        var product = Two with { KnownIssues = [Issue("radio", "7", fixedIn: null, touches: "hardware.model = Sound")] };
        Assert.Equal((GateState.Blocked, "radio"), Judge(product, "7", ("hardware.model", "Sound")));
        Assert.Equal((GateState.Blocked, "radio"), Judge(product, "7"));
        Assert.Equal((GateState.Open, null), Judge(product, "7", ("hardware.model", "Tarn")));
    }

    [Theory]
    [InlineData("6.4", "9", "the hops from Brae Desktop 6 lead up to Brae Desktop 8, and none leads on to Brae Desktop 9")]
    [InlineData("8", "9", "no hop leads from Brae Desktop 8 to Brae Desktop 9")]
    public void A_missing_hop_is_told_in_a_sentence(string version, string target, string says) =>
        Assert.Equal(
            says,
            Find(
                Two with
                {
                    Releases = Two.Releases.Add(Two.Releases[0] with { Version = "9", Name = "Brae Desktop 9" }),
                },
                version,
                target
            ).Why
        );

    [Fact]
    public void A_withdrawn_release_is_neither_target_nor_on_the_way()
    {
        var product = Two with { Releases = [Two.Releases[0], Two.Releases[1] with { Status = ReleaseStatus.Withdrawn }, Two.Releases[2]] };
        Assert.Equal("6-to-8", Names(Find(product, "6.4", "8")));
        Assert.Contains("was withdrawn and is no target", Find(product, "6.4", "7").Why, StringComparison.Ordinal);
        Assert.Contains(
            "hop 6-to-7 leads over Brae Desktop 7, which was withdrawn",
            Find(product with { Hops = product.Hops.RemoveAt(2) }, "6.4", "8").Why,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void Parts_are_raised_in_their_order_and_only_as_far_as_the_release_needs()
    {
        var product = Components();
        Assert.Equal("firmware-2-to-3 6-to-7 radios-4-to-5", Names(Find(product, "6.4", "7", components: ("2.1", "4"))));
        Assert.Equal("6-to-7", Names(Find(product, "6.4", "7", components: ("3", "5"))));
        Assert.Contains(
            "no hop raises its firmware from 1.0 to 3",
            Find(product, "6.4", "7", components: ("1.0", "5")).Why,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "version of its radios (os.build) is not known",
            Find(product, "6.4", "7", components: ("3", "?")).Why,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void What_an_earlier_hop_brings_is_deferred_and_what_it_does_not_bring_blocks_the_later_leg()
    {
        var wants = Fleets.Check("chip", "firmware.tpm >= 2.0");
        Product With(string brings) =>
            Two with
            {
                Hops =
                [
                    Hop("6-to-7", "6", "7") with
                    {
                        Brings = ImmutableDictionary<string, ReadingValue>.Empty.Add(
                            "firmware.tpm",
                            ReadingValue.Parse(ValueKind.Version, brings, out _)!
                        ),
                    },
                    Hop("7-to-8", "7", "8") with
                    {
                        Checks = [wants],
                    },
                ],
            };
        var brought = Assess(With("2.0"), "8", ("firmware.tpm", "1.2"));
        Assert.Equal(GateState.Open, brought.State);
        Assert.Equal(CheckState.Deferred, brought.Legs[1].Gate!.Checks.Single().State);
        var tooOld = Assess(With("1.4"), "8", ("firmware.tpm", "1.2"));
        Assert.Equal((GateState.Blocked, "chip (7-to-8)"), (tooOld.State, tooOld.Why));
    }

    [Fact]
    public void Eligible_but_not_offered_is_a_state_of_its_own()
    {
        var product = Two with
        {
            Releases =
            [
                Two.Releases[0],
                Two.Releases[1] with
                {
                    Status = ReleaseStatus.PhasedIn,
                    OfferedTo = Fleets.Parse("patches.pending = 7"),
                },
                Two.Releases[2],
            ],
            Methods = [Fleets.Method("channel", "patches.pending = 7")],
        };
        var waiting = Assess(product, "7", ("patches.pending", "0"));
        Assert.True(waiting.IsWaitingForOffer);
        Assert.Equal((Offer.NotYet, GateState.Blocked, false), (waiting.Offer, waiting.State, waiting.CannotBeFixed));
        Assert.StartsWith("eligible, not offered yet:", waiting.Why, StringComparison.Ordinal);
        Assert.Equal(Offer.Offered, Assess(product, "7", ("patches.pending", "7")).Offer);
        Assert.Equal(Offer.Unknown, Assess(product, "7").Offer);
    }

    private static Product Components() =>
        Two with
        {
            Components =
            [
                new("firmware", "Firmware", "firmware.tpm"),
                new("system", "System", "os.version"),
                new("radios", "Radios", "os.build"),
            ],
            Releases =
            [
                Two.Releases[0],
                Two.Releases[1] with
                {
                    Components = new Dictionary<string, string> { ["firmware"] = "3", ["radios"] = "5" }.ToImmutableDictionary(),
                },
            ],
            Hops =
            [
                Hop("6-to-7", "6", "7"),
                Hop("firmware-2-to-3", "2", "3") with
                {
                    Component = "firmware",
                },
                Hop("radios-4-to-5", "4", "5") with
                {
                    Component = "radios",
                },
            ],
            Methods = [Fleets.Method("image") with { Hops = ["6-to-7", "firmware-2-to-3", "radios-4-to-5"] }],
        };

    private static Hop Hop(string name, string from, string to) => new(name, [from], to, ImmutableDictionary<string, string>.Empty, []);

    private static KnownIssue Issue(
        string name,
        string release,
        string? since = null,
        string? fixedIn = null,
        string touches = "name like \"*\""
    ) =>
        new()
        {
            Name = name,
            Title = name,
            Release = release,
            Need = Need.Must,
            Touches = Fleets.Parse(touches),
            Since = since,
            FixedIn = fixedIn,
            Fix = new(FixedBy.Vendor, "wait for a fixed build", null),
        };

    private static Route Find(
        Product product,
        string version,
        string target,
        string edition = "Workplace",
        string? model = null,
        (string Firmware, string Radios)? components = null
    ) =>
        RouteFinder.Find(
            product,
            Fleets.With([
                ("os.version", version),
                ("os.edition", edition),
                .. model is null ? [] : new[] { ("hardware.model", model) },
                .. components is { } p ? new[] { ("firmware.tpm", p.Firmware), ("os.build", p.Radios) } : [],
            ]),
            product.Release(target),
            Fleets.Now
        );

    private static Assessment Assess(Product product, string target, params (string, string)[] values) =>
        Assessment.Of(
            new(product, product.Release(target), [.. product.Methods.Select(m => m.Name)], Preserves.Full),
            Fleets.With([("os.version", "6.4"), ("os.edition", "Workplace"), .. values]),
            Moment.Planning,
            Fleets.Now
        );

    private static (GateState, string?) Judge(Product product, string target, params (string, string)[] values) =>
        Assess(product, target, values) is var a ? (a.State, a.Why) : default;

    private static string Names(Route route) => string.Join(' ', route.Hops.Select(h => h.Name));
}
