using System.Diagnostics;
using System.Text;
using GrandStair.Core.Readings;
using GrandStair.Files;
using GrandStair.Files.Plans;
using Xunit;

namespace GrandStair.Core.Tests.Parsing;

/// <summary>Every text that people or programs send passes limits before a library's parser sees it.</summary>
public sealed class BoundedParserTests
{
    private const string Plan = "plan: small\nlimits: { all: 4 }\ncrews: [{ name: harbour, hands: 2 }]\n";

    /// <summary>The parsers of libraries, and the files that may name them.</summary>
    public static TheoryData<string, string[]> Parsers =>
        new()
        {
            { "new YamlStream()", ["BoundedYaml.cs"] },
            { "new Parser(", ["BoundedYaml.cs"] },
            { "DeserializerBuilder", [] },
            { " Calendar.Load(", ["BoundedCalendar.cs"] },
            { "CalendarCollection", [] },
            { "new CsvReader(", [] },
            { "CsvReader Open(", ["BoundedCsv.cs"] },
            // A table's rows are bounded by their reading's length; the terminal's answers come from the service that it was told to call.
            { "JsonDocument.Parse(", ["BoundedJson.cs", "TableRow.cs", "DeviceFlow.cs", "GrandStairClient.cs"] },
            { "JsonNode.Parse(", [] },
        };

    [Theory]
    [MemberData(nameof(Parsers))]
    public void A_parser_is_reached_through_its_bounded_entry_only(string parser, string[] files)
    {
        var naming = House
            .Sources("src")
            .Where(f => File.ReadAllText(f).Contains(parser, StringComparison.Ordinal))
            .Select(f => Path.GetFileName(f)!)
            .Order(StringComparer.Ordinal);
        Assert.Equal(files.Order(StringComparer.Ordinal), naming);
    }

    [Theory]
    [InlineData("limits.all=", '[')]
    [InlineData("limits.all=", '{')]
    [InlineData("crews+=", '[')]
    public void A_what_if_that_is_nested_without_end_is_refused_and_ends_no_process(string change, char opening)
    {
        var error = Assert.Throws<FormatException>(() => PlanText.With(Plan, [change + new string(opening, 100_000)]));
        Assert.Contains("expected at most 4000", error.Message, StringComparison.Ordinal);
        Assert.Contains(
            "30 levels",
            Assert.Throws<FormatException>(() => PlanText.With(Plan, [change + new string(opening, 3000)])).Message,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void What_ifs_that_nest_what_others_have_added_stay_shallow()
    {
        var deep = string.Concat(Enumerable.Repeat("{ a: ", 25)) + "1" + new string('}', 25);
        var changes = Enumerable.Range(1, 40).Select(i => $"limits.{string.Join('.', Enumerable.Repeat("a", i))}={deep}");
        Assert.Contains(
            "levels deep",
            Assert.Throws<FormatException>(() => PlanText.With(Plan, changes)).Message,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "expected at most 50",
            Assert.Throws<FormatException>(() => PlanText.With(Plan, Enumerable.Repeat("limits.all=3", 51))).Message,
            StringComparison.Ordinal
        );
    }

    [Theory]
    [InlineData("limits.aHALF=3")]
    [InlineData("limits.all=HALF")]
    public void A_change_with_half_of_a_character_is_refused(string change) =>
        // In an attribute's text it would be replaced.
        Assert.Throws<FormatException>(() =>
            PlanText.With(Plan, [change.Replace("HALF", ((char)0xD83D).ToString(), StringComparison.Ordinal)])
        );

    [Fact]
    public void A_body_of_a_what_if_that_is_nested_without_end_is_refused() =>
        Assert.Throws<FileException>(() => PlanText.With("plan: " + new string('[', 200_000), ["limits.all=3"]));

    [Fact]
    public void A_plan_full_of_unknown_fields_is_refused_quickly_and_with_a_limited_number_of_errors()
    {
        var text = new StringBuilder("plan: small\n");
        for (var i = 0; i < 8000; i++)
            text.Append($"unknown-field-number-{i}: 1\n");
        text.Append($"{new string('x', 900)}: 1\n");
        var begun = Stopwatch.StartNew();
        var error = Assert.Throws<FileException>(() => PlanFile.Parse(text.ToString(), KeyRegistry.BuiltIn, null, "plan.yaml"));
        Assert.True(begun.Elapsed < TimeSpan.FromSeconds(2), $"{begun.Elapsed}");
        Assert.Equal(101, error.Problems.Count);
        Assert.Contains("more problems are not shown", error.Problems[^1].Message, StringComparison.Ordinal);
    }

    [Fact]
    public void A_document_of_very_many_values_is_refused()
    {
        var error = Assert.Throws<FileException>(() =>
            PlanFile.Parse("plan: [" + string.Concat(Enumerable.Repeat("1,", 300_000)) + "]", KeyRegistry.BuiltIn, null, "plan.yaml")
        );
        Assert.Contains("more than 200000 values", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Every_change_of_one_character_in_a_plan_is_understood_or_refused_with_its_place()
    {
        var text = File.ReadAllText(Path.Combine(House.Root, "docs", "examples", "plan.yaml"));
        var refused = 0;
        for (var i = 0; i < text.Length; i++)
        {
            foreach (
                var changed in new[]
                {
                    text.Remove(i, 1),
                    text.Insert(i, "{"),
                    text.Insert(i, "]"),
                    text.Insert(i, "\""),
                    text.Insert(i, "&"),
                    text.Insert(i, "\t"),
                }
            )
            {
                try
                {
                    PlanFile.Parse(changed, KeyRegistry.BuiltIn, null, "plan.yaml");
                }
                catch (FileException error)
                {
                    refused++;
                    Assert.All(error.Problems, p => Assert.True(p.Line >= 1, p.ToString()));
                }
            }
        }

        Assert.True(refused > text.Length, $"{refused} of {text.Length * 6} were refused");
    }
}
