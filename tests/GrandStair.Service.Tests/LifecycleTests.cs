using System.Net.Http.Json;
using System.Text.Json;
using GrandStair.Client;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>One plan from its file to its outcomes by the client's commands, on simulated machines of the test's own.</summary>
public sealed class LifecycleTests
{
    /// <summary>What is true of its simulated machines.</summary>
    internal const string Truth = """
        name,os.product,os.edition,os.version,hardware.processor,hardware.memory,firmware.tpm.version,firmware.tpm.state,disk.system.free,patches.pending,licence.active,backup.last,network.rate,offer.release,driver.printer,power.mains,disk.encryption,services.failed,device.faults,truth.backup
        desk-1,Brae Desktop,Counter,6.4,Ness 5,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,-,4.2,yes,on,0,2,nightly
        desk-2,Brae Desktop,Counter,6.4,Ness 5,16 GiB,2.0,off,80 GiB,0,yes,-,200 Mbit/s,-,4.2,yes,on,0,0,nightly
        desk-3,Brae Desktop,Workplace,6.4,Ness 2,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,7,4.2,yes,on,0,0,nightly
        desk-4,Brae Desktop,Workplace,6.4,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,7,4.2,no,on,0,1,nightly
        desk-5,Brae Desktop,Kiosk,6.4,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,-,4.2,yes,on,0,0,nightly
        desk-6,Brae Desktop,Workplace,7.1,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,-,4.2,yes,on,0,0,nightly
        """;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_plan_is_made_started_held_decided_about_and_comes_to_its_outcomes()
    {
        var truth = Path.GetTempFileName();
        await File.WriteAllTextAsync(truth, Truth, Stop);
        await using var service = await ServiceProcess.StartAsync("--pace", "idle", "--simulated", truth);
        await File.WriteAllTextAsync(
            Path.Combine(service.Data, "fleet.csv"),
            "name,site,connection,owner\n"
                + string.Concat(Enumerable.Range(1, 6).Select(i => $"desk-{i},{(i < 4 ? "Westhaven" : "Eastness")},simulated,deck-it\n")),
            Stop
        );
        await service.OkAsync("fleet", "import", Path.Combine(service.Data, "fleet.csv"));

        // Nothing is known of them yet, so nothing is in the scope; each is read over its connection.
        await File.WriteAllTextAsync(
            Path.Combine(service.Data, "plan.yaml"),
            SmallFleet.Plan.Replace(
                "{ name: Pilot, members: tag = \"pilot\" }",
                "{ name: Pilot, members: name = \"desk-1\" }",
                StringComparison.Ordinal
            ) + "\nlead: 0 s\n",
            Stop
        );
        var early = await service.GstairAsync("plan", "create", Path.Combine(service.Data, "plan.yaml"));
        Assert.Equal(3, early.Exit);
        Assert.Contains("No machine is in the scope of plan 'small'", early.Error, StringComparison.Ordinal);
        Assert.Contains("for 6 it is unknown", early.Error, StringComparison.Ordinal);
        for (var i = 1; i <= 6; i++)
            Assert.Contains("Brae Desktop", await service.OkAsync("machine", "read", $"desk-{i}"), StringComparison.Ordinal);

        Assert.Contains(
            "drafted, 5 machines",
            await service.OkAsync("plan", "create", Path.Combine(service.Data, "plan.yaml")),
            StringComparison.Ordinal
        );
        var twice = await service.GstairAsync("plan", "create", Path.Combine(service.Data, "plan.yaml"));
        Assert.Contains("There is a plan 'small' already", twice.Error, StringComparison.Ordinal);
        Assert.Contains(
            "is not running",
            (await service.GstairAsync("plan", "hold", "small", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        var unread = await service.GstairAsync("plan", "start", "small");
        Assert.Equal(3, unread.Exit);
        Assert.Contains(
            "these must be acknowledged: licence-carries (The licence carries over only if",
            unread.Error,
            StringComparison.Ordinal
        );
        Assert.Contains("2 of 2 are still open", await service.OkAsync("plan", "acknowledge", "small"), StringComparison.Ordinal);
        Assert.Contains(
            "Say why, with --reason",
            (await service.GstairAsync("plan", "acknowledge", "small", "--all")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "has nothing named 'x' to acknowledge",
            (await service.GstairAsync("plan", "acknowledge", "small", "x", "--reason", "y")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "0 of 2 are still open",
            await service.OkAsync("plan", "acknowledge", "small", "--all", "--reason", "read it to the terminals"),
            StringComparison.Ordinal
        );
        Assert.Contains("started", await service.OkAsync("plan", "start", "small"), StringComparison.Ordinal);
        Assert.Contains("is running already", (await service.GstairAsync("plan", "start", "small")).Error, StringComparison.Ordinal);

        await StandAsync(service, "desk-1", "verified");
        var run = JsonDocument.Parse(await service.OkAsync("run", "show", "r1", "--json")).RootElement;
        Assert.Equal("desk-1", run.GetProperty("run").GetProperty("machine").GetString());
        Assert.All(run.GetProperty("steps").EnumerateArray().Where(s => s.GetProperty("phase").GetString() != "roll-back"), s =>
            Assert.Equal("done", s.GetProperty("state").GetString())
        );

        // What is reported stays open for now, and so does the run.
        var (report, link) = await ReportAsync(service);
        await FixDevicesAsync(service);

        // The second wave begins after its soak; desk-4 hangs on battery and is parked in the window.
        await StandAsync(service, "desk-4", "parked");
        var parked = await service.Client.RunsAsync("small", "parked", 10, Stop);
        var four = Assert.Single(parked.Items);
        Assert.Equal("the gate is blocked: Mains power (found: power.mains = no)", four.Parked);
        Assert.Contains(
            "possible now: retry, cancel",
            (await service.GstairAsync("run", "decide", four.Run, "give-up", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "expected one of retry",
            (await service.GstairAsync("run", "decide", four.Run, "try-again", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "cancelled",
            await service.OkAsync("run", "decide", four.Run, "cancel", "--reason", "it is at sea"),
            StringComparison.OrdinalIgnoreCase
        );
        await StandAsync(service, "desk-4", "stopped");
        await service.OkAsync(
            "plan",
            "exempt",
            "small",
            "desk-4",
            "--as",
            "stays",
            "--until",
            "2027-09-30",
            "--reason",
            "at sea until autumn"
        );

        Assert.Contains(
            "give it with --until",
            (await service.GstairAsync("plan", "exempt", "small", "desk-5", "--as", "stays", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "expected one of replaced, retired, stays",
            (await service.GstairAsync("plan", "exempt", "small", "desk-5", "--as", "gone", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "is not in plan",
            (await service.GstairAsync("plan", "exempt", "small", "desk-6", "--as", "retired", "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        foreach (var name in new[] { "desk-2", "desk-3", "desk-5" })
            await service.OkAsync("plan", "exempt", "small", name, "--as", "replaced", "--reason", "a new one is on order");

        Assert.Contains("held: storm", await service.OkAsync("plan", "hold", "small", "--reason", "storm"), StringComparison.Ordinal);
        Assert.Contains("held: storm", await service.OkAsync("plan", "list"), StringComparison.Ordinal);
        await service.OkAsync("plan", "start", "small");
        await service.OkAsync("follow-up", "close", report, "--reason", "cut length set");
        Assert.Empty((await service.Client.FollowUpsAsync(null, null, false, 10, Stop)).Items);
        using var anybody = new HttpClient { BaseAddress = service.Url };
        Assert.Contains("cut length set", await anybody.GetStringAsync($"/api/v1/shared/{link}", Stop), StringComparison.Ordinal);
        await Eventually.TrueAsync(
            async () => (await service.Client.PlanAsync("small", Stop)).Plan.State == "ended",
            TimeSpan.FromMinutes(8),
            () => "the plan ends when the rollback period is over"
        );

        var outcomes = await service.OkAsync("outcome", "show", "small");
        Assert.Contains("5 of 5 have an outcome or an exemption, 0 are open", outcomes, StringComparison.Ordinal);
        Assert.Contains(
            "exempt: 1 stays, 3 replaced",
            string.Join(' ', outcomes.Split(default(char[]), StringSplitOptions.RemoveEmptyEntries))
                .Replace("3 replaced, 1 stays", "1 stays, 3 replaced", StringComparison.Ordinal),
            StringComparison.Ordinal
        );
        Assert.Contains("until autumn", await service.OkAsync("plan", "machines", "small", "--status", "exempt"), StringComparison.Ordinal);
        Assert.Contains("Brae Desktop 7: 1 of 5 verified", await service.OkAsync("overview", "show"), StringComparison.Ordinal);
        Assert.Contains("has ended", (await service.GstairAsync("plan", "start", "small")).Error, StringComparison.Ordinal);
        File.Delete(truth);
    }

    [Fact]
    public async Task Changes_are_told_live_and_a_watcher_that_comes_back_misses_none()
    {
        await using var service = await ServiceProcess.StartAsync();
        var file = Path.Combine(service.Data, "one.csv");
        for (var i = 0; i < 3; i++)
        {
            await File.WriteAllTextAsync(file, $"name,connection\nlive-{i},simulated\n", Stop);
            await service.OkAsync("fleet", "import", file, "--source", $"source-{i}");
        }

        // The first start's own account and token are changes too.
        var all = await TakeAsync(service, after: 0, 4);
        Assert.Equal(["admin", "t1"], all.Take(2).Select(c => c.Subject));
        var first = all.Skip(2).ToArray();
        Assert.Equal(["source-0", "source-1"], first.Select(c => c.Subject));
        var rest = TakeAsync(service, after: first[^1].Position, 2);
        await File.WriteAllTextAsync(file, "name,connection\nlive-9,simulated\n", Stop);
        await service.OkAsync("fleet", "import", file, "--source", "source-9");
        Assert.Equal(["source-2", "source-9"], (await rest).Select(c => c.Subject));
        Assert.Equal([1L, 2, 3, 4], all.Select(c => c.Position));
    }

    [Fact]
    public async Task A_list_comes_in_parts_that_join_to_the_whole()
    {
        await using var service = await ServiceProcess.StartAsync();
        var file = Path.Combine(service.Data, "many.csv");
        await File.WriteAllTextAsync(
            file,
            "name,connection\n" + string.Concat(Enumerable.Range(0, 2300).Select(i => $"m-{i:0000},simulated\n")),
            Stop
        );
        await service.OkAsync("fleet", "import", file);
        var all = await service.Client.MachinesAsync(null, int.MaxValue, Stop);
        Assert.Equal((2300, 2300, null), (all.Total, all.Items.Select(m => m.Name).Distinct().Count(), all.Next));
        using var http = new HttpClient { BaseAddress = service.Url };
        http.DefaultRequestHeaders.Authorization = new("Bearer", service.Token);
        foreach (
            var (query, says) in new[]
            {
                ("limit=0", "expected 1 to 1000"),
                ("limit=9999", "expected 1 to 1000"),
                ("cursor=zz", "is no cursor of this list"),
                ("cursor=99999", "is no cursor of this list"),
            }
        )
        {
            using var response = await http.GetAsync(new Uri($"/api/v1/machines?{query}", UriKind.Relative), Stop);
            var problem = JsonDocument.Parse(await response.Content.ReadAsStringAsync(Stop)).RootElement;
            Assert.Equal(400, (int)response.StatusCode);
            Assert.StartsWith("urn:grandstair:problem:", problem.GetProperty("type").GetString(), StringComparison.Ordinal);
            Assert.Contains(says, problem.GetProperty("detail").GetString(), StringComparison.Ordinal);
        }

        using var unknown = await http.GetAsync(new Uri("/api/v1/nothing", UriKind.Relative), Stop);
        Assert.Equal(404, (int)unknown.StatusCode);
    }

    [Fact]
    public async Task An_import_that_a_kill_cuts_short_goes_on_where_it_stopped()
    {
        await using var service = await ServiceProcess.StartAsync();
        var file = Path.Combine(service.Data, "big.csv");
        await File.WriteAllTextAsync(
            file,
            "name,connection,hardware.model\n" + string.Concat(Enumerable.Range(0, 80_000).Select(i => $"k-{i},simulated,Tarn {i % 9}\n")),
            Stop
        );
        var import = service.GstairAsync("fleet", "import", file, "--seen", "now");
        await Eventually.TrueAsync(
            async () => (await service.Client.ImportsAsync(Stop)) is [{ Line: > 0 }],
            TimeSpan.FromMinutes(1),
            () => "some lines are taken"
        );
        var reached = (await service.Client.ImportsAsync(Stop)).Single();
        await service.KillAsync();
        Assert.Empty(Directory.GetFiles(service.Data, "import-*"));
        Assert.Equal(6, (await import).Exit);
        await service.StartAgainAsync();
        var cut = (await service.Client.ImportsAsync(Stop)).Single();
        Assert.Null(cut.Ended);
        Assert.InRange(cut.Line, reached.Line, 80_000);
        Assert.Equal(cut.Line - 1, cut.Added);
        Assert.Equal(cut.Added, (await service.Client.MachinesAsync(null, 1, Stop)).Total);

        Assert.Contains(
            $"had been taken up to line {cut.Line} before",
            await service.OkAsync("fleet", "import", file, "--seen", "now"),
            StringComparison.Ordinal
        );
        var whole = (await service.Client.ImportsAsync(Stop)).Single();
        Assert.Equal((cut.Import, 80_001, 80_001, 80_000, 0), (whole.Import, whole.Line, whole.Lines, whole.Added, whole.Updated));
        Assert.Equal(80_000, (await service.Client.MachinesAsync(null, 1, Stop)).Total);
        // Once it is over, the same file is a new import.
        Assert.Contains(
            "0 added, 80000 updated",
            await service.OkAsync("fleet", "import", file, "--seen", "now"),
            StringComparison.Ordinal
        );
    }

    private static async Task<List<ChangeView>> TakeAsync(ServiceProcess service, long after, int count)
    {
        using var client = service.Client;
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(Stop);
        limit.CancelAfter(TimeSpan.FromSeconds(30));
        var changes = new List<ChangeView>();
        await foreach (var change in client.ChangesAsync(after, limit.Token))
        {
            changes.Add(change);
            if (changes.Count == count)
                break;
        }

        return changes;
    }

    /// <summary>An owner reports by a share link what is wrong after the upgrade, and it is given to somebody.</summary>
    /// <summary>Runs the script that does the follow-up which the first machine's verification left; that closes it.</summary>
    private static async Task FixDevicesAsync(ServiceProcess service)
    {
        var (run, machine, devices) = (await service.Client.FollowUpsAsync("small", null, false, 10, Stop))
            .Items.Where(r => r.FollowUp.AddedBy is null)
            .Select(r => (r.Run, r.Machine, r.FollowUp))
            .Single();
        var name = $"{run}/{devices.Name}";
        Assert.Equal(("desk-1", "devices", "device-driver.brae"), (machine, devices.Name, devices.Script!.Name));
        Assert.Contains(
            "1 script sent",
            await service.OkAsync("follow-up", "fix", name, "--reason", "its printer"),
            StringComparison.Ordinal
        );
        await Eventually.TrueAsync(
            async () => (await service.Client.FollowUpsAsync("small", null, false, 10, Stop)).Total == 1,
            TimeSpan.FromSeconds(60),
            () => "the script closes it"
        );
        Assert.Contains(
            "device-driver.brae (f1): it ended well, the check is met",
            await service.OkAsync("follow-up", "list", "--closed"),
            StringComparison.Ordinal
        );
        var log = await service.OkAsync("run", "show", run);
        Assert.Contains("Script of a follow-up sent as f1", log, StringComparison.Ordinal);
        Assert.Contains("Follow-up closed by its script", log, StringComparison.Ordinal);
        var again = await service.GstairAsync("follow-up", "fix", name, "--reason", "x");
        Assert.Contains("has no open follow-up 'devices'", again.Error, StringComparison.Ordinal);
    }

    private static async Task<(string FollowUp, string Link)> ReportAsync(ServiceProcess service)
    {
        var made = JsonDocument.Parse(await service.OkAsync("share", "create", "small", "owner", "deck-it", "--json")).RootElement;
        var secret = made.GetProperty("page").GetString()!.Split('/')[^1];
        using var anybody = new HttpClient { BaseAddress = service.Url };
        async Task<(int Status, JsonElement Body)> SayAsync(string machine, string words)
        {
            using var answer = await anybody.PostAsJsonAsync($"/api/v1/shared/{secret}/machines/{machine}/reports", new { words }, Stop);
            return ((int)answer.StatusCode, await answer.Content.ReadFromJsonAsync<JsonElement>(Stop));
        }

        var (status, view) = await SayAsync("desk-1", "  the receipts are cut in half ");
        Assert.Equal(200, status);
        var slot = view.GetProperty("slots").EnumerateArray().Single(s => s.GetProperty("machine").GetString() == "desk-1");
        Assert.Equal("the receipts are cut in half", slot.GetProperty("reports")[0].GetProperty("words").GetString());
        Assert.Equal(409, (await SayAsync("desk-4", "it is slow")).Status);
        Assert.Equal(404, (await SayAsync("desk-9", "it is slow")).Status);
        Assert.Equal(400, (await SayAsync("desk-1", " ")).Status);
        Assert.Equal(400, (await SayAsync("desk-1", new string('x', 501))).Status);

        var open = (await service.Client.FollowUpsAsync("small", null, false, 10, Stop)).Items.Single(r => r.FollowUp.AddedBy is not null);
        Assert.Equal(("desk-1", "owner deck-it", null), (open.Machine, open.FollowUp.AddedBy, open.FollowUp.Owner));
        var name = $"{open.Run}/{open.FollowUp.Name}";
        await service.OkAsync("follow-up", "assign", name, "--owner", "terminal-it", "--due", "2020-01-02");
        Assert.Contains("2 follow-ups open, 1 overdue", await service.OkAsync("follow-up", "list"), StringComparison.Ordinal);
        Assert.Contains("1 overdue", await service.OkAsync("overview", "show"), StringComparison.Ordinal);
        // Whoever sees other sites alone neither finds it nor closes it.
        using var east = new GrandStairClient(service.Url, await Calls.AccountAsync(service, "east", ["operator"], "Eastness"));
        Assert.Empty((await east.FollowUpsAsync(null, null, false, 10, Stop)).Items);
        var unseen = await Assert.ThrowsAsync<ServiceException>(() =>
            east.CloseFollowUpsAsync(new([new(open.Run, open.FollowUp.Name)], "x"), Stop)
        );
        Assert.Equal((404, "unknown-run"), (unseen.Status, unseen.Name));
        return (name, secret);
    }

    private static async Task StandAsync(ServiceProcess service, string machine, string status)
    {
        MemberRow? member = null;
        await Eventually.TrueAsync(
            async () =>
                (member = (await service.Client.MembersAsync("small", null, null, $"name = \"{machine}\"", 10, Stop)).Items.Single()).Status
                == status,
            TimeSpan.FromMinutes(3),
            () => $"{machine} is {status}; it stands at {JsonSerializer.Serialize(member)}"
        );
    }
}
