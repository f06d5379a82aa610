using System.Globalization;
using System.Net;
using GrandStair.Client;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>The service as whoever operates it meets it: several on one database, a second start, its limits and its schedule.</summary>
public sealed class OperationTests
{
    private const string Machines =
        "name,site,tags,connection\ndesk-1,Westhaven,pilot,simulated\ndesk-2,Westhaven,,simulated\ndesk-3,Eastness,,simulated\n";

    private const string Plan = SmallFleet.Plan + "\nlead: 0 s\n";

    // The same machines, all of which may go.
    private static readonly string Ready = LifecycleTests
        .Truth.Replace("2.0,off", "2.0,on", StringComparison.Ordinal)
        .Replace("Ness 2", "Ness 6", StringComparison.Ordinal);

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task Of_two_services_on_one_database_the_second_goes_on_with_a_plan_when_the_first_is_killed()
    {
        using var postgres = await PostgresServer.StartAsync();
        var database = await postgres.NewDatabaseAsync();
        var truth = await WriteTruthAsync(Ready);
        var options = new[] { "--database", database, "--pace", "3000", "--simulated", truth };
        await using var first = await ServiceProcess.StartAsync(options);
        // What a second service on the same database needs of the first: its keys. The machines are the same ones for both.
        var data = Directory.CreateTempSubdirectory("grandstair-test-").FullName;
        foreach (var shared in new[] { "keys", "audit.key", "simulated.db" })
            File.CreateSymbolicLink(Path.Combine(data, shared), Path.Combine(first.Data, shared));
        await using var second = await ServiceProcess.StartAsync(data, options);
        using var there = new GrandStairClient(second.Url, first.Token);

        // What one takes in, the other knows.
        await first.OkAsync("fleet", "import", first.Write(Machines, "fleet.csv"));
        foreach (var name in new[] { "desk-1", "desk-2", "desk-3" })
            await there.ReadAsync(name, Stop);
        await first.OkAsync("plan", "create", first.Write(Plan.Replace("soak: 1 d", "soak: 1 h", StringComparison.Ordinal), "plan.yaml"));
        await there.AcknowledgeAsync("small", new("read"), Stop);
        await there.StartAsync("small", Stop);
        await Eventually.TrueAsync(
            async () => (await there.RunsAsync("small", null, 10, Stop)).Total > 0,
            TimeSpan.FromMinutes(1),
            () => "a run opens"
        );
        await first.KillAsync();
        await Eventually.TrueAsync(
            async () => (await there.MembersAsync("small", "verified", null, null, 10, Stop)).Total == 3,
            TimeSpan.FromMinutes(3),
            () => $"all three are verified; the second service wrote:\n{second.Output}"
        );
        File.Delete(truth);
    }

    [Fact]
    public async Task A_second_service_on_the_same_data_folder_does_not_start_and_says_who_has_it()
    {
        await using var service = await ServiceProcess.StartAsync();
        var second = await Shell.RunAsync(
            "dotnet",
            [Repository.Built("GrandStair.Service", "grandstair"), "--data", service.Data, "--port", "0"]
        );
        Assert.NotEqual(0, second.Exit);
        Assert.Contains($"Another service works on {service.Data}", second.Out + second.Error, StringComparison.Ordinal);
        Assert.Empty(await service.Client.PlansAsync(Stop));
    }

    [Fact]
    public async Task It_says_without_an_account_that_it_is_alive()
    {
        await using var service = await ServiceProcess.StartAsync();
        using var live = await Calls.SendAsync(service, "GET", "/health/live");
        Assert.Equal((HttpStatusCode.OK, "\"live\""), (live.StatusCode, await live.Content.ReadAsStringAsync(Stop)));
        Assert.Equal(0, live.Headers.Count(h => h.Key == "Set-Cookie"));
    }

    [Fact]
    public async Task Whoever_calls_too_often_is_told_when_the_next_call_is_taken()
    {
        await using var service = await ServiceProcess.StartAsync("--rate", "1");
        HttpResponseMessage? refused = null;
        for (var call = 0; call < 20 && refused is null; call++)
        {
            var response = await Calls.SendAsync(service, "GET", "/api/v1/plans", service.Token);
            if (response.StatusCode == HttpStatusCode.TooManyRequests)
                refused = response;
        }

        var seconds = int.Parse(Assert.Single(refused!.Headers.GetValues("Retry-After")), CultureInfo.InvariantCulture);
        Assert.InRange(seconds, 1, 10);
        Assert.Contains($"send it again in {seconds} s", await refused.Content.ReadAsStringAsync(Stop), StringComparison.Ordinal);
        await Eventually.TrueAsync(
            async () => (await Calls.SendAsync(service, "GET", "/api/v1/plans", service.Token)).IsSuccessStatusCode,
            TimeSpan.FromSeconds(30),
            () => "a later call is taken"
        );
    }

    [Fact]
    public async Task Machines_are_read_by_schedule_without_being_asked()
    {
        var truth = await WriteTruthAsync();
        await using var service = await ServiceProcess.StartAsync("--read-every", "1 h", "--pace", "3000", "--simulated", truth);
        await service.OkAsync("fleet", "import", service.Write(Machines, "fleet.csv"));
        DateTimeOffset? Newest(MachineView machine) =>
            machine.Readings.Where(r => r.Key == "os.version").Select(r => (DateTimeOffset?)r.Seen).Max();
        var seen = new HashSet<DateTimeOffset>();
        await Eventually.TrueAsync(
            async () =>
            {
                if (Newest(await service.Client.MachineAsync("desk-2", Stop)) is { } at)
                    seen.Add(at);
                return seen.Count >= 2;
            },
            TimeSpan.FromMinutes(1),
            () => "a machine is read twice by itself"
        );
        Assert.True(seen.Max() - seen.Min() >= TimeSpan.FromHours(1), $"it was read at {string.Join(", ", seen)}");
        File.Delete(truth);
    }

    [Fact]
    public async Task A_run_beyond_its_point_of_no_return_is_marked_as_failed_from_the_client()
    {
        // Its printer driver makes most attempts of this machine fail in apply.
        var truth = await WriteTruthAsync(Ready.Replace(",4.2,yes,", ",4.1,yes,", StringComparison.Ordinal));
        await using var service = await ServiceProcess.StartAsync("--pace", "3000", "--simulated", truth);
        await service.OkAsync("fleet", "import", service.Write(Machines, "fleet.csv"));
        foreach (var name in new[] { "desk-1", "desk-2", "desk-3" })
            await service.OkAsync("machine", "read", name);
        await service.OkAsync(
            "plan",
            "create",
            service.Write(Plan.Replace("{ name: Pilot, members: tag = \"pilot\" }, ", "", StringComparison.Ordinal), "plan.yaml")
        );
        await service.OkAsync("plan", "acknowledge", "small", "--all", "--reason", "read");
        await service.OkAsync("plan", "start", "small");
        RunRow? parked = null;
        await Eventually.TrueAsync(
            async () =>
                (parked = (await service.Client.RunsAsync("small", "parked", 10, Stop)).Items.FirstOrDefault(r => r.Phase == "apply"))
                    is not null,
            TimeSpan.FromMinutes(3),
            () => "a run is parked in apply"
        );
        await service.OkAsync("run", "decide", parked!.Run, "give-up", "--reason", "it is replaced on Monday");
        var outcomes = await service.OkAsync("plan", "machines", "small", "--status", "stopped");
        Assert.Contains(parked.Machine, outcomes, StringComparison.Ordinal);
        Assert.Contains("it is replaced on Monday", await service.OkAsync("run", "show", parked.Run), StringComparison.Ordinal);
        File.Delete(truth);
    }

    private static async Task<string> WriteTruthAsync(string truth = LifecycleTests.Truth)
    {
        var file = Path.GetTempFileName();
        await File.WriteAllTextAsync(file, truth, Stop);
        return file;
    }
}
