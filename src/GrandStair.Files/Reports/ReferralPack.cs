using System.Globalization;
using System.IO.Compression;
using System.Text;
using System.Text.Json;
using GrandStair.Core.Gates;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.SupportCases;

namespace GrandStair.Files.Reports;

/// <summary>What the vendor's support needs to help with one machine: a report for people, the readings, and the detailed log.</summary>
public static class ReferralPack
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { WriteIndented = true };
    private static readonly JsonSerializerOptions Line = new(JsonSerializerDefaults.Web);

    /// <summary>Writes the pack as a zip: <c>report.html</c>, <c>readings.json</c> and <c>log.jsonl</c>.</summary>
    /// <param name="stream">Where it goes.</param>
    /// <param name="aim">What the machine was judged for.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="assessment">What came of it.</param>
    /// <param name="cases">The cases with support about it, newest first.</param>
    /// <param name="log">The log, a line an entry, oldest first.</param>
    /// <param name="now">The time, UTC.</param>
    public static void Write(
        Stream stream,
        Aim aim,
        Machine machine,
        Assessment assessment,
        IReadOnlyList<SupportCase> cases,
        IEnumerable<object> log,
        DateTimeOffset now
    )
    {
        ArgumentNullException.ThrowIfNull(aim);
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(assessment);
        using var zip = new ZipArchive(stream, ZipArchiveMode.Create, leaveOpen: true);
        Put(zip, "report.html", now, w => Html(w, aim, machine, assessment, cases, now));
        Put(zip, "readings.json", now, w => w.Write(
                JsonSerializer.Serialize(
                    new
                    {
                        machine.Name,
                        machine.Site,
                        Current = machine.Current.Select(Show),
                        Conflicts = machine.Conflicts.Select(Show),
                    },
                    Json
                )
            ));
        Put(zip, "log.jsonl", now, w =>
        {
            foreach (var entry in log)
                w.WriteLine(JsonSerializer.Serialize(entry, entry.GetType(), Line));
        });
    }

    /// <summary>A reading as packs for other people and programs have it, with all that is known of it.</summary>
    public static object Show(Reading r) =>
        new
        {
            r.Key,
            State = RunMachine.Name(r.State),
            Value = r.Value?.Text,
            r.Why,
            r.Seen,
            r.Received,
            r.Source,
        };

    private static void Put(ZipArchive zip, string name, DateTimeOffset now, Action<TextWriter> write)
    {
        var entry = zip.CreateEntry(name, CompressionLevel.Optimal);
        entry.LastWriteTime = now;
        using var writer = new StreamWriter(entry.Open(), new UTF8Encoding(encoderShouldEmitUTF8Identifier: false));
        write(writer);
    }

    private static void Html(
        TextWriter writer,
        Aim aim,
        Machine machine,
        Assessment assessment,
        IReadOnlyList<SupportCase> cases,
        DateTimeOffset now
    )
    {
        string Text(string? text) => StandAlonePage.Text(text ?? "");
        StandAlonePage.Begin(writer, $"{machine.Name} to {aim.ReleaseFor(machine).Name}");
        writer.Write(
            $"""
            <h1>{Text(machine.Name)} to {Text(aim.ReleaseFor(machine).Name)}: {ReadinessReport.GateOf(assessment)}</h1>
            <p class="hint">{now.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture)} UTC · {Text(
                aim.Product.Name
            )} {Text(machine.TextOf(aim.Product.VersionKey))} · catalogue {aim.Product.Hash[..12]} · route {Text(
                string.Join(" → ", assessment.Route.Hops.Select(h => h.Name).DefaultIfEmpty(assessment.Route.Why ?? "none"))
            )}</p>
            <p>{Text(assessment.Why)}</p>

            """
        );
        StandAlonePage.Table(
            writer,
            "Checks",
            ["check", "need", "state", "found", "required", "fix"],
            assessment
                .Checks.OrderByDescending(c => c.State)
                .Select(c =>
                    new[]
                    {
                        c.Check.Title,
                        RunMachine.Name(c.Check.Need),
                        RunMachine.Name(c.State),
                        ReadinessReport.Seen(c),
                        c.Check.Wants.Text,
                        c.State >= CheckState.Waived ? c.Check.Fix.Words : "",
                    }
                )
        );
        if (cases.Count > 0)
            StandAlonePage.Table(
                writer,
                "Support cases",
                ["number", "with", "state", "about", "last note"],
                cases.Select(c => new[] { c.Reference, c.With, RunMachine.Name(c.State), c.About, c.Notes.LastOrDefault()?.Text ?? "" })
            );
        StandAlonePage.Table(
            writer,
            "Known issues",
            ["issue", "release", "fixed in"],
            assessment.Route.Issues.Select(i => new[] { i.Title, i.Release, i.FixedIn ?? "no build" })
        );
        StandAlonePage.Table(
            writer,
            "Readings",
            ["key", "value", "seen", "source"],
            machine.Current.Select(r =>
                new[] { r.Key, r.Show(), r.Seen.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture), r.Source }
            )
        );
        StandAlonePage.End(writer);
    }
}
