using System.IO.Compression;
using System.Text.Json;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>What decides whether a machine may go, and what people do about it, through the client.</summary>
public sealed class JudgeTests(JudgedFleet fleet) : IClassFixture<JudgedFleet>
{
    private const string Hostile = "<script>alert(1)</script>\u001b[31mred =1+1";

    private ServiceProcess Service => fleet.Service;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Theory]
    [InlineData("chip-newer-yes", "open", null, "no")]
    [InlineData("chip-newer-no", "blocked", "no", "yes")]
    [InlineData("chip-both-stale", "undecided", "must not be older than 7 d", "no")]
    [InlineData("chip-one-missing", "blocked", "no", null)]
    public async Task Of_two_sources_that_conflict_the_newer_counts_and_the_older_stays_visible(
        string name,
        string gate,
        string? seen,
        string? differs
    )
    {
        var view = await Service.Client.GateAsync(name, null, null, null, Stop);
        Assert.Equal(gate, view.Gate);
        var printed = (await Service.GstairAsync("machine", "gate", name)).Out;
        Assert.Contains($"the gate is {gate}", printed, StringComparison.Ordinal);
        if (seen is not null)
            Assert.Contains(seen, printed, StringComparison.Ordinal);
        var shown = (await Service.GstairAsync("machine", "show", name)).Out;
        if (differs is null)
            Assert.DoesNotContain("differs from", shown, StringComparison.Ordinal);
        else
            Assert.Matches($@"firmware\.tpm\.state .*differs from (agent|scan) \d+ d ago: {differs}", shown);
        var listed = (await Service.Client.ConflictsAsync($"name = \"{name}\"", 10, Stop)).Items;
        Assert.Equal(differs is null ? [] : [(name, "firmware.tpm.state", differs)], listed.Select(d => (d.Machine, d.Key, d.Other)));
    }

    [Fact]
    public async Task A_gateway_says_which_of_its_radios_the_target_does_not_support_and_what_to_do()
    {
        var gate = await Service.Client.GateAsync("gate-1", null, null, null, Stop);
        Assert.Equal("blocked", gate.Gate);
        Assert.Equal(["firmware-2-to-2.4", "3-to-4"], gate.Legs.Select(l => l.Hop));
        var radios = gate.Checks.Single(c => c.Name == "radios");
        Assert.Equal("gate-1-radio-07, model Skua 1, product Skerry Radio, version not known", radios.Seen[0].Shown);
        Assert.Contains("Replace that radio by a Skua 2", radios.Fix.Words, StringComparison.Ordinal);

        // Another radio in its place, and the gateway's table follows.
        fleet.Import("name,os.product,hardware.model,hangs-on\ngate-1-radio-07,Skerry Radio,Skua 2,gate-1\n");
        var afterFix = await Service.Client.GateAsync("gate-1", null, null, null, Stop);
        Assert.Equal(("open", "met"), (afterFix.Gate, afterFix.Checks.Single(c => c.Name == "radios").State));
        Assert.Contains("12: gate-1-radio-01", (await Service.GstairAsync("machine", "show", "gate-1")).Out, StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_cannot_be_fixed_is_told_apart_from_what_is_merely_switched_off()
    {
        var old = await Service.GstairAsync("machine", "gate", "desk-old");
        Assert.Contains("hardware.processor = Ness 2", old.Out, StringComparison.Ordinal);
        Assert.Contains("Release 7 does not run on this processor", old.Out, StringComparison.Ordinal);
        Assert.Equal("replace", (await Service.Client.GateAsync("desk-old", null, null, null, Stop)).Instead);
        Assert.Contains(
            "Switch it on in the firmware menu, page Security. (person, 10 min)",
            (await Service.GstairAsync("machine", "gate", "desk-off")).Out,
            StringComparison.Ordinal
        );
        var beyond = await Service.Client.ReadinessMachinesAsync(
            "Brae Desktop",
            null,
            null,
            "name like \"desk-*\"",
            null,
            null,
            "not-fixable",
            Stop
        );
        Assert.Equal(["desk-kiosk", "desk-old"], beyond.Items.Select(m => m.Name));
        Assert.Contains(
            "edition 'Kiosk' cannot upgrade",
            (await Service.GstairAsync("machine", "gate", "desk-kiosk")).Out,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_second_hop_may_need_what_the_first_one_brings()
    {
        var gate = await Service.Client.GateAsync("srv-4", null, null, null, Stop);
        Assert.Equal(["4-to-5", "5-to-6"], gate.Route);
        Assert.Equal("native", gate.Legs[0].Brings["firmware.mode"]);
        Assert.Equal(
            ("firmware-mode", "deferred"),
            gate.Checks.Where(c => c.Leg == 2 && c.Name == "firmware-mode").Select(c => (c.Name, c.State)).Single()
        );
        Assert.Equal("open", gate.Gate);
        // One that stands at the second hop already has to bring it itself.
        Assert.Equal(
            "unmet",
            (await Service.Client.GateAsync("srv-5", null, null, null, Stop)).Checks.Single(c => c.Name == "firmware-mode").State
        );
    }

    [Fact]
    public async Task A_waiver_opens_a_gate_and_its_end_closes_it_again()
    {
        Assert.Contains(
            "cannot be waived: the catalogue does not allow it",
            (await Service.GstairAsync("check", "waive", "desk-old", "processor", "--until", JudgedFleet.Day(5), "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "did you mean 'space'",
            (await Service.GstairAsync("check", "waive", "desk-full", "spaec", "--until", JudgedFleet.Day(5), "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "expected a day such as",
            (await Service.GstairAsync("check", "waive", "desk-full", "space", "--until", "soon", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "ends within a year",
            (await Service.GstairAsync("check", "waive", "desk-full", "space", "--until", "2099-01-01", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "the gate is open",
            (
                await Service.GstairAsync(
                    "check",
                    "waive",
                    "desk-full",
                    "space",
                    "--until",
                    JudgedFleet.Day(5),
                    "--reason",
                    "a second disk comes"
                )
            ).Out,
            StringComparison.Ordinal
        );
        var view = await Service.Client.ReadinessAsync("Brae Desktop", null, null, "name = desk-full", Stop);
        Assert.Equal((1, 1), (view.Open, view.Checks.Single(c => c.Name == "space").Waived));
        var waiver = (await Service.Client.WaiversAsync(Stop)).Single(w => w.Machine == "desk-full");
        Assert.Equal(("active", "a second disk comes", "admin"), (waiver.State, waiver.Reason, waiver.By));

        // It got worse: the waiver no longer counts, and says why.
        fleet.Import("name,disk.system.free\ndesk-full,9 GiB\n");
        var lapsed = await Service.GstairAsync("machine", "gate", "desk-full");
        Assert.Contains("the gate is blocked", lapsed.Out, StringComparison.Ordinal);
        Assert.Contains("when admin waived it and is '9 GiB' now", lapsed.Out, StringComparison.Ordinal);
        fleet.Import("name,disk.system.free\ndesk-full,21 GiB\n");
        Assert.Contains("the gate is open", (await Service.GstairAsync("machine", "gate", "desk-full")).Out, StringComparison.Ordinal);
        Assert.Equal(0, (await Service.GstairAsync("check", "end-waiver", waiver.Id!, "--reason", "the disk is in")).Exit);
        Assert.Contains("the gate is blocked", (await Service.GstairAsync("machine", "gate", "desk-full")).Out, StringComparison.Ordinal);
        Assert.Equal(4, (await Service.GstairAsync("check", "end-waiver", waiver.Id!, "--reason", "again")).Exit);
    }

    [Fact]
    public async Task A_check_is_asked_again_from_exactly_the_readings_that_it_needs()
    {
        // The inventory says that the chip is off; meanwhile somebody has switched it on.
        var before = await Service.Client.MachineAsync("desk-live", Stop);
        var gate = await Service.Client.RecheckAsync("desk-live", "security-chip", Stop);
        Assert.Equal("met", gate.Checks.Single(c => c.Name == "security-chip").State);
        var after = await Service.Client.MachineAsync("desk-live", Stop);
        Assert.Equal(["firmware.tpm.state", "firmware.tpm.version"], after.Readings.Where(r => r.Source == "simulated").Select(r => r.Key));
        Assert.Equal(
            before.Readings.Single(r => r.Key == "disk.system.free").Seen,
            after.Readings.Single(r => r.Key == "disk.system.free").Seen
        );
        var history = await Service.Client.HistoryAsync("desk-live", "firmware.tpm.state", Stop);
        Assert.Equal([("yes", "simulated"), ("no", "inventory")], history.Select(h => (h.Shown, h.Source)));
        Assert.Contains(
            "There is no key 'firmware.tpm.stat'; did you mean 'firmware.tpm.state'?",
            (await Service.GstairAsync("machine", "history", "desk-live", "firmware.tpm.stat")).Error,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_fix_script_runs_over_the_link_is_logged_and_the_check_is_asked_again()
    {
        Assert.Contains(
            "No script fixes 'memory'",
            (await Service.GstairAsync("check", "fix", "desk-fix", "memory", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        // Its script restarts the machine, which has no plan and so no window.
        Assert.Contains(
            "restarts desk-fix, and without a plan it has no window",
            (await Service.GstairAsync("check", "fix", "desk-fix", "patched", "--reason", "late")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "is running",
            (await Service.GstairAsync("check", "fix", "desk-fix", "patched", "--now", "--reason", "its owner agrees")).Out,
            StringComparison.Ordinal
        );
        FixRunView? fix = null;
        await Eventually.TrueAsync(
            async () => (fix = (await Service.Client.FixesAsync("desk-fix", Stop))[0]).Ended is not null,
            TimeSpan.FromSeconds(60),
            () => $"the fix ends: {fix?.Note}"
        );
        Assert.Equal(("done", 0, "met", "admin", "patch.brae"), (fix!.State, fix.Exit, fix.CheckState, fix.Actor, fix.Script));
        Assert.Equal(64, fix.ScriptHash.Length);
        Assert.Equal(
            "met",
            (await Service.Client.GateAsync("desk-fix", null, null, null, Stop)).Checks.Single(c => c.Name == "patched").State
        );
        Assert.Contains(
            "is met on desk-fix; there is nothing to fix",
            (await Service.GstairAsync("check", "fix", "desk-fix", "patched", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains("patch.brae", File.ReadAllText(await fleet.ReferAsync("desk-fix", "log.jsonl")), StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_to_fix_is_ranked_and_every_number_leads_to_its_machines()
    {
        var view = await Service.Client.ReadinessAsync("Brae Desktop", null, null, "name like \"rank-*\"", Stop);
        Assert.Equal([("space", 3, 2, 3), ("security-chip", 2, 2, 5)], view.ToFix.Select(m => (m.Check, m.Machines, m.Opens, m.OpenThen)));
        Assert.Equal((5, 1, 0, 4), (view.Machines, view.Open, view.Undecided, view.Blocked));
        var rows = await Service.Client.ReadinessMachinesAsync(
            "Brae Desktop",
            null,
            null,
            "name like \"rank-*\"",
            "space",
            "unmet",
            null,
            Stop
        );
        Assert.Equal(["rank-2", "rank-3", "rank-4"], rows.Items.Select(r => r.Name));
        Assert.Contains(
            "What to fix, in the order that opens the most gates",
            (await Service.GstairAsync("readiness", "show", "--product", "Brae Desktop", "--where", "name like \"rank-*\"")).Out,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Exposure_counts_machines_per_release_with_the_days_that_are_left()
    {
        var product = Assert.Single(await Service.Client.ExposureAsync("Brae Server", "2029-12-31", Stop));
        Assert.Equal(
            [("Brae Server 4", "Standard", 1, "2026-11-10"), ("Brae Server 5", "Standard", 1, "2029-05-15")],
            product.Releases.Select(r => (r.Name, r.Edition!, r.Machines, r.SupportEnds!))
        );
        Assert.Equal(2, product.Falling);
        var left = new DateOnly(2029, 5, 15).DayNumber - DateOnly.FromDateTime(DateTime.UtcNow).DayNumber + 1;
        Assert.InRange(product.Releases[1].DaysLeft!.Value, left - 1, left + 1);
        Assert.Equal(["srv-5"], (await Service.Client.MachinesAsync(product.Releases[1].Condition, 10, Stop)).Items.Select(m => m.Name));
        Assert.Contains("Brae Server: 2 machines", (await Service.GstairAsync("exposure", "show")).Out, StringComparison.Ordinal);
        Assert.Contains(
            "expected a day such as",
            (await Service.GstairAsync("exposure", "show", "--by", "spring")).Error,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Hostile_readings_are_text_in_the_client_the_csv_and_the_page_that_stands_alone()
    {
        var printed = (await Service.GstairAsync("machine", "show", "evil")).Out;
        Assert.DoesNotContain('\u001b', printed);
        Assert.Contains("<script>alert(1)</script>", printed, StringComparison.Ordinal);
        var html = (
            await Service.GstairAsync("readiness", "report", "--product", "Brae Desktop", "--where", "name = evil or name like \"=*\"")
        ).Out;
        Assert.DoesNotContain("<script", html, StringComparison.Ordinal);
        Assert.Contains("&lt;script&gt;alert(1)&lt;/script&gt;", html, StringComparison.Ordinal);
        Assert.DoesNotContain('\u001b', html);
        var csv = (
            await Service.GstairAsync("readiness", "report", "--product", "Brae Desktop", "--where", "name like \"=*\"", "--format", "csv")
        ).Out;
        Assert.Contains(
            "\n'=cmd|' /C calc'!A0,",
            csv.Replace("\"", "", StringComparison.Ordinal).Replace("\r", "", StringComparison.Ordinal),
            StringComparison.Ordinal
        );
        Assert.DoesNotMatch("(?m)^\"?[=+@-]", csv);
        var json = JsonDocument.Parse(
            (await Service.GstairAsync("readiness", "report", "--product", "Brae Desktop", "--format", "json")).Out
        );
        Assert.True(json.RootElement.GetProperty("of").GetArrayLength() > 10);
        Assert.Contains("\\u003Cscript", File.ReadAllText(await fleet.ReferAsync("evil", "readings.json")), StringComparison.Ordinal);
        // The longest text that is accepted is kept and shown in part.
        Assert.InRange((await Service.GstairAsync("machine", "show", "huge")).Out.Length, 1000, 2_000_000);
        Assert.Contains(
            "<h1>evil to Brae Desktop 7",
            File.ReadAllText(await fleet.ReferAsync("evil", "report.html")),
            StringComparison.Ordinal
        );
    }

    /// <summary>What hostile machines report; the fixture imports it.</summary>
    internal static string HostileText => Hostile;
}

/// <summary>A service with machines in every state that the tests ask about.</summary>
public sealed class JudgedFleet : IAsyncLifetime
{
    private const string Good = "Brae Desktop,Workplace,6.4,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,NOW,100 Mbit/s,,4.2";
    private const string Columns =
        "name,connection,os.product,os.edition,os.version,hardware.processor,hardware.memory,firmware.tpm.version,firmware.tpm.state,"
        + "disk.system.free,patches.pending,licence.active,backup.last,network.rate,offer.release,driver.printer";

    /// <summary>The service.</summary>
    public ServiceProcess Service { get; private set; } = null!;

    /// <summary>A day from now on, as it is written.</summary>
    public static string Day(int from) => $"{DateTimeOffset.UtcNow.AddDays(from):yyyy-MM-dd}";

    /// <inheritdoc />
    public async ValueTask InitializeAsync()
    {
        var truth = Path.GetTempFileName();
        var unpatched = Good.Replace(",80 GiB,0,", ",80 GiB,3,", StringComparison.Ordinal);
        await File.WriteAllTextAsync(
            truth,
            $"name,{Columns["name,connection,".Length..]}\ndesk-live,{Good}\ndesk-fix,{unpatched}\n".Replace(
                "NOW",
                Now(),
                StringComparison.Ordinal
            )
        );
        Service = await ServiceProcess.StartAsync("--pace", "60", "--simulated", truth);
        string Desk(string name, params (string From, string To)[] but) =>
            $"{name},simulated,{but.Aggregate(Good, (text, b) => text.Replace(b.From, b.To, StringComparison.Ordinal))}\n";
        var desks = string.Concat(
            Desk("desk-old", ("Ness 6", "Ness 2")),
            Desk("desk-off", (",on,", ",off,")),
            Desk("desk-kiosk", ("Workplace", "Kiosk")),
            Desk("desk-full", ("80 GiB", "20 GiB")),
            Desk("desk-live", (",on,", ",off,")),
            Desk("desk-fix", (",80 GiB,0,", ",80 GiB,3,")),
            Desk("rank-1"),
            Desk("rank-2", ("80 GiB", "20 GiB")),
            Desk("rank-3", ("80 GiB", "20 GiB")),
            Desk("rank-4", ("80 GiB", "20 GiB"), (",on,", ",off,")),
            Desk("rank-5", (",on,", ",off,")),
            Desk("evil", ("Workplace", $"\"{JudgeTests.HostileText}\"")),
            Desk("\"=cmd|' /C calc'!A0\"", (",on,", ",off,")),
            Desk("huge", ("Ness 6", new string('x', 65_536)))
        );
        Import($"{Columns}\n{desks}");
        string[] chips = ["chip-newer-yes", "chip-newer-no", "chip-both-stale", "chip-one-missing"];
        Import(
            $"{Columns}\n{string.Concat(chips.Select(c => Desk(c)))}"
                .Replace(",firmware.tpm.state", "", StringComparison.Ordinal)
                .Replace(",2.0,on,", ",2.0,", StringComparison.Ordinal)
        );
        foreach (
            var (name, source, state, days) in new[]
            {
                (chips[0], "scan", "no", -3),
                (chips[0], "agent", "yes", -1),
                (chips[1], "scan", "yes", -3),
                (chips[1], "agent", "no", -1),
                (chips[2], "scan", "no", -30),
                (chips[2], "agent", "yes", -20),
                (chips[3], "agent", "no", -1),
            }
        )
            Import($"name,firmware.tpm.state\n{name},{state}\n", source, days);

        Import(
            "name,connection,os.product,os.edition,os.version,hardware.memory,disk.system.free,firmware.mode,apps,services\n"
                + "srv-4,simulated,Brae Server,Standard,4,32 GiB,90 GiB,legacy,[],[]\nsrv-5,simulated,Brae Server,Standard,5,32 GiB,90 "
                + "GiB,legacy,[],[]\n"
        );
        Import(
            "name,connection,os.product,os.version,gateway.firmware,gateway.pair,disk.system.free\ngate-1,simulated,Skerry "
                + "Gateway,3,2.1,,6 GiB\n"
        );
        Import(
            "name,connection,os.product,hardware.model,hangs-on\n"
                + string.Concat(
                    Enumerable
                        .Range(1, 12)
                        .Select(i => $"gate-1-radio-{i:00},simulated,Skerry Radio,{(i == 7 ? "Skua 1" : "Skua 2")},gate-1\n")
                )
        );
        File.Delete(truth);
    }

    /// <summary>Imports a file; what it says was seen so many days from now.</summary>
    public void Import(string csv, string source = "inventory", int days = 0)
    {
        var file = Path.Combine(Service.Data, $"{Guid.NewGuid():N}.csv");
        File.WriteAllText(file, csv.Replace("NOW", Now(), StringComparison.Ordinal));
        var ran = Service
            .GstairAsync(
                "fleet",
                "import",
                file,
                "--source",
                source,
                "--seen",
                days == 0 ? "now" : $"{DateTimeOffset.UtcNow.AddDays(days):yyyy-MM-ddTHH:mm:ssZ}"
            )
            .GetAwaiter()
            .GetResult();
        Assert.True(ran.Exit == 0, ran.Error);
    }

    /// <summary>Fetches a machine's referral pack and returns the path of one file of it.</summary>
    public async Task<string> ReferAsync(string machine, string entry)
    {
        var zip = Path.Combine(Service.Data, $"{Guid.NewGuid():N}.zip");
        Assert.Equal(0, (await Service.GstairAsync("machine", "support-pack", machine, "--out", zip)).Exit);
        var folder = Directory.CreateDirectory(zip + ".d").FullName;
        ZipFile.ExtractToDirectory(zip, folder);
        Assert.Equal(["log.jsonl", "readings.json", "report.html"], Directory.GetFiles(folder).Select(f => Path.GetFileName(f)!).Order());
        return Path.Combine(folder, entry);
    }

    /// <inheritdoc />
    public ValueTask DisposeAsync() => Service.DisposeAsync();

    private static string Now() => $"{DateTimeOffset.UtcNow:yyyy-MM-ddTHH:mm:ssZ}";
}
