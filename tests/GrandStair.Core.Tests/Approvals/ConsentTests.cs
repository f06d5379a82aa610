using System.Collections.Immutable;
using GrandStair.Core.Approvals;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Approvals;

public sealed class ConsentTests
{
    private static readonly DateTimeOffset Now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);
    private static readonly ConsentRule Asks = ConsentRule.None with { WholePlan = true };
    private static readonly ConsentRule WaveAsks = ConsentRule.None with { Waves = ["Rest"] };

    [Fact]
    public void A_plan_that_asks_for_nothing_needs_nothing_unless_the_service_asks()
    {
        Assert.Empty(Consent.Needed(Facts(ConsentRule.None)));
        var needed = Assert.Single(Consent.Needed(Facts(ConsentRule.None) with { EveryPlan = true }));
        Assert.Equal(("plan", "This service asks for it of every plan."), (needed.Subject, needed.Why));
    }

    [Fact]
    public void A_revision_cannot_relax_the_rule_that_it_is_approved_by()
    {
        var approved = Approve(Facts(Asks), "board", 1);
        Assert.True(Consent.MayGoOn(Consent.Needed(approved)));
        var relaxed = Change(approved, "planner", ConsentRule.None, text: "without approval");
        Assert.False(Consent.MayGoOn(Consent.Needed(relaxed)));
        // Approved, the relaxed rule holds from then on.
        var agreed = Approve(relaxed, "board", 2);
        Assert.True(Consent.MayGoOn(Consent.Needed(agreed)));
        Assert.True(Consent.MayGoOn(Consent.Needed(Change(agreed, "planner", ConsentRule.None, text: "changed again"))));
    }

    [Fact]
    public void A_plan_of_which_waves_ask_needs_an_approval_of_the_whole_once_it_was_changed()
    {
        var made = Facts(WaveAsks);
        Assert.Equal(["wave Rest"], Consent.Needed(made).Select(n => n.Subject));
        Assert.True(Consent.MayOpenRuns(Consent.Needed(made), "Pilot", hasBegun: true));
        Assert.False(Consent.MayOpenRuns(Consent.Needed(made), "Rest", hasBegun: false));
        var moved = made with
        {
            Intent = made.Intent with { Members = [.. made.Intent.Members.Select(m => m with { Wave = 1 })] },
            Changes = made.Changes.Add(new(2, Now, "planner", "moved")),
        };
        Assert.Equal(["plan", "wave Rest"], Consent.Needed(moved).Select(n => n.Subject));
        Assert.False(Consent.MayOpenRuns(Consent.Needed(moved), "Pilot", hasBegun: true));
    }

    [Fact]
    public void An_older_approval_of_the_same_intent_does_not_count_after_a_newer_one()
    {
        var first = Approve(Facts(Asks), "board", 1);
        var second = Approve(Change(first, "planner", Asks, text: "second"), "board", 2);
        var back = Change(second, "planner", Asks, text: first.Intent.Text);
        Assert.Null(Consent.Needed(back).Single().Given);
        Assert.Equal("board", Consent.Needed(back).Single().Before!.By);
    }

    [Fact]
    public void Nobody_whose_change_is_in_the_intent_since_the_last_approval_may_give_the_next_one()
    {
        var facts = Facts(Asks);
        Assert.Equal(["planner"], Consent.Needed(facts).Single().Contributors);
        var approved = Approve(facts, "board", 1);
        var accepted = Change(Change(approved, "second-planner", Asks, text: "wider"), "third", Asks, text: "wider still");
        Assert.Equal(["second-planner", "third"], Consent.Needed(accepted).Single().Contributors);
        var calendars = approved with
        {
            Rules = approved.Rules.SetItem(1, Asks with { OfCalendars = true }),
            Intent = approved.Intent with { Calendars = [new("berths", "h2", Now.AddDays(1), "crew-office")] },
        };
        Assert.Equal(["crew-office"], Consent.Needed(calendars).Single().Contributors);
    }

    [Fact]
    public void What_is_part_of_the_intent_changes_its_hash()
    {
        var intent = Facts(Asks).Intent;
        var hashes = new[]
        {
            intent,
            intent with
            {
                Text = "x",
            },
            intent with
            {
                CatalogueHash = "x",
            },
            intent with
            {
                Members = intent.Members.RemoveAt(0),
            },
            intent with
            {
                Members = intent.Members.SetItem(0, intent.Members[0] with { Wave = 2 }),
            },
            intent with
            {
                Members = intent.Members.SetItem(0, intent.Members[0] with { Method = "start-afresh" }),
            },
            intent with
            {
                Calendars = [new("berths", "h", Now, "x")],
            },
        }.Select(i => i.Hash(null, withCalendars: true));
        Assert.Equal(7, hashes.Distinct().Count());
        Assert.Equal(
            intent.Hash(null, withCalendars: false),
            (intent with { Calendars = [new("berths", "h", Now, "x")] }).Hash(null, withCalendars: false)
        );
        Assert.Equal(
            intent.Hash(2, withCalendars: false),
            (intent with { Members = intent.Members.SetItem(0, intent.Members[0] with { Method = "start-afresh" }) }).Hash(
                2,
                withCalendars: false
            )
        );
    }

    [Fact]
    public void The_stricter_of_two_rules_asks_for_whatever_either_does()
    {
        var both = (
            Asks with
            {
                By =
                [
                    ["board", "harbour"],
                ],
            }
        ).And(
            WaveAsks with
            {
                By =
                [
                    ["harbour"],
                ],
                OfCalendars = true,
            }
        );
        Assert.Equal((true, true, "harbour", "Rest"), (both.WholePlan, both.OfCalendars, both.Approvers.Single(), both.Waves.Single()));
        Assert.Equal(
            ["board"],
            (
                Asks with
                {
                    By =
                    [
                        ["board"],
                    ],
                }
            )
                .And(
                    Asks with
                    {
                        By =
                        [
                            ["planner"],
                        ],
                    }
                )
                .Approvers
        );
    }

    /// <summary>A plan of one machine in each of two waves, as its first revision was made.</summary>
    private static ConsentFacts Facts(ConsentRule rule)
    {
        var intent = new PlanIntent("text", "catalogue", [new(new MachineId(1), 1, null), new(new MachineId(2), 2, null)], []);
        return new(
            intent,
            intent.Hash(null, withCalendars: false),
            ["Pilot", "Rest"],
            ImmutableSortedDictionary<int, ConsentRule>.Empty.Add(1, rule),
            [new(1, Now, "planner", "revision 1")],
            [],
            false
        );
    }

    private static ConsentFacts Change(ConsentFacts facts, string by, ConsentRule rule, string text) =>
        facts with
        {
            Intent = facts.Intent with { Text = text },
            Rules = facts.Rules.Add(facts.Rules.Keys.Last() + 1, rule),
            Changes = facts.Changes.Add(new(facts.Changes.Length + 1, Now, by, "revision")),
        };

    private static ConsentFacts Approve(ConsentFacts facts, string by, int revision) =>
        facts with
        {
            Approvals = facts.Approvals.Add(
                new("plan", Consent.Needed(facts).First(n => n.Subject == "plan").Intent, revision, facts.Changes.Length, by, Now, "fine")
            ),
        };
}
