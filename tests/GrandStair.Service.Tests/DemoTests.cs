using System.Diagnostics;
using System.Text.Json;
using Dapper;
using GrandStair.Contracts;
using GrandStair.Testing;
using Microsoft.Data.Sqlite;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>The demo's plan to its end at high pace, with the service killed on the way.</summary>
public sealed class DemoTests
{
    private const string Plan = "winter-crossing";
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(9);
    private static readonly string[] Arguments = ["--demo", Path.Combine(Repository.Root, "demo-data", "northmere"), "--pace", "idle"];

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task The_plan_comes_to_its_end_though_it_is_killed_twice_and_all_sums_agree()
    {
        const int Kills = 2;
        await using var service = await ServiceProcess.StartAsync(Arguments);
        await service.WaitForLineAsync("Console: ", TimeSpan.FromMinutes(8));
        for (var i = 1; i <= Kills; i++)
        {
            var share = i / (Kills + 1.0);
            await Eventually.TrueAsync(
                async () => Verified(await TallyAsync(service)) >= 240 * share * 0.8,
                Limit,
                () => $"a share of {share:P0} is verified"
            );
            await service.KillAsync();
            await service.StartAgainAsync();
        }

        await Eventually.TrueAsync(
            async () => (await service.Client.PlanAsync(Plan, Stop)).Plan.State == "ended",
            Limit,
            () => $"the plan ends; it stands at {JsonSerializer.Serialize(TallyAsync(service).Result)}"
        );

        var tally = await TallyAsync(service);
        Assert.Equal(240, tally["done"] + tally["exempt"]);
        Assert.InRange(tally["exempt"], 5, 25);
        await AssertSumsAgreeAsync(service, tally);
        await AssertNothingHappenedTwiceAsync(service);
        await AssertFaultsHappenedAsync(service);
        await AssertLimitsHeldAsync(service);
    }

    /// <summary>What the first start has begun when it is killed; all of these with <c>TEST_SEEDS=4</c> or more.</summary>
    public static TheoryData<string> Begun =>
        [
            .. new[]
            {
                "SELECT count(*) FROM calendars",
                "SELECT count(*) FROM machines",
                "SELECT count(*) FROM accounts WHERE name = 'planner'",
                "SELECT count(*) FROM plans",
            }.Take(Seeds.Count(2)),
        ];

    [Theory]
    [MemberData(nameof(Begun))]
    public async Task A_demo_that_is_killed_in_its_first_start_comes_up_the_next_time(string begun)
    {
        var data = Path.Combine(Directory.CreateTempSubdirectory("grandstair-test-").FullName, "data");
        string[] arguments =
        [
            Repository.Built("GrandStair.Service", "grandstair"),
            "--data",
            data,
            "--catalogue",
            Path.Combine(Repository.Root, "catalogue"),
            "--port",
            $"{ServiceProcess.FreePort()}",
            .. Arguments,
        ];
        using (
            var first = Process.Start(
                new ProcessStartInfo("dotnet", arguments) { RedirectStandardOutput = true, RedirectStandardError = true }
            )!
        )
        {
            await Eventually.TrueAsync(
                async () => await CountAsync(data, begun) > 0,
                TimeSpan.FromSeconds(120),
                () => $"{begun} finds something"
            );
            first.Kill();
            await first.WaitForExitAsync(Stop);
        }

        await using var service = await ServiceProcess.StartAsync(data, Arguments);
        await service.WaitForLineAsync("Console: ", TimeSpan.FromMinutes(8));
        var overview = await service.Client.PlanAsync(Plan, Stop);
        Assert.Equal((240, "started"), (overview.Plan.Machines, overview.Plan.State));
        Assert.Contains(await service.Client.AccountsAsync(Stop), a => a.Name == "change-board");
    }

    /// <summary>
    /// How often it is killed; 200 times with <c>TEST_SEEDS=200</c>. Each time it has worked for less than a worker's lease lasts.
    /// </summary>
    private static readonly int ShortLives = Seeds.Count(4);

    [Fact]
    public async Task Kills_that_leave_it_a_few_seconds_each_do_not_stop_the_plan()
    {
        const string Events = "SELECT count(*) FROM run_events";
        const string Changes = "SELECT last FROM counters WHERE name = 'feed'";
        // The more often it is killed the slower, so that something is left to do until the end.
        var pace = Math.Max(3_000, 120_000 / ShortLives);
        // A day has hours in which no window is open; something changes within thirty.
        var shownAfter = Math.Max(3, 30 * 3600 / (pace * 3));
        await using var service = await ServiceProcess.StartAsync([.. Arguments[..^1], $"{pace}"]);
        await service.WaitForLineAsync("Console: ", TimeSpan.FromMinutes(8));
        var random = new Random(ShortLives);
        var (events, seen) = (await CountAsync(service.Data, Events), await CountAsync(service.Data, Changes));
        for (var kill = 1; kill <= ShortLives; kill++)
        {
            await Task.Delay(random.Next(2000, 4000), Stop);
            await service.KillAsync();
            await service.StartAgainAsync();
            if (kill % shownAfter != 0)
                continue;
            var now = await CountAsync(service.Data, Changes);
            Assert.True(now > seen, $"after {kill} kills there are still {seen} changes");
            seen = now;
        }

        Assert.True(await CountAsync(service.Data, Events) > events, $"after all kills there are still {events} events");
        await service.KillAsync();
        await AssertNothingHappenedTwiceAsync(service);
    }

    private static async Task<long> CountAsync(string data, string question)
    {
        try
        {
            await using var database = new SqliteConnection($"Data Source={Path.Combine(data, "grandstair.db")};Mode=ReadOnly");
            return await database.ExecuteScalarAsync<long>(question);
        }
        catch (SqliteException)
        {
            // The file, or the table, is not there yet.
            return 0;
        }
    }

    private static int Verified(IReadOnlyDictionary<string, int> tally) => tally["verified"] + tally["done"];

    private static async Task<IReadOnlyDictionary<string, int>> TallyAsync(ServiceProcess service) =>
        (await service.Client.PlanAsync(Plan, Stop)).Plan.Tally;

    /// <summary>The same sums by the interface in its several places, by the client, and in the database.</summary>
    private static async Task AssertSumsAgreeAsync(ServiceProcess service, IReadOnlyDictionary<string, int> tally)
    {
        var view = await service.Client.PlanAsync(Plan, Stop);
        var members = await service.Client.MembersAsync(Plan, null, null, null, int.MaxValue, Stop);
        var outcomes = await service.Client.OutcomesAsync(Plan, Stop);
        var overview = await service.Client.OverviewAsync(Plan, Stop);
        Assert.Equal(tally, outcomes.Tally);
        Assert.Equal(tally, overview.Plan.Tally);
        Assert.Equal(tally["done"], outcomes.Outcomes["done"]);
        Assert.Equal(tally["exempt"], outcomes.Exemptions.Values.Sum());
        Assert.Equal(tally["done"], overview.Actual[^1].Verified);
        Assert.Equal(tally, Sum(view.Waves));
        Assert.All(members.Items, m =>
            Assert.True(m.Status == "done" || (m.Status == "exempt" && m.ExemptionReason is not null && m.ExemptedBy is not null))
        );

        var printed = await service.GstairAsync("outcome", "show", Plan);
        Assert.Contains("240 of 240 have an outcome or an exemption, 0 are open", printed.Out, StringComparison.Ordinal);
        Assert.Matches($@"done +{tally["done"]}\b", printed.Out);

        await using var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")};Mode=ReadOnly");
        var kept = await database.QueryAsync<(string Status, long Count)>(
            "SELECT lower(status), count(*) FROM plan_members WHERE plan = @Plan GROUP BY 1",
            new { Plan }
        );
        Assert.Equal(tally.Where(t => t.Value > 0).Select(t => (t.Key, (long)t.Value)).Order(), kept.Order());
    }

    private static Dictionary<string, int> Sum(IReadOnlyList<WaveView> waves) =>
        waves.SelectMany(w => w.Tally).GroupBy(t => t.Key).ToDictionary(g => g.Key, g => g.Sum(t => t.Value));

    /// <summary>
    /// By the events, every attempt ended at most once; by the simulated machines' own records, every machine that is done was changed by
    /// one successful apply.
    /// </summary>
    private static async Task AssertNothingHappenedTwiceAsync(ServiceProcess service)
    {
        await using var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")};Mode=ReadOnly");
        Assert.Equal(
            0,
            await database.ExecuteScalarAsync<long>(
                "SELECT count(*) FROM (SELECT 1 FROM run_events WHERE type = 'order-ended' GROUP BY run_id, json_extract(body, "
                    + "'$.order') HAVING count(*) > 1)"
            )
        );
        Assert.Equal(
            0,
            await database.ExecuteScalarAsync<long>(
                "SELECT count(*) FROM (SELECT max(number) - count(*) AS gap FROM run_events GROUP BY run_id) WHERE gap <> 0"
            )
        );
        Assert.Equal(0, await database.ExecuteScalarAsync<long>("SELECT max(position) - count(*) FROM feed"));
        await using var world = new SqliteConnection($"Data Source={Path.Combine(service.Data, "simulated.db")};Mode=ReadOnly");
        Assert.Equal(
            0,
            await world.ExecuteScalarAsync<long>(
                "SELECT count(*) FROM (SELECT 1 FROM orders WHERE script LIKE 'apply%' AND script NOT LIKE '%6.4%' AND exit = 0 GROUP "
                    + "BY machine, substr(name, 1, instr(name, '/')) HAVING count(*) > 1)"
            )
        );
    }

    /// <summary>Some steps failed on the simulated machines; without any, nothing of the above would mean much.</summary>
    private static async Task AssertFaultsHappenedAsync(ServiceProcess service)
    {
        await using var world = new SqliteConnection($"Data Source={Path.Combine(service.Data, "simulated.db")};Mode=ReadOnly");
        Assert.True(await world.ExecuteScalarAsync<long>("SELECT count(*) FROM orders WHERE exit <> 0") > 10);
    }

    /// <summary>At no moment were more machines between their slot's opening and their verification than the limit says.</summary>
    private static async Task AssertLimitsHeldAsync(ServiceProcess service)
    {
        await using var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")};Mode=ReadOnly");
        Assert.Equal(0, await database.ExecuteScalarAsync<long>("SELECT count(*) FROM run_room"));
        var spans = (await database.QueryAsync<string>("SELECT json_extract(state, '$.phases') FROM runs WHERE plan = @Plan", new { Plan }))
            .SelectMany(phases => JsonDocument.Parse(phases).RootElement.EnumerateArray())
            .Where(p => p.GetProperty("phase").GetString() == "verify" && p.TryGetProperty("to", out _))
            .Select(p => (From: p.GetProperty("from").GetDateTimeOffset(), To: p.GetProperty("to").GetDateTimeOffset()))
            .ToArray();
        Assert.True(spans.Length > 200);
        // While they verify they all hold room; none of them is parked in the middle of a step of that phase.
        Assert.All(spans, s => Assert.InRange(spans.Count(o => o.From <= s.From && s.From < o.To), 1, 6 + 4));
    }
}
