using System.Diagnostics;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Files;
using GrandStair.Files.Calendars;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Fleet;
using GrandStair.Files.Plans;
using NodaTime;

namespace GrandStair.Testing.Fuzzing;

/// <summary>
/// Feeds every parser changed texts, in this process. Each is understood or refused with a reason, and in a bounded time.
/// </summary>
public sealed class ParserFuzz
{
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(2);
    private static readonly DateTimeOffset Now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);

    private static readonly string[] Conditions =
    [
        "site = \"Westhaven\" and disk.system.free < 40 GiB",
        "name like \"desk-*\" or not (tag in (\"pilot\", \"quay\"))",
        "backup.last older than 7 d and os.version between 6 and 7.2",
        "hardware.memory >= 8 GiB and (firmware.tpm.state != on or offer.release is absent)",
        "name is known and group not in (office, \"till\")",
    ];

    private readonly Mutator _mutator;
    private readonly (string Kind, Action<string> Parse, IReadOnlyList<string> Texts)[] _targets;

    /// <summary>Prepares the texts.</summary>
    /// <param name="seed">What the changes come from.</param>
    public ParserFuzz(int seed)
    {
        _mutator = new(seed);
        string Read(params string[] path) => File.ReadAllText(Path.Combine([Repository.Root, .. path]));
        string[] plans =
        [
            Read("docs", "examples", "plan.yaml"),
            Read("demo-data", "northmere", "plan.yaml"),
            Read("demo-data", "northmere", "servers.yaml"),
        ];
        var brae = CatalogueFolder.Load(Path.Combine(Repository.Root, "catalogue", "brae-desktop"));
        var csv = string.Join('\n', Read("demo-data", "northmere", "fleet.csv").Split('\n').Take(12));
        const string Json =
            "{\"name\":\"desk-1\",\"site\":\"Westhaven\",\"os.version\":\"6.4\",\"tags\":[\"pilot\"],\"seen\":\"2027-01-11T08:00:00Z\","
            + "\"hardware.memory\":\"16 GiB\"}\n{\"name\":\"desk-2\",\"seen\":\"2027-01-11T08:00:00Z\",\"os.version\":null}\n";
        _targets =
        [
            ("condition", t => ConditionParser.Parse(t, KeyRegistry.BuiltIn), Conditions),
            ("plan", t => PlanFile.Parse(t, KeyRegistry.BuiltIn, null, "plan.yaml"), plans),
            (
                "what-if",
                t => PlanText.With(plans[0], [t]),
                ["limits.all=8", "crews+={ name: second, hands: 1 }", "limits={ all: 3, site: 2 }"]
            ),
            ("what-if on", t => PlanText.With(t, ["limits.all=8"]), plans),
            ("catalogue", t => CatalogueFolder.Parse(brae.SetItem("product.yaml", t), KeyRegistry.BuiltIn), [brae["product.yaml"]]),
            ("csv", t => ReadAll(t, false), [csv]),
            ("json lines", t => ReadAll(t, true), [Json]),
            ("mapping", t => FleetMapping.Parse(t, KeyRegistry.BuiltIn, "mapping.yaml"), [Read("docs", "examples", "mapping.yaml")]),
            ("calendar", ReadCalendar, [Read("demo-data", "northmere", "kittiwake-berths.ics")]),
        ];
    }

    /// <summary>How many inputs of each kind were tried, and how many of them were understood.</summary>
    public IReadOnlyDictionary<string, (int Tried, int Understood)> Counts => _counts;

    private readonly Dictionary<string, (int Tried, int Understood)> _counts = [];

    /// <summary>The longest time that one input took.</summary>
    public TimeSpan Slowest { get; private set; }

    /// <summary>Tries inputs until there were enough or the time is over.</summary>
    /// <returns>What went wrong: the input and why; empty where nothing did.</returns>
    public IReadOnlyList<string> Run(long inputs, TimeSpan time)
    {
        var wrong = new List<string>();
        var begun = Stopwatch.StartNew();
        for (long i = 0; i < inputs && begun.Elapsed < time && wrong.Count < 10; i++)
        {
            var (kind, parse, texts) = _mutator.Of(_targets);
            var text = _mutator.Change(_mutator.Of(texts));
            var one = Stopwatch.GetTimestamp();
            var understood = false;
            try
            {
                parse(text);
                understood = true;
            }
            catch (Exception error)
                when (error is FileException or ConditionException or FormatException { Message.Length: > 10 } or CalendarException)
            {
                if (error is FileException file && file.Problems.Any(p => p.Line < 1))
                    wrong.Add($"{kind}: a problem without a line: {error.Message}\n{text}");
            }
            catch (Exception error)
            {
                wrong.Add($"{kind}: {error}\n{text}");
            }

            var took = Stopwatch.GetElapsedTime(one);
            if (took > Slowest)
                Slowest = took;
            if (took > Longest)
                wrong.Add($"{kind}: took {took}\n{text[..Math.Min(text.Length, 3000)]}");
            var (tried, fine) = _counts.GetValueOrDefault(kind);
            _counts[kind] = (tried + 1, fine + (understood ? 1 : 0));
        }

        return wrong;
    }

    private static void ReadAll(string text, bool isJson)
    {
        using var reader = new StringReader(text);
        var file = new FleetFile(reader, "fleet", new FleetFormat("import", Now, IsJsonLines: isJson), KeyRegistry.BuiltIn, Now);
        foreach (var _ in file.Lines()) { }
        // What of a file is not understood is reported, and the rest goes on.
        if (file.Problems.Count > 0)
            throw new FileException(file.Problems);
    }

    private static void ReadCalendar(string text)
    {
        foreach (var _ in CalendarFile.Parse(text, "berths.ics").Between(Now, Now.AddDays(90), DateTimeZone.Utc)) { }
    }
}
