using System.Text.RegularExpressions;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Conditions;

/// <summary>The examples of docs/conditions.md, every one of them.</summary>
public sealed partial class PageTests
{
    private static readonly string Page = File.ReadAllText(Path.Combine(House.Root, "docs", "conditions.md"));

    private static readonly Machine Desk = Fleets.With(
        TimeSpan.FromHours(2),
        ("os.version", "6.10"),
        ("os.edition", "Workplace"),
        ("disk.system.free", "41 GiB"),
        ("network.rate", "100 Mbit/s"),
        ("power.mains", "yes"),
        ("backup.last", "2027-01-09T03:00:00Z"),
        ("hangs-on", "-"),
        ("hardware.model", "Tarn 4"),
        ("hardware.memory", "16 GiB"),
        ("hardware.processor", "Ness 6"),
        ("apps", """[{"name":"Ledger Pro","version":"8.2"}]"""),
        ("services", """[{"name":"spool","state":"running"}]""")
    );

    [Fact]
    public void Every_comparison_of_the_page_holds_on_the_machine_that_it_is_about()
    {
        var examples = Rows("## Comparisons", "## Yes, no");
        Assert.InRange(examples.Length, 22, 40);
        foreach (var (text, _) in examples)
            Assert.True(Ask(text, Desk) == Kleene.Yes, text);
        // Each says something: on a machine with nothing known but its place none of these holds by itself.
        var bare = Fleets.Machine("till-1", [], "Corran") with { Tags = [] };
        Assert.All(
            examples.Where(e =>
                !e.Text.StartsWith("not ", StringComparison.Ordinal)
                && !e.Text.Contains("!=", StringComparison.Ordinal)
                && !e.Text.Contains("older", StringComparison.Ordinal)
            ),
            e => Assert.NotEqual(Kleene.Yes, Ask(e.Text, bare))
        );
    }

    [Fact]
    public void Every_answer_of_the_page_is_what_a_machine_whose_edition_was_never_seen_gives()
    {
        var examples = Rows("| asked of a machine", "What *unknown* leads to");
        Assert.Equal(5, examples.Length);
        var desk = Desk with { Readings = [.. Desk.Readings.Where(r => r.Key != "os.edition")] };
        foreach (var (text, says) in examples)
            Assert.Equal(
                says,
                Ask(text, desk) switch
                {
                    Kleene.Yes => "yes",
                    Kleene.No => "no",
                    _ => "unknown",
                }
            );
    }

    [Fact]
    public void Every_error_of_the_page_is_told_so()
    {
        Assert.Contains(
            Assert
                .Throws<ConditionException>(() =>
                    ConditionParser.Parse(
                        "firmwre.tpm.state = on",
                        KeyRegistry.BuiltIn.With([new("firmware.tpm.state", ValueKind.Flag, "")])
                    )
                )
                .Message,
            Page,
            StringComparison.Ordinal
        );
        var size = Assert.Throws<ConditionException>(() => Fleets.Parse("disk.system.free >= 64")).Message;
        Assert.StartsWith(
            "'64' does not fit 'disk.system.free', a size; expected a number with one of the units B, kB,",
            size,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "'64' does not fit 'disk.system.free', a size; expected a number with one of the units B, kB,",
            Page,
            StringComparison.Ordinal
        );
        Assert.EndsWith("such as 64 GiB. (column 21)", size, StringComparison.Ordinal);
    }

    private static Kleene Ask(string text, Machine machine) => Fleets.Parse(text).Ask(machine, new(Fleets.Now)).Value;

    private static (string Text, string Says)[] Rows(string from, string to)
    {
        var begin = Page.IndexOf(from, StringComparison.Ordinal);
        var part = Page[begin..Page.IndexOf(to, begin, StringComparison.Ordinal)];
        return [.. Row().Matches(part).Select(m => (m.Groups[1].Value, m.Groups[2].Value.Trim()))];
    }

    [GeneratedRegex(@"^\| `([^`]+)` \| ([^|]*)\|", RegexOptions.Multiline)]
    private static partial Regex Row();
}
