using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>
/// Every command of the client, against a service with something of everything: what it says to people, and what to programs.
/// </summary>
public sealed partial class CommandTests(BusyFleet fleet) : IClassFixture<BusyFleet>
{
    private readonly HashSet<string> _ran = [];
    private readonly List<string> _wrong = [];

    private static string Soon => $"{DateTime.UtcNow.AddDays(9):yyyy-MM-dd}";

    [Fact]
    public async Task A_run_has_signed_evidence_that_is_verified_without_the_service_and_every_changed_byte_is_found()
    {
        var file = Path.Combine(fleet.Service.Data, "r1-evidence.zip");
        await fleet.Service.OkAsync("run", "evidence", "r1", "--out", file);
        using (var archive = System.IO.Compression.ZipFile.OpenRead(file))
        {
            string Text(string name) => new StreamReader(archive.GetEntry(name)!.Open()).ReadToEnd();
            Assert.Contains("run-opened", Text("events.jsonl"), StringComparison.Ordinal);
            Assert.Contains("os.version", Text("readings-before.json"), StringComparison.Ordinal);
            Assert.Contains("plan acknowledge", Text("audit.jsonl"), StringComparison.Ordinal);
            Assert.Contains("apply image", Text("scripts/apply-image.brae"), StringComparison.Ordinal);
            Assert.Contains("<h1>Run r1 on ", Text("report.html"), StringComparison.Ordinal);
            // Who accepted the licence terms, and which text.
            var terms = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(Text("terms/terms-7.txt"))));
            Assert.Contains(terms, Text("accepted.json"), StringComparison.Ordinal);
            Assert.Contains($"licence-terms terms-7 sha256:{terms}", Text("audit.jsonl"), StringComparison.Ordinal);
        }

        Assert.Contains(
            "every byte as it was signed",
            (await fleet.Service.GstairAsync("evidence", "verify", file)).Out,
            StringComparison.Ordinal
        );
        var bytes = await File.ReadAllBytesAsync(file, TestContext.Current.CancellationToken);
        bytes[bytes.Length / 3] ^= 4;
        await File.WriteAllBytesAsync(file, bytes, TestContext.Current.CancellationToken);
        var changed = await fleet.Service.GstairAsync("evidence", "verify", file);
        Assert.Equal(3, changed.Exit);
        Assert.Contains("Not as it was signed", changed.Out, StringComparison.Ordinal);
        Assert.Equal(4, (await fleet.Service.GstairAsync("run", "evidence", "r999")).Exit);
    }

    [Fact]
    public async Task Every_command_says_what_it_did_in_words_and_in_json()
    {
        // Machines and what is known of them.
        await TellsAsync(
            "0 added, 1 updated",
            "fleet",
            "import",
            fleet.Service.Write("name,connection,os.build\ndesk-1,simulated,6.4.9\n", "more.csv"),
            "--seen",
            "now"
        );
        await ShowsAsync("import", "fleet", "imports");
        await ShowsAsync("desk-6", "fleet", "list", "site = Eastness");
        await ShowsAsync("hardware.memory", "fleet", "conflicts");
        await ShowsAsync("Westhaven", "machine", "show", "desk-1");
        await ShowsAsync("the gate is", "machine", "gate", "desk-2");
        await TellsAsync("Brae Desktop", "machine", "read", "desk-2");
        await ShowsAsync("stock", "machine", "history", "desk-1", "hardware.memory");
        await ShowsAsync("desk-2", "machine", "list", "desk-2");
        await TellsAsync("Wrote ", "machine", "support-pack", "desk-2", "--out", Path.Combine(fleet.Service.Data, "refer.zip"));
        await FailsAsync(3, "is no host key", "machine", "pin", "desk-1", "--key", "none", "--reason", "x");
        await ShowsAsync("gates open", "readiness", "show", "--plan", "small");
        await ShowsAsync("desk-2", "readiness", "machines", "--product", "Brae Desktop", "--check", "security-chip", "--state", "unmet");
        await TellsAsync("Security chip 2.0", "readiness", "report", "--product", "Brae Desktop", "--format", "csv");
        await ShowsAsync("Brae Desktop", "exposure", "show");

        // Checks.
        await ShowsAsync("power.mains", "check", "recheck", "desk-4", "mains");
        await FailsAsync(3, "No script fixes 'mains'", "check", "fix", "desk-4", "mains", "--reason", "x");
        await ShowsAsync("none", "check", "fixes");
        await TellsAsync("is waived by admin", "check", "waive", "desk-2", "space", "--until", Soon, "--reason", "its board is on order");
        await ShowsAsync("its board is on order", "check", "waivers");
        await TellsAsync("w1", "check", "end-waiver", "w1", "--reason", "it came");
        await SupportCasesAsync();

        // The catalogue and its keys.
        await ShowsAsync("2027-03-31", "catalogue", "list");
        await ShowsAsync("packages.held", "catalogue", "keys");
        await ShowsAsync("Brae Desktop", "catalogue", "issues");
        await TellsAsync("well formed", "catalogue", "validate", Path.Combine(Repository.Root, "catalogue", "debian"));
        await ShowsAsync("as it was approved", "catalogue", "changes");
        await FailsAsync(4, "Nothing of 'Brae Desktop' waits", "catalogue", "approve", "Brae Desktop", "0000", "--reason", "x");

        // Plans.
        var file = Path.Combine(fleet.Service.Data, "plan.yaml");
        var other = fleet.Service.Write(
            (await File.ReadAllTextAsync(file, Stop)).Replace("plan: small", "plan: other", StringComparison.Ordinal),
            "other.yaml"
        );
        await TellsAsync("is well formed: 2 waves", "plan", "check", file);
        await ShowsAsync("would be new", "plan", "compare", other);
        await ShowsAsync("drafted, 5 machines", "plan", "create", other);
        await TellsAsync("Loaded other, revision 2", "plan", "load", other, "--yes", "--reason", "again");
        await TellsAsync("plan: other", "plan", "text", "other");
        await ShowsAsync("again", "plan", "revisions", "other");
        await ShowsAsync("other", "plan", "list");
        await ShowsAsync("Pilot", "plan", "show", "small");
        await ShowsAsync("desk-3", "plan", "machines", "small");
        await ShowsAsync("in time for 2031-01-31", "plan", "schedule", "small");
        await ShowsAsync("Westhaven", "plan", "board", "small");
        await TellsAsync("BEGIN:VEVENT", "plan", "slots", "small");
        await ShowsAsync("The waves are as the fleet is", "plan", "scope-changes", "small");
        await ShowsAsync("licence-carries", "plan", "acknowledge", "other");
        await ShowsAsync("It needs no approval", "plan", "approve", "small");
        await ShowsAsync("where its own text says so", "setting", "show");
        await TellsAsync("where its own text says so", "setting", "change", "--every-plan-approved", "no", "--reason", "as before");
        await ShowsAsync("In time for 2031-01-31", "plan", "forecast", "small");
        await TellsAsync("draws", "plan", "rehearse", "small", "--draws", "2", "--if", "limits.all=3");
        await ShowsAsync(
            "limits.all=3",
            "plan",
            "rehearsals",
            "small",
            $"{(await fleet.Service.Client.RehearsalsAsync("small", Stop))[0].Id}"
        );
        await TellsAsync("desk-4", "plan", "choose-method", "small", "desk-4", "image-in-place", "--reason", "it has no line");
        var times = (await fleet.Service.Client.TimesAsync("other", "desk-1", null, null, Stop)).Times;
        await ShowsAsync("other times are free", "plan", "free-slots", "other", "desk-1");
        await TellsAsync("begins", "plan", "reschedule", "other", "desk-1", $"{times[^1].From:O}", "--reason", "its user asked");
        await TellsAsync(
            "is back on the plan's own schedule",
            "plan",
            "reschedule",
            "other",
            "desk-1",
            "--give-up",
            "--reason",
            "she changed her mind"
        );
        await TellsAsync("is in wave Pilot", "plan", "move", "other", "desk-4", "Pilot", "--reason", "on loan");
        await TellsAsync("desk-5", "plan", "exempt", "other", "desk-5", "--as", "retired", "--reason", "sold");
        await FailsAsync(3, "its runs and their history stay", "plan", "discard", "small", "--reason", "x");
        await FailsAsync(3, "only a machine whose run ended without success", "plan", "retry", "other", "desk-4", "--reason", "x");
        await TellsAsync("held: storm", "plan", "hold", "small", "--reason", "storm");
        await TellsAsync("started", "plan", "start", "small");

        // ShareLinks and calendars.
        await TellsAsync("/times/", "share", "create", "small", "owner", "owner-1");
        await ShowsAsync("owner-1", "share", "list", "small");
        await TellsAsync("a1", "share", "revoke", "small", "a1", "--reason", "she left");
        await ShowsAsync("berths", "calendar", "list");
        await TellsAsync("berths", "calendar", "load", "berths", Path.Combine(fleet.Service.Data, "berths.ics"));
        await TellsAsync("BEGIN:VCALENDAR", "calendar", "show", "berths");

        // Media.
        await TellsAsync("clock.img is present: 3 B", "media", "add", fleet.Service.Write("abc", "clock.img"));
        await ShowsAsync("brae-desktop-8.0.1.img", "media", "list");
        await ShowsAsync("ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", "media", "show", "clock.img");
        await TellsAsync("was removed", "media", "remove", "clock.img", "--reason", "it was for a test");
        await TellsAsync("fetch media from", "media", "set-repository", "Westhaven", "http://media.example/", "--reason", "nearer");
        await FailsAsync(4, "No machine is at site 'West'", "media", "set-repository", "West", "http://media.example/", "--reason", "x");
        await FailsAsync(3, "'media' is no URL", "media", "set-repository", "Westhaven", "media", "--reason", "x");
        await ShowsAsync("http://media.example/", "media", "repositories");
        await TellsAsync("from the service again", "media", "remove-repository", "Westhaven", "--reason", "it broke");

        // Runs and outcomes.
        await ShowsAsync("r1", "run", "list");
        await ShowsAsync("desk-1", "run", "show", "r1");
        await TellsAsync("Run r1 has no saved files", "run", "saved-files", "r1");
        await ShowsAsync("clean", "run", "output", "r1");
        await TellsAsync("removing old media, 0 %", "run", "output", "r1", "--step", "clean");
        await TellsAsync("1 line with 'MEDIA, 5 %'", "run", "output", "r1", "--step", "clean", "--find", "MEDIA, 5 %", "--lines", "1");
        await FailsAsync(3, "steps that have: clean", "run", "output", "r1", "--step", "clena");
        await TellsAsync("r1/added-", "follow-up", "add", "r1", "--title", "its card reader", "--owner", "deck-it", "--due", "2027-01-12");
        var added = $"r1/{(await fleet.Service.Client.RunAsync("r1", Stop)).FollowUps.Single().Name}";
        await ShowsAsync("its card reader", "follow-up", "list", "--owner", "Deck-IT");
        await TellsAsync("1 follow-up assigned", "follow-up", "assign", added, "--owner", "terminal-it");
        await FailsAsync(3, "has no script", "follow-up", "fix", added, "--reason", "x");
        var partly = await fleet.Service.GstairAsync("follow-up", "close", added, "r1/devices", "--reason", "put on again");
        Assert.Equal((3, true), (partly.Exit, partly.Out.Contains("1 follow-up closed", StringComparison.Ordinal)));
        Assert.Contains("Not closed: Run r1 has no open follow-up 'devices'", partly.Error, StringComparison.Ordinal);
        await TellsAsync("put on again", "follow-up", "list", "--closed");
        await FailsAsync(4, "has no open follow-up", "follow-up", "close", added, "--reason", "x");
        await FailsAsync(3, "is no follow-up; expected RUN/NAME", "follow-up", "close", "devices", "--reason", "x");
        await FailsAsync(3, "possible now: ", "run", "decide", "r1", "give-up", "--reason", "x");
        await FailsAsync(3, "asks nothing of a person now", "run", "answer", "done", "r1");
        await FailsAsync(3, "is not in a rollback period", "run", "keep-rollback", "r1", "--until", "2027-02-08", "--reason", "x");
        await FailsAsync(3, "was not rolled back", "outcome", "categorise", "printing", "r1");
        await ShowsAsync("5 are open", "outcome", "show", "small");
        await ShowsAsync("Brae Desktop 7", "overview", "show", "small");
        await ShowsAsync("none", "source", "list");
        await FailsAsync(4, "There is no source 'stock'", "source", "read", "stock");

        // Who may what.
        await TellsAsync("berth-hand", "account", "add", "berth-hand", "--role", "reader", "--site", "*", "--reason", "new here");
        await TellsAsync(
            "berth-hand",
            "account",
            "change",
            "berth-hand",
            "--role",
            "reader",
            "--role",
            "auditor",
            "--site",
            "Westhaven",
            "--reason",
            "she looks after it"
        );
        await ShowsAsync("auditor", "account", "list");
        await TellsAsync("It is kept nowhere", "token", "create", "a dashboard", "--account", "berth-hand", "--days", "7");
        await ShowsAsync("a dashboard", "token", "list");
        await TellsAsync("t2", "token", "end", "t2", "--reason", "it is gone");
        await ShowsAsync("none", "session", "list");
        await FailsAsync(4, "s99", "session", "end", "s99");
        await TellsAsync("berth-hand", "account", "end", "berth-hand", "--reason", "she left");
        await TellsAsync("fleet-key", "secret", "put", "fleet-key", "--file", fleet.Service.Write("a key of nobody", "key"));
        await ShowsAsync("fleet-key", "secret", "list");
        await TellsAsync("1", "secret", "rotate");
        await TellsAsync("fleet-key", "secret", "remove", "fleet-key", "--reason", "not used");
        await ShowsAsync("0 ", "host-key", "list");
        var known = fleet.Service.Write("# none\n", "known_hosts");
        await ShowsAsync("", "host-key", "compare", known);
        await TellsAsync("none", "host-key", "import", known, "--reason", "from the build server");
        await TellsAsync("Westhaven", "host-key", "first-use", "Westhaven", "--reason", "they are new");
        await ShowsAsync("", "script", "uses");
        await ShowsAsync("plan hold", "audit", "list");
        await TellsAsync("Wrote ", "audit", "export", "--out", Path.Combine(fleet.Service.Data, "audit.jsonl"));
        await TellsAsync("every one as it was sealed", "audit", "verify", Path.Combine(fleet.Service.Data, "audit.jsonl"));
        var pack = Path.Combine(fleet.Service.Data, "evidence.zip");
        await TellsAsync("Wrote ", "run", "evidence", "r1", "--out", pack);
        using (var zip = System.IO.Compression.ZipFile.OpenRead(pack))
        using (var printed = new StreamReader(zip.GetEntry("outputs/1-clean-1.txt")!.Open()))
            Assert.Contains("removing old media, 0 %", await printed.ReadToEndAsync(Stop), StringComparison.Ordinal);
        await TellsAsync("every byte as it was signed", "evidence", "verify", pack);
        await ShowsAsync("plans", "node", "duties");
        var metrics = "";
        await Eventually.TrueAsync(
            async () =>
            {
                using var answer = await Calls.SendAsync(fleet.Service, "GET", "/metrics");
                return (metrics = await answer.Content.ReadAsStringAsync(Stop)).Contains(
                    "grandstair_duty_pass_duration_count{duty=\"plans\"}",
                    StringComparison.Ordinal
                );
            },
            TimeSpan.FromSeconds(60),
            () => $"the duty is measured: {string.Join('\n', metrics.Split('\n').Where(l => l.Contains("duty", StringComparison.Ordinal)))}"
        );
        await TellsAsync("1 removed", "machine", "remove", "desk-5", "--reason", "sold");
        await TellsAsync("desk-5", "machine", "restore", "desk-5", "--reason", "bought back");
        await FailsAsync(4, "There is no import 99", "fleet", "undo", "99", "--reason", "wrong");
        Assert.Contains("complete -", await fleet.Service.OkAsync("completion", "bash"), StringComparison.Ordinal);

        Assert.True(_wrong.Count == 0, string.Join("\n\n", _wrong));

        // What asks a person, or goes on until it is stopped, has tests of its own.
        string[] apart = ["run watch", "account password", "login", "logout", "completion"];
        Assert.Equal((await AllAsync()).Except(apart).Order(), _ran.Order());
    }

    private async Task SupportCasesAsync()
    {
        string[] open = ["case", "open", "desk-2", "--number", "NM-1", "--with", "the vendor", "--about", "its chip"];
        await TellsAsync("Case c1, number NM-1 with the vendor: with support", open);
        await FailsAsync(3, "is open under the number NM-1 with the vendor already", open);
        await ShowsAsync("its chip", "case", "list", "--machine", "desk-2");
        await TellsAsync("they ask for the bundle", "case", "note", "c1", "they ask for the bundle", "--state", "with-us");
        await TellsAsync("appointment: ", "case", "book", "c1", "--from", $"{DateTime.UtcNow.AddDays(1):O}", "--minutes", "30");
        await TellsAsync("Appointment cancelled: not needed", "case", "cancel-appointment", "c1", "--reason", "not needed");
        await TellsAsync("a new board", "case", "close", "c1", "--result", "a new board");
        await ShowsAsync("a new board", "case", "show", "c1");
    }

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    /// <summary>A command for people: it succeeds and says something in particular.</summary>
    private Task TellsAsync(string says, params string[] words) => RunAsync(0, says, r => r.Out, words);

    /// <summary>A command that shows something: to people in words, to programs as JSON with all of it and nothing else.</summary>
    private async Task ShowsAsync(string says, params string[] words)
    {
        // What changes something is done once.
        if (words[1] is not ("create" or "recheck"))
            await TellsAsync(says, words);
        _ran.Add($"{words[0]} {words[1]}");
        var ran = await fleet.Service.GstairAsync([.. words, "--json"]);
        try
        {
            using var document = JsonDocument.Parse(ran.Out);
            if (document.RootElement.ValueKind is not (JsonValueKind.Object or JsonValueKind.Array))
                _wrong.Add($"gstair {string.Join(' ', words)} --json: {ran.Out}");
        }
        catch (JsonException)
        {
            _wrong.Add($"gstair {string.Join(' ', words)} --json: {ran.Exit} {ran.Error}{ran.Out}");
        }
    }

    /// <summary>A command that cannot be carried out as things are: it says why on the error output.</summary>
    private Task FailsAsync(int exit, string says, params string[] words) => RunAsync(exit, says, r => r.Error, words);

    private async Task RunAsync(int exit, string says, Func<Ran, string> where, string[] words)
    {
        _ran.Add($"{words[0]} {words[1]}");
        var ran = await fleet.Service.GstairAsync(words);
        var said = where(ran);
        if (ran.Exit != exit || !said.Contains(says, StringComparison.Ordinal) || NotForPeople().IsMatch(said))
            _wrong.Add($"gstair {string.Join(' ', words)}: expected {exit} and '{says}', and not {ran.Exit}: {ran.Error}{ran.Out}");
    }

    /// <summary>Every command of the client, found by its help.</summary>
    private async Task<IReadOnlyList<string>> AllAsync()
    {
        var all = new List<string>();
        foreach (var noun in Commands(await fleet.Service.OkAsync("--help")))
        {
            var verbs = Commands(await fleet.Service.OkAsync(noun, "--help"));
            all.AddRange(verbs.Select(v => $"{noun} {v}").DefaultIfEmpty(noun));
        }

        return all;
    }

    private static string[] Commands(string help) =>
        help.IndexOf("Commands:", StringComparison.Ordinal) is var at and >= 0
            ? [.. CommandLine().Matches(help[at..]).Select(m => m.Groups[1].Value)]
            : [];

    [GeneratedRegex(@"^  ([a-z][a-z-]+) .*\S", RegexOptions.Multiline)]
    private static partial Regex CommandLine();

    /// <summary>Marks of ours that were to become bold, names of types, and traces.</summary>
    [GeneratedRegex(@"\*\*|GrandStair\.[A-Z]|System\.[A-Z]|^   at ", RegexOptions.Multiline)]
    private static partial Regex NotForPeople();
}
