using System.Globalization;
using System.Text.Json;
using CsvHelper;
using CsvHelper.Configuration;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;

namespace GrandStair.Files.Reports;

/// <summary>The readiness of a scope as a file for people or programs.</summary>
/// <param name="Target">The release to go to.</param>
/// <param name="Scope">Which machines it is about.</param>
/// <param name="At">When they were judged, UTC.</param>
/// <param name="Summary">The numbers.</param>
/// <param name="Machines">Every machine with its assessment, by name.</param>
public sealed record ReadinessReport(
    string Target,
    string Scope,
    DateTimeOffset At,
    FleetSummary Summary,
    IReadOnlyList<(Machine Machine, Assessment Assessment)> Machines
)
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { WriteIndented = true };

    /// <summary>
    /// Writes one line a machine and check that is in the way or a caution (RFC 4180). Cells that a spreadsheet would take for a formula
    /// get an apostrophe before them.
    /// </summary>
    public void WriteCsv(TextWriter writer)
    {
        using var csv = new CsvWriter(
            writer,
            new CsvConfiguration(CultureInfo.InvariantCulture) { InjectionOptions = InjectionOptions.Escape, NewLine = "\r\n" },
            leaveOpen: true
        );
        foreach (
            var head in new[]
            {
                "name",
                "site",
                "group",
                "owner",
                "gate",
                "method",
                "check",
                "need",
                "state",
                "seen",
                "wanted",
                "who fixes it",
                "fix",
            }
        )
            csv.WriteField(head);
        csv.NextRecord();
        foreach (var (machine, assessment) in Machines)
        {
            var results = Open(assessment).ToArray();
            foreach (var result in results)
                Line(
                    csv,
                    machine,
                    assessment,
                    result.Check.Title,
                    RunMachine.Name(result.Check.Need),
                    RunMachine.Name(result.State),
                    Seen(result),
                    result.Check.Wants.Text,
                    RunMachine.Name(result.Check.Fix.By),
                    result.Check.Fix.Words
                );
            if (results.Length == 0)
                Line(csv, machine, assessment, "", "", "", assessment.Why ?? "", "", "", "");
        }
    }

    /// <summary>Writes everything for programs.</summary>
    public void WriteJson(Stream stream) =>
        JsonSerializer.Serialize(
            stream,
            new
            {
                Target,
                Scope,
                At,
                Summary.Machines,
                Summary.Arrived,
                Summary.Open,
                Summary.Undecided,
                Summary.Blocked,
                Summary.NotFixable,
                Summary.WaitingForOffer,
                Checks = Summary.Checks.Select(c => new
                {
                    c.Check.Name,
                    c.Check.Title,
                    Need = RunMachine.Name(c.Check.Need),
                    Counts = c.Counts.ToDictionary(s => RunMachine.Name(s.Key), s => s.Value),
                    c.Opens,
                }),
                ToFix = Summary.ToFix.Select(m => new
                {
                    m.Check.Name,
                    m.Machines,
                    m.Opens,
                    m.OpenThen,
                }),
                Of = Machines.Select(m => new
                {
                    m.Machine.Name,
                    m.Machine.Site,
                    Gate = GateOf(m.Assessment),
                    m.Assessment.Why,
                    Route = m.Assessment.Route.Hops.Select(h => h.Name),
                    Method = m.Assessment.Choice?.Method?.Name,
                    Checks = m.Assessment.Checks.Select(c => new
                    {
                        c.Check.Name,
                        State = RunMachine.Name(c.State),
                        Seen = c.Seen.Select(l => new
                        {
                            l.Key,
                            Value = l.Show(),
                            l.Reading?.Seen,
                            l.Reading?.Source,
                            l.Note,
                        }),
                    }),
                }),
            },
            Json
        );

    /// <summary>Writes a page that stands alone: no script, nothing fetched.</summary>
    public void WriteHtml(TextWriter writer)
    {
        ArgumentNullException.ThrowIfNull(writer);
        StandAlonePage.Begin(writer, $"Readiness for {Target}");
        var judged = At.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);
        var going = Summary.Machines - Summary.Arrived;
        writer.Write(
            $"""
            <h1>Readiness for {StandAlonePage.Text(Target)}</h1>
            <p class="hint">{StandAlonePage.Text(Scope)} · judged {judged} UTC</p>
            <p class="sum"><b>{Summary.Open}</b> of {going} can go
            · <b>{Summary.Blocked}</b> blocked, {Summary.NotFixable} of them not fixable
            · <b>{Summary.Undecided}</b> undecided
            · {Summary.WaitingForOffer} wait for the vendor's rollout
            · {Summary.Arrived} run it already</p>

            """
        );
        StandAlonePage.Table(
            writer,
            "What to fix, in the order that opens the most",
            ["check", "who", "machines", "opens", "open then"],
            Summary.ToFix.Select(m =>
                new[] { m.Check.Title, RunMachine.Name(m.Check.Fix.By), $"{m.Machines}", $"+{m.Opens}", $"{m.OpenThen}" }
            )
        );
        StandAlonePage.Table(
            writer,
            "Every check",
            ["check", "need", "met", "unmet", "unknown", "waived", "later", "how it is fixed"],
            Summary.Checks.Select(c =>
                new[]
                {
                    c.Check.Title,
                    RunMachine.Name(c.Check.Need),
                    Count(c, CheckState.Met),
                    Count(c, CheckState.Unmet),
                    Count(c, CheckState.Unknown),
                    Count(c, CheckState.Waived),
                    Count(c, CheckState.Deferred),
                    c.Check.Fix.Words,
                }
            )
        );
        StandAlonePage.Table(
            writer,
            "Without a gate",
            ["reason", "machines"],
            Summary.Reasons.Select(r => new[] { r.Reason, $"{r.Machines}" })
        );
        StandAlonePage.Table(
            writer,
            "Machines that cannot go yet",
            ["machine", "site", "gate", "what is in the way", "seen"],
            Machines
                .Where(m => m.Assessment.State != GateState.Open)
                .Select(m =>
                    new[]
                    {
                        m.Machine.Name,
                        m.Machine.Site,
                        GateOf(m.Assessment),
                        m.Assessment.Why ?? "",
                        string.Join(
                            "; ",
                            m.Assessment.Checks.Where(c => c.Check.Need == Need.Must && c.State >= CheckState.Unknown).Select(Seen)
                        ),
                    }
                )
        );
        StandAlonePage.End(writer);
    }

    /// <summary>What was seen by a check, in one line.</summary>
    internal static string Seen(CheckResult result) => string.Join(", ", result.Seen.Select(l => l.Tell()));

    internal static string GateOf(Assessment assessment) => assessment.Route.Arrived ? "arrived" : RunMachine.Name(assessment.State);

    private static string Count(CheckTally tally, CheckState state) => tally[state] == 0 ? "" : $"{tally[state]}";

    private static IEnumerable<CheckResult> Open(Assessment assessment) =>
        assessment.Checks.Where(c => c.State is CheckState.Unmet or CheckState.Unknown or CheckState.Waived);

    private static void Line(CsvWriter csv, Machine machine, Assessment assessment, params string[] rest)
    {
        foreach (
            var cell in new[]
            {
                machine.Name,
                machine.Site,
                machine.Group,
                machine.Owner,
                GateOf(assessment),
                assessment.Choice?.Method?.Name ?? "",
            }.Concat(rest)
        )
            csv.WriteField(SpreadsheetCell.Safe(cell));
        csv.NextRecord();
    }
}
