using CsCheck;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Conditions;

public sealed class ConditionTests
{
    private static readonly Machine Desk = Fleets.With(
        ("os.product", "Brae Desktop"),
        ("os.version", "6.10"),
        ("disk.system.free", "41 GiB"),
        ("firmware.tpm", "2.0"),
        ("firmware.tpm.on", "no"),
        ("patches.pending", "0"),
        ("os.edition", "-"),
        ("power.mains", "?"),
        ("backup.last", "2027-01-08T12:00:00Z")
    );

    [Theory]
    [InlineData("os.product = \"brae desktop\"", Kleene.Yes)]
    [InlineData("os.version > 6.9", Kleene.Yes)]
    [InlineData("os.version = 6.1", Kleene.No)]
    [InlineData("disk.system.free >= 41 GiB and disk.system.free < 45 GB", Kleene.Yes)]
    [InlineData("firmware.tpm >= 2.0 and firmware.tpm.on = on", Kleene.No)]
    [InlineData("not firmware.tpm.on = yes", Kleene.Yes)]
    [InlineData("os.version in (6.9, 6.10)", Kleene.Yes)]
    [InlineData("os.version between 6.10 and 7", Kleene.Yes)]
    [InlineData("name like \"DESK-?\"", Kleene.Yes)]
    [InlineData("name like \"*-2\"", Kleene.No)]
    [InlineData("tag = pilot", Kleene.Yes)]
    [InlineData("site != Westhaven or patches.pending = 0", Kleene.Yes)]
    [InlineData("backup.last >= 7 d ago", Kleene.Yes)]
    [InlineData("backup.last >= 2 d ago", Kleene.No)]
    [InlineData("os.edition = Workplace", Kleene.No)]
    [InlineData("os.edition is absent and os.edition is known", Kleene.Yes)]
    [InlineData("os.edition != Workplace", Kleene.No)]
    [InlineData("os.edition not in (Workplace)", Kleene.No)]
    [InlineData("os.edition not like \"W*\"", Kleene.No)]
    [InlineData("not (os.edition like \"W*\")", Kleene.Yes)]
    [InlineData("group is absent and owner is absent", Kleene.Yes)]
    [InlineData("group = tills or group != tills or group not in (tills)", Kleene.No)]
    [InlineData("os.version not between 6 and 6.5 and os.version not in (7)", Kleene.Yes)]
    [InlineData("OS.Version = 6.10 and Disk.System.Free > 1 gib", Kleene.Yes)]
    [InlineData("power.mains = yes", Kleene.Unknown)]
    [InlineData("power.mains is known", Kleene.No)]
    [InlineData("power.mains = yes or os.version > 6", Kleene.Yes)]
    [InlineData("power.mains = yes and os.version > 7", Kleene.No)]
    [InlineData("not power.mains = yes", Kleene.Unknown)]
    [InlineData("hardware.model = \"Tarn 4\"", Kleene.Unknown)]
    [InlineData("hardware.model older than 1 d", Kleene.Yes)]
    [InlineData("os.version older than 30 min and not os.version older than 2 h", Kleene.Yes)]
    [InlineData("site = Eastness and (power.mains = yes or os.version > 6)", Kleene.No)]
    public void A_condition_answers_in_three_values(string text, Kleene expected) =>
        Assert.Equal(expected, Fleets.Parse(text).Ask(Desk, new EvaluationContext(Fleets.Now)).Value);

    [Theory]
    [InlineData("firmwre.tpm >= 2.0", 1, "did you mean 'firmware.tpm'")]
    [InlineData("os.version > 6 and disk.system.fre > 1 GiB", 20, "did you mean 'disk.system.free'")]
    [InlineData("disk.system.free >= 64", 21, "GiB")]
    [InlineData("disk.system.free >= 2 h", 21, "expected a number with one of the units")]
    [InlineData("os.product > \"Brae\"", 12, "needs something with an order")]
    [InlineData("firmware.tpm.on = maybe", 19, "yes or no")]
    [InlineData("site = \"Westhaven", 8, "no closing")]
    [InlineData("(site = Westhaven", 18, "')' is missing")]
    [InlineData("site = Westhaven site", 18, "'and', 'or' or the end")]
    [InlineData("site", 5, "Expected a comparison")]
    [InlineData("site in Westhaven", 9, "'('")]
    [InlineData("", 1, "empty")]
    [InlineData("site = Westhaven &", 18, "'&'")]
    [InlineData("firmware.tpm.on like \"y*\"", 17, "needs a text")]
    public void A_wrong_condition_tells_the_column_and_what_was_expected(string text, int column, string says)
    {
        var error = Assert.Throws<ConditionException>(() => Fleets.Parse(text));
        Assert.Equal(column, error.Column);
        Assert.Contains(says, error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void A_reading_that_is_too_old_for_the_use_cannot_tell()
    {
        var answer = Fleets.Parse("os.version > 6").Ask(Desk, new EvaluationContext(Fleets.Now, TimeSpan.FromMinutes(30)));
        Assert.Equal(Kleene.Unknown, answer.Value);
        Assert.Contains("must not be older than 30 min", answer.Leaves[0].Note, StringComparison.Ordinal);
    }

    [Fact]
    public void An_answer_says_until_when_it_holds()
    {
        var answer = Fleets
            .Parse("os.version > 6 and backup.last >= 7 d ago")
            .Ask(Desk, new EvaluationContext(Fleets.Now, TimeSpan.FromDays(2)));
        Assert.Equal(Fleets.Now.AddHours(-1).AddDays(2), answer.Until);
        Assert.Equal(Kleene.Yes, answer.Value);
        Assert.Equal(Fleets.Now.AddDays(4), Fleets.Parse("backup.last >= 7 d ago").Ask(Desk, new EvaluationContext(Fleets.Now)).Until);
    }

    [Fact]
    public void An_answer_names_the_comparisons_that_decided_it()
    {
        var answer = Fleets
            .Parse("os.version > 6 and firmware.tpm.on = yes and power.mains = yes")
            .Ask(Desk, new EvaluationContext(Fleets.Now));
        Assert.Equal("firmware.tpm.on = yes", Assert.Single(answer.Leaves).Text);
    }

    [Fact]
    public void Negation_is_its_own_inverse_and_de_morgan_holds() =>
        Gen.Select(Atoms, Atoms)
            .Sample(
                (a, b) =>
                {
                    Assert.Equal(Value($"{a}"), Value($"not not {a}"));
                    Assert.Equal(Value($"not ({a} and {b})"), Value($"not {a} or not {b}"));
                    Assert.Equal(Value($"not ({a} or {b})"), Value($"not {a} and not {b}"));
                }
            );

    [Fact]
    public void More_knowledge_never_turns_yes_into_no() =>
        Gen.Select(Atoms, Atoms, Atoms, Fleets.Among("and", "or"), Fleets.Among("and", "or"))
            .Sample(
                (a, b, c, first, second) =>
                {
                    // Kleene's logic is monotone: what was told with a reading missing stays told when it comes.
                    var condition = Fleets.Parse($"{a} {first} not ({b} {second} {c})");
                    var before = condition.Ask(Desk, new EvaluationContext(Fleets.Now)).Value;
                    foreach (var value in new[] { "yes", "no" })
                    {
                        var after = condition
                            .Ask(
                                Desk with
                                {
                                    Readings =
                                    [
                                        .. Desk.Readings.Where(r => r.Key != "power.mains"),
                                        Fleets.Read("power.mains", value, TimeSpan.FromMinutes(1)),
                                    ],
                                },
                                new EvaluationContext(Fleets.Now)
                            )
                            .Value;
                        Assert.True(before == Kleene.Unknown || before == after);
                    }
                }
            );

    [Fact]
    public void Any_text_is_read_or_refused_with_a_column_within_it() =>
        Gen.String[Gen.Char["abns.=<>!()\" ,0129-GiBorandt"], 0, 60]
            .Sample(text =>
            {
                try
                {
                    Fleets.Parse(text);
                }
                catch (ConditionException error)
                {
                    Assert.InRange(error.Column, 1, text.Length + 1);
                }
            });

    [Fact]
    public void A_condition_that_goes_too_deep_is_refused() =>
        Assert.Contains(
            "deeper",
            Assert.Throws<ConditionException>(() => Fleets.Parse(new string('(', 200) + "site = a" + new string(')', 200))).Message,
            StringComparison.Ordinal
        );

    private static readonly Gen<string> Atoms = Fleets.Among(
        "os.version > 6",
        "os.version > 7",
        "power.mains = yes",
        "firmware.tpm.on = no",
        "os.edition = Counter",
        "hardware.model = a"
    );

    private static Kleene Value(string text) => Fleets.Parse(text).Ask(Desk, new EvaluationContext(Fleets.Now)).Value;
}
