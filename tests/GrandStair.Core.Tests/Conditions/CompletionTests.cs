using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Conditions;

/// <summary>What may come at the end of a condition that somebody is writing.</summary>
public sealed class CompletionTests
{
    private static readonly (string, int)[] Sites = [("Westhaven", 30), ("Corran Quay", 12), ("Eastness", 9)];

    [Theory]
    [InlineData("", Coming.Key, "apps", 0)]
    [InlineData("hardw", Coming.Key, "hardware.memory", 0)]
    [InlineData("site = Westhaven and not ", Coming.Key, "apps", 25)]
    [InlineData("(", Coming.Key, "apps", 1)]
    [InlineData("site ", Coming.Comparison, "=", 5)]
    [InlineData("disk.system.free <", Coming.Comparison, "<=", 17)]
    [InlineData("apps ", Coming.Comparison, "has (", 5)]
    [InlineData("site = ", Coming.Value, "Westhaven", 7)]
    [InlineData("site = \"Corran Q", Coming.Value, "\"Corran Quay\"", 7)]
    [InlineData("site in (Westhaven, ", Coming.Value, "Westhaven", 20)]
    [InlineData("site in (", Coming.Value, "Westhaven", 9)]
    [InlineData("site = Westhaven ", Coming.Join, "and", 17)]
    [InlineData("apps has (", Coming.Column, "name", 10)]
    [InlineData("apps has (name = Ledger and ver", Coming.Column, "version", 28)]
    [InlineData("apps has (version ", Coming.Comparison, "=", 18)]
    [InlineData("apps has (name = Ledger) and si", Coming.Key, "site", 29)]
    public void It_knows_what_comes_where_and_offers_it(string text, Coming coming, string first, int from)
    {
        var place = ConditionCompletion.Of(text, KeyRegistry.BuiltIn);
        Assert.Equal((coming, from), (place.Coming, place.From));
        Assert.Equal(first, place.Offers(KeyRegistry.BuiltIn, Sites)[0].Text);
    }

    [Fact]
    public void Every_offered_comparison_of_a_key_can_be_written_on_to_a_condition()
    {
        foreach (var key in KeyRegistry.BuiltIn.All)
        {
            var value = key.Kind switch
            {
                ValueKind.Flag => "yes",
                ValueKind.Number or ValueKind.Version => "7",
                ValueKind.Size => "7 GiB",
                ValueKind.Rate => "7 Mbit/s",
                ValueKind.Duration => "7 h",
                ValueKind.Instant => "7 d ago",
                ValueKind.Date => "2027-01-11",
                _ => "\"x\"",
            };
            foreach (var offer in ConditionCompletion.Of($"{key.Name} ", KeyRegistry.BuiltIn).Offers(KeyRegistry.BuiltIn, []))
            {
                var rest = offer.Text switch
                {
                    "is known" or "is absent" => "",
                    "older than" => " 7 d",
                    "between" => $" {value} and {value}",
                    "in (" or "not in (" => $"{value})",
                    "has (" => $"{key.Columns[0].Name} = x)",
                    _ => $" {value}",
                };
                ConditionParser.Parse($"{key.Name} {offer.Text}{rest}", KeyRegistry.BuiltIn);
            }
        }
    }

    [Fact]
    public void No_end_of_a_text_is_too_odd_for_it()
    {
        var chance = new Random(20270111);
        string[] pieces =
        [
            "site",
            "apps",
            "has",
            "(",
            ")",
            ",",
            "=",
            "<",
            "!",
            "\"",
            " ",
            "in",
            "not",
            "older than",
            "\u001b",
            "7 d",
            "between",
            "\uD800",
        ];
        for (var i = 0; i < 20_000; i++)
        {
            var text = string.Concat(Enumerable.Range(0, chance.Next(12)).Select(_ => pieces[chance.Next(pieces.Length)]));
            var place = ConditionCompletion.Of(text, KeyRegistry.BuiltIn);
            Assert.InRange(place.From, 0, text.Length);
            Assert.Equal(text[place.From..], place.Typed);
            place.Offers(KeyRegistry.BuiltIn, Sites);
        }
    }
}
