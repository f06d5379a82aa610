using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Files.Evidence;
using GrandStair.Files.Reports;
using GrandStair.Service.Audit;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>Collects the evidence of how a run went: its events, readings before and after, scripts, and who decided what.</summary>
internal sealed class RunEvidence(
    RunLog runs,
    RunTexts texts,
    FleetTable readings,
    AuditTable audit,
    CatalogueCache catalogues,
    AuditKey key,
    TimeProvider clock
)
{
    private const int MostEntries = 5000;
    private static readonly JsonSerializerOptions Lines = new(JsonSerializerDefaults.Web)
    {
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        Converters = { new JsonStringEnumConverter(JsonNamingPolicy.KebabCaseLower) },
    };
    internal static readonly JsonSerializerOptions Indented = new(Lines) { WriteIndented = true };

    /// <summary>Writes the pack of a run, signed with the key of the audit.</summary>
    /// <param name="stream">Where it goes.</param>
    /// <param name="stored">The run.</param>
    /// <param name="machine">Its machine.</param>
    /// <param name="stop">Ends it.</param>
    public async Task WriteAsync(Stream stream, StoredRun stored, Machine machine, CancellationToken stop)
    {
        var (run, now) = (stored.State, clock.GetUtcNow());
        var events = await runs.EventsAsync(run.Run, stop);
        var (opened, ended) = (events[0].Event.At, run.Closed ?? now);
        var before = await readings.AsOfAsync(machine.Id, opened, stop);
        var after = await readings.AsOfAsync(machine.Id, ended, stop);
        var product = await catalogues.ByHashAsync(run.CatalogueHash, stop);
        var scripts = run
            .Legs.SelectMany(l => l.AllSteps)
            .Select(s => s.Script)
            .OfType<string>()
            .Distinct()
            .Order(StringComparer.Ordinal)
            .Where(product.Scripts.ContainsKey)
            .Select(name => new EvidenceFile($"scripts/{name}", product.Scripts[name]))
            .ToArray();
        var ofMachine = await audit.NewestAsync(new(Machine: machine.Id, Until: ended), null, MostEntries, stop);
        var ofPlan = await audit.NewestAsync(new(Subject: run.Plan, Until: ended), null, MostEntries, stop);
        var decided = ofMachine
            .Concat(ofPlan.Where(e => e.Entry.Machine is null))
            .DistinctBy(e => e.Entry.Number)
            .OrderBy(e => e.Entry.Number)
            .ToArray();
        var facts = new
        {
            Run = $"r{run.Run}",
            Machine = machine.Name,
            MachineId = machine.Id.ToString(),
            machine.Site,
            run.Plan,
            run.Wave,
            run.CatalogueHash,
            Legs = run.Legs.Select(l => new
            {
                l.Hop,
                l.Method,
                l.To,
                l.LeastBuild,
                Patches = l.Patches is { } patches ? RunMachine.Name(patches) : null,
            }),
            Opened = opened,
            run.Verified,
            run.Closed,
            Outcome = run.Outcome is { } outcome ? RunMachine.Name(outcome) : null,
            run.Reason,
            run.FollowUps,
            Written = now,
        };
        EvidenceFile[] files =
        [
            new("report.html", Report(run, machine, events, before, after, now)),
            new("run.json", JsonSerializer.Serialize(facts, Indented)),
            new(
                "events.jsonl",
                string.Concat(
                    events.Select(e =>
                        JsonSerializer.Serialize<object>(
                            new
                            {
                                e.Number,
                                e.Event.At,
                                e.Event.Type,
                                e.Event.Actor,
                                Text = RunViews.Tell(e.Event, run),
                                Event = JsonSerializer.SerializeToElement(e.Event, RunEvent.Json),
                            },
                            Lines
                        ) + "\n"
                    )
                )
            ),
            new("readings-before.json", JsonSerializer.Serialize(before.Select(ReferralPack.Show), Indented)),
            new("readings-after.json", JsonSerializer.Serialize(after.Select(ReferralPack.Show), Indented)),
            new("audit.jsonl", string.Concat(decided.Select(e => JsonSerializer.Serialize(e, Lines) + "\n"))),
            .. await texts.OfAsync(run, product, stop),
            .. scripts,
        ];
        EvidencePack.Write(stream, files, key.PublicPem, key.SignHash, now);
    }

    private static string Report(
        RunState run,
        Machine machine,
        IReadOnlyList<StoredEvent> events,
        IReadOnlyList<Reading> before,
        IReadOnlyList<Reading> after,
        DateTimeOffset now
    )
    {
        var then = before.ToDictionary(r => r.Key, r => r.Show());
        using var page = new EvidenceReport(
            $"Run r{run.Run} on {machine.Name}",
            $"{run.Plan}, wave {run.Wave} · {string.Join(", then ", run.Legs.Select(l => $"{l.Hop} by {l.Method}"))} · written "
                + $"{now:yyyy-MM-dd HH:mm} UTC"
        );
        page.Table(
            "What happened",
            ["time (UTC)", "what", "by"],
            events.Select(e => new[] { $"{e.Event.At.UtcDateTime:yyyy-MM-dd HH:mm:ss}", RunViews.Tell(e.Event, run), e.Event.Actor })
        );
        page.Table(
            "What changed",
            ["key", "before", "after"],
            after
                .Where(r => then.GetValueOrDefault(r.Key) != r.Show())
                .Select(r => new[] { r.Key, then.GetValueOrDefault(r.Key) ?? "not known", r.Show() })
        );
        page.Table("Follow-ups", ["what", "found", "closed by"], run.FollowUps.Select(f => new[] { f.Title, f.Seen, f.By ?? "open" }));
        return page.Text;
    }
}
