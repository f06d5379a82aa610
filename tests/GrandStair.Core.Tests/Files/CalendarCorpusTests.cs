using System.Diagnostics;
using System.Text.Json;
using GrandStair.Files.Calendars;
using GrandStair.Testing;
using NodaTime;
using Xunit;

namespace GrandStair.Core.Tests.Files;

/// <summary>
/// Calendars in the manner of the programs that people keep them with, read by the product, by an oracle, and by another library.
/// </summary>
public sealed class CalendarCorpusTests
{
    private const int LeastFiles = 60;
    private const string Here = "Europe/London";
    private const string SecondOfTwo =
        "Of an hour that comes twice the first is meant (RFC 5545, section 3.3.5); ical.js takes the second.";

    /// <summary>Where the other library reads something else than RFC 5545 says, and why.</summary>
    private static readonly Dictionary<string, string> OtherLibraryDiffers = new()
    {
        ["begins-in-repeated-hour.ics"] = SecondOfTwo,
        ["ends-in-repeated-hour.ics"] = SecondOfTwo,
        ["yearly-last-sunday-of-october.ics"] = SecondOfTwo,
        ["begins-in-skipped-hour.ics"] =
            "An hour that is skipped is counted on from before it (RFC 5545, section 3.3.5); ical.js counts back from after it.",
        ["moved-one-by-another-zone.ics"] = "ical.js looks for the occurrence by the digits of RECURRENCE-ID and leaves out its zone.",
        ["rdate-alone.ics"] =
            "DTSTART is the first occurrence (RFC 5545, section 3.8.5.2); ical.js leaves it out where there are dates and no rule.",
        ["rdate-period.ics"] = "ical.js cannot say when a period of RDATE begins.",
        ["daily-in-months.ics"] = "DTSTART is not a day of the rule; RFC 5545 leaves open whether it counts, and ical.js counts it.",
    };

    private static readonly string Folder = Path.Combine(Repository.Root, "tests", "calendars");
    private static readonly DateTimeOffset From = new(2027, 1, 1, 0, 0, 0, TimeSpan.Zero);
    private static readonly DateTimeOffset To = new(2028, 1, 1, 0, 0, 0, TimeSpan.Zero);

    [Fact]
    public void Every_calendar_of_the_corpus_is_read_as_the_standard_says()
    {
        var files = Directory.GetFiles(Folder, "*.ics");
        Assert.True(files.Length >= LeastFiles);
        Assert.All(files, file =>
        {
            var text = File.ReadAllText(file);
            var zone = DateTimeZoneProviders.Tzdb[Here];
            var expected = CalendarOracle.Between(text, From, To, zone);
            Assert.NotEmpty(expected);
            Assert.Equal(
                expected,
                CalendarFile.Parse(text, Path.GetFileName(file)).Between(From, To, zone).OrderBy(s => s.From).ThenBy(s => s.To)
            );
        });
    }

    [Fact]
    public async Task Another_library_agrees_with_the_oracle_but_where_it_is_known_not_to()
    {
        var ask = new ProcessStartInfo(
            "node",
            [Path.Combine(Folder, "evaluate.mjs"), Folder, Here, $"{From.ToUnixTimeSeconds()}", $"{To.ToUnixTimeSeconds()}"]
        )
        {
            WorkingDirectory = Path.Combine(Repository.Root, "console"),
            RedirectStandardOutput = true,
        };
        using var node = Process.Start(ask)!;
        var answer = JsonDocument.Parse(await node.StandardOutput.ReadToEndAsync(TestContext.Current.CancellationToken));
        await node.WaitForExitAsync(TestContext.Current.CancellationToken);
        var differing = new Dictionary<string, string>();
        foreach (var file in answer.RootElement.EnumerateObject())
        {
            var expected = CalendarOracle.Between(
                await File.ReadAllTextAsync(Path.Combine(Folder, file.Name), TestContext.Current.CancellationToken),
                From,
                To,
                DateTimeZoneProviders.Tzdb[Here]
            );
            var shown = $"[{string.Join(',', expected.Select(s => $"[{s.From.ToUnixTimeSeconds()},{s.To.ToUnixTimeSeconds()}]"))}]";
            if (file.Value.GetRawText() != shown)
                differing[file.Name] = $"{file.Value.GetRawText()} instead of {shown}";
        }

        Assert.True(
            differing.Keys.ToHashSet().SetEquals(OtherLibraryDiffers.Keys),
            string.Join('\n', differing.Where(d => !OtherLibraryDiffers.ContainsKey(d.Key)).Select(d => $"{d.Key}: {d.Value}"))
        );
        TestContext.Current.SendDiagnosticMessage(
            $"{answer.RootElement.EnumerateObject().Count() - differing.Count} of {answer.RootElement.EnumerateObject().Count()} "
                + $"calendars are read alike"
        );
    }
}
