using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Files.Plans;
using Xunit;

namespace GrandStair.Core.Tests.Waves;

public sealed class UnknownNameTests
{
    private const string Plan = """
        plan: winter
        target: { product: Brae Desktop, release: "7", but: [{ groups: [TILLS], release: "8" }, { sites: [Harbour], release: "8" }] }
        scope: os.version < 7
        methods: [image, media]
        waves: [{ name: All }]
        windows:
          - { zone: Europe/London, weekly: ["Mon-Fri 19:00-05:00"] }
          - { machines: [desk-1, dsk-2], zone: Europe/London, weekly: ["Sat 19:00-05:00"] }
        freezes: [{ sites: [Westhavn], zone: Europe/London, days: [2027-02-01], why: regatta }]
        limits: { all: 4 }
        uplinks: [{ sites: [westhaven, "MV Gannet"], rate: 20 Mbit/s }]
        crews:
          - { name: shore, kind: terminal-it, hands: 1, zone: UTC, weekly: ["Sat 08:00-18:00"] }
          - { name: deck, kind: deck-ti, hands: 1, sites: [Eastness], zone: UTC, weekly: ["Sat 08:00-18:00"] }
        advance: { verified: 100 % }
        """;

    [Fact]
    public void Names_that_mean_nothing_in_the_fleet_are_listed_with_where_they_stand_and_the_nearest_one()
    {
        var product = Fleets.Product([], Fleets.Method("image"), Fleets.Method("media") with { Needs = new(Crew: "terminal-it") });
        var plan = PlanFile.Parse(Plan, KeyRegistry.BuiltIn, null, "plan.yaml");
        Machine[] fleet = [Desk("desk-1", "Westhaven"), Desk("desk-2", "Eastness")];
        Assert.Equal(
            [
                "windows[2]: machine 'dsk-2' has no effect, there is none; did you mean 'desk-2'?",
                "freezes[1]: site 'Westhavn' has no effect, it has no machines; did you mean 'Westhaven'?",
                "target.but[2]: site 'Harbour' has no effect, it has no machines.",
                "uplinks[1]: site 'MV Gannet' has no effect, it has no machines.",
                "crews.deck: kind 'deck-ti' has no effect, no method of the plan needs it.",
            ],
            UnknownNames.In(plan, product, fleet)
        );
    }

    private static Machine Desk(string name, string site) => Fleets.Machine(name, [], site) with { Group = "tills" };
}
