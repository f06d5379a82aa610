using System.Text;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Who may make which call: every call of the interface, by everybody.</summary>
public sealed class RightsTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    private const string Golden = "docs/rights.md";

    // What is sent: enough to be understood, and not enough to change anything.
    private static readonly Dictionary<string, string> Bodies = new()
    {
        ["UndoImport"] = """{"reason":""}""",
        ["RemoveMachines"] = """{"machines":[],"reason":""}""",
        ["RestoreMachine"] = """{"reason":""}""",
        ["EndToken"] = """{"reason":"x"}""",
        ["WaiveCheck"] = """{"reason":"x","until":"2000-01-01"}""",
        ["PinHostKey"] = """{"hostKey":"none","reason":"x"}""",
        ["Acknowledge"] = """{"names":[],"reason":"x"}""",
        ["ChangeSettings"] = """{"everyPlanApproved":false,"reason":""}""",
        ["DiscardPlan"] = """{"reason":""}""",
        ["HoldPlan"] = """{"reason":""}""",
        ["GoAgain"] = """{"reason":""}""",
        ["RescheduleMachine"] = """{"reason":""}""",
        ["MakeShareLink"] = """{"kind":"none"}""",
        ["EndShareLink"] = """{"reason":""}""",
        ["ChooseSharedTime"] = """{"start":"2027-01-01T00:00:00Z"}""",
        ["MoveMachine"] = """{"wave":"Rest","reason":""}""",
        ["AcceptProposals"] = """{"reason":""}""",
        ["ApprovePlan"] = """{"intent":"0","reason":"x"}""",
        ["ExemptMachine"] = """{"as":"retired","reason":""}""",
        ["ChooseMethod"] = """{"reason":""}""",
        ["DecideRun"] = """{"decision":"none","reason":"x"}""",
        ["AnswerRun"] = """{"answer":"none"}""",
        ["KeepRollback"] = """{"until":"2027-02-08","reason":""}""",
        ["CategoriseRollbacks"] = """{"runs":[],"category":"x"}""",
        ["AddFollowUp"] = """{"title":""}""",
        ["AssignFollowUps"] = """{"of":[]}""",
        ["FixFollowUps"] = """{"of":[],"reason":""}""",
        ["CloseFollowUps"] = """{"of":[],"reason":""}""",
        ["DownloadMedia"] = """{"url":""}""",
        ["SetRepository"] = """{"url":"","reason":""}""",
        ["RemoveRepository"] = """{"reason":""}""",
        ["OpenSupportCase"] = """{"reference":"","with":"","about":""}""",
        ["NoteSupportCase"] = """{"text":""}""",
        ["BookAppointment"] = """{"from":"2027-01-01T00:00:00Z","minutes":0}""",
        ["CancelAppointment"] = """{"reason":""}""",
        ["CloseSupportCase"] = """{"result":""}""",
        ["ReportSharedProblem"] = """{"words":"it is slow"}""",
        ["EndWaiver"] = """{"reason":""}""",
        ["TrustFirstUse"] = """{"reason":""}""",
        ["EndFirstUse"] = """{"reason":""}""",
        ["RemoveSecret"] = """{"reason":""}""",
        ["PutSecret"] = """{"value":""}""",
        ["ImportKnownHosts"] = "",
    };

    private static long _rehearsal;

    private static readonly string[] Roles = ["reader", "auditor", "planner", "approver", "operator", "admin"];

    private ServiceProcess Service => fleet.Service;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task Every_call_answers_everybody_as_the_table_of_rights_says()
    {
        await PlanRunningAsync();
        var callers = new List<(string Head, string? Token)> { ("no token", null), ("ended token", await EndedAsync()) };
        foreach (var role in Roles)
            callers.Add((role, await Calls.AccountAsync(Service, $"a-{role}", [role], "*")));
        callers.Add(("all, elsewhere", await Calls.AccountAsync(Service, "elsewhere", Roles, "Holm Pier")));

        var table = new StringBuilder();
        table
            .AppendLine("| call | | " + string.Join(" | ", callers.Select(c => c.Head)) + " |")
            .AppendLine("|---|---|" + string.Concat(callers.Select(_ => "---|")));
        var calls = await Calls.AllAsync(Service);
        Assert.True(calls.Count >= 50, $"{calls.Count} calls");
        foreach (var call in calls.OrderBy(c => c.Path, StringComparer.Ordinal).ThenBy(c => c.Method, StringComparer.Ordinal))
        {
            var outcomes = new List<string>();
            foreach (var (_, token) in callers)
                outcomes.Add(await OutcomeAsync(call, token));
            table.AppendLine($"| {call.Name} | `{call.Method} {call.Path["/api/v1".Length..]}` | {string.Join(" | ", outcomes)} |");
            // What the document says and what the service does are one.
            for (var i = 0; call.Roles is { } may && i < Roles.Length; i++)
                Assert.True(
                    outcomes[i + 2] != "no" == may.Contains(Roles[i]),
                    $"{call.Name} as {Roles[i]}: {outcomes[i + 2]}, documented {string.Join(", ", may)}"
                );
        }

        var written = await File.ReadAllTextAsync(Path.Combine(Repository.Root, Golden), TestContext.Current.CancellationToken);
        var own = Path.Combine(Path.GetTempPath(), "rights.md");
        await File.WriteAllTextAsync(
            own,
            written[..(written.IndexOf("| call |", StringComparison.Ordinal) is var at and >= 0 ? at : written.Length)] + table,
            TestContext.Current.CancellationToken
        );
        Assert.True(
            written == await File.ReadAllTextAsync(own, TestContext.Current.CancellationToken),
            $"{Golden} is not what the service does; that is in {own} now. Read what changed, and take it over if it is meant."
        );
    }

    [Fact]
    public async Task What_stands_at_other_sites_is_told_by_no_call_no_count_and_no_event()
    {
        await PlanRunningAsync();
        var his = await Calls.AccountAsync(Service, "west", Roles, "Westhaven");
        using var watching = new CancellationTokenSource(TimeSpan.FromMinutes(2));
        var seen = await WatchAsync(his, watching.Token);
        string[] elsewhere = ["desk-3", "desk-4", "desk-5", "desk-6", "Eastness", "Quay, north"];
        foreach (var call in (await Calls.AllAsync(Service)).Where(c => c.Method == "GET"))
        {
            foreach (
                var query in new[]
                {
                    "",
                    "?filter=os.version%20%3E%200&scope=os.version%20%3E%200&text=name%20%3D%20&text=site%20%3D%20&product=Brae%20Desktop",
                    "?text=site%20%3D%20",
                    "?text=name%20%3D%20",
                }
            )
            {
                using var response = await Calls.SendAsync(Service, "GET", Fill(call.Path) + query, his);
                var text = await response.Content.ReadAsStringAsync(TestContext.Current.CancellationToken);
                // The plan's own text is its maker's, who saw all.
                foreach (var name in elsewhere)
                    Assert.False(text.Contains(name, StringComparison.Ordinal), $"{call.Name}{query} tells of {name}: {text}");
            }
        }

        var client = new Client.GrandStairClient(Service.Url, his);
        var stop = TestContext.Current.CancellationToken;
        Assert.Equal(2, (await client.MachinesAsync(null, 100, stop)).Total);
        // Of desk-4 it cannot be told, and that is not told either.
        Assert.Equal(
            0,
            (await Calls.JsonAsync(Service, "GET", "/api/v1/machines?filter=firmware.tpm.state%20%3D%20off", his))
                .GetProperty("undecided")
                .GetInt32()
        );
        Assert.Equal(
            1,
            (await Calls.JsonAsync(Service, "GET", "/api/v1/machines?filter=firmware.tpm.state%20%3D%20off", Service.Token))
                .GetProperty("undecided")
                .GetInt32()
        );
        Assert.Equal(2, (await client.ReadinessAsync("Brae Desktop", null, null, null, stop)).Machines);
        Assert.Equal(2, (await client.ExposureAsync("Brae Desktop", null, stop)).Single().Machines);
        Assert.Equal(2, (await client.PlanAsync("small", stop)).Plan.Machines);
        Assert.Equal(2, (await client.OverviewAsync("small", stop)).Waves.Sum(w => w.Machines));
        Assert.All((await client.RunsAsync("small", null, 100, stop)).Items, r => Assert.Equal("Westhaven", r.Site));
        foreach (
            var path in new[]
            {
                "machines/desk-3",
                "machines/m3",
                "machines/desk-3/gate",
                "machines/desk-3/readings/os.version",
                "machines/desk-3/referral",
                "plans/small/members/desk-3/exemption",
            }
        )
        {
            var method = path.EndsWith("exemption", StringComparison.Ordinal) ? "POST" : "GET";
            var body = method == "POST" ? """{"as":"retired","reason":"x"}""" : null;
            var known = await Calls.OutcomeAsync(Service, method, $"/api/v1/{path}", his, body);
            var unknown = await Calls.OutcomeAsync(
                Service,
                method,
                $"/api/v1/{path.Replace("desk-3", "desk-77", StringComparison.Ordinal).Replace("m3", "m77", StringComparison.Ordinal)}",
                his,
                body
            );
            Assert.Equal((404, "unknown-machine"), known);
            Assert.Equal(unknown, known);
        }

        Assert.Equal(
            (403, "not-allowed"),
            await Calls.OutcomeAsync(Service, "POST", "/api/v1/plans/small/hold", his, """{"reason":"x"}""")
        );
        foreach (var machine in new[] { "desk-3", "desk-2" })
            await Calls.JsonAsync(
                Service,
                "POST",
                $"/api/v1/plans/small/members/{machine}/exemption",
                Service.Token,
                new { @as = "retired", reason = "sold" }
            );
        await Eventually.TrueAsync(
            () => Task.FromResult(seen.Any(e => e.Type == "machine-exempted")),
            TimeSpan.FromSeconds(20),
            () => "the exemption of his own machine is told"
        );
        Assert.Single(seen, e => e.Type == "machine-exempted");
        // His events are counted for him alone: the numbers have no gaps.
        Assert.Equal(Enumerable.Range(1, seen.Count).Select(i => (long)i), seen.Select(e => e.Position));
        await watching.CancelAsync();
    }

    [Fact]
    public async Task A_plan_of_somebody_with_few_sites_holds_his_machines_alone_and_he_commands_it()
    {
        var his = await Calls.AccountAsync(Service, "east", Roles, "Eastness");
        var client = new Client.GrandStairClient(Service.Url, his);
        var stop = TestContext.Current.CancellationToken;
        using var yaml = new MemoryStream(
            Encoding.UTF8.GetBytes(
                SmallFleet
                    .Plan.Replace("plan: small", "plan: eastern", StringComparison.Ordinal)
                    .Replace("members: tag = \"pilot\"", "members: name = \"desk-3\"", StringComparison.Ordinal)
            )
        );
        Assert.Equal(2, (await client.CreatePlanAsync(yaml, stop)).Plan.Machines);
        Assert.All((await client.MembersAsync("eastern", null, null, null, 100, stop)).Items, m => Assert.Equal("Eastness", m.Site));
        // A plan of all sites that has started leaves them to his.
        if ((await Service.Client.PlansAsync(stop)).Any(p => p.Name == "small"))
        {
            foreach (var machine in new[] { "desk-3", "desk-4" })
                await Service.Client.ExemptAsync("small", machine, new("retired", "it goes by another plan"), stop);
        }

        await client.AcknowledgeAsync("eastern", new("read"), stop);
        await client.StartAsync("eastern", stop);
        await client.HoldAsync("eastern", "enough for a test", stop);
        var other = await Calls.AccountAsync(Service, "quay", Roles, "Quay, north");
        Assert.Equal((404, "unknown-plan"), await Calls.OutcomeAsync(Service, "GET", "/api/v1/plans/eastern", other));
    }

    [Fact]
    public async Task Readings_that_name_a_machine_at_another_site_do_not_tell_its_name()
    {
        var stop = TestContext.Current.CancellationToken;
        var file = Path.Combine(Service.Data, "pairs.csv");
        await File.WriteAllTextAsync(
            file,
            "name,site,connection,replaces\npair-e,Eastness,simulated,pair-w\npair-w,Westhaven,simulated,\n",
            stop
        );
        await Service.OkAsync("fleet", "import", file, "--seen", "now");
        var his = new Client.GrandStairClient(Service.Url, await Calls.AccountAsync(Service, "pair-east", Roles, "Eastness"));
        Assert.Equal("pair-w", await ReplacesAsync(Service.Client));
        Assert.Equal("(at another site)", await ReplacesAsync(his));
        Assert.Equal("(at another site)", Assert.Single(await his.HistoryAsync("pair-e", "replaces", stop)).Shown);
        const string Asked = "replaces = \"pair-w\"";
        Assert.Single((await Service.Client.MachinesAsync(Asked, 10, stop)).Items);
        Assert.Empty((await his.MachinesAsync(Asked, 10, stop)).Items);
        await Service.OkAsync("machine", "remove", "pair-e", "pair-w", "--reason", "the test is over");

        async Task<string> ReplacesAsync(Client.GrandStairClient client) =>
            (await client.MachineAsync("pair-e", stop)).Readings.Single(r => r.Key == "replaces").Shown;
    }

    [Fact]
    public async Task Who_may_less_from_now_on_watches_no_longer()
    {
        var token = await Calls.AccountAsync(Service, "watcher", ["reader", "auditor"], "*");
        using var watching = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        var done = new TaskCompletionSource();
        var seen = await WatchAsync(token, watching.Token, done);
        await Calls.JsonAsync(
            Service,
            "PUT",
            "/api/v1/accounts/watcher",
            Service.Token,
            new
            {
                roles = new[] { "reader" },
                sites = new[] { "Corran" },
                reason = "moved",
            }
        );
        await done.Task.WaitAsync(TimeSpan.FromSeconds(30), TestContext.Current.CancellationToken);
        Assert.DoesNotContain(seen, e => e.Type == "change");
    }

    [Fact]
    public async Task A_refused_call_is_kept_with_who_tried_and_from_where()
    {
        var token = await Calls.AccountAsync(Service, "curious", ["reader"], "*");
        Assert.Equal((403, "not-allowed"), await Calls.OutcomeAsync(Service, "GET", "/api/v1/accounts", token));
        var entry = Assert.Single(
            (await Service.Client.AuditAsync("curious", "refused", null, null, null, null, 10, TestContext.Current.CancellationToken)).Items
        );
        Assert.Equal("ListAccounts", entry.Subject);
        Assert.StartsWith("127.0.0.1 by token t", entry.From, StringComparison.Ordinal);
    }

    /// <summary>A path with names in place of its parameters: of things that there are.</summary>
    private static string Fill(string path) =>
        path.Replace(
                "{name}",
                path.StartsWith("/api/v1/machines", StringComparison.Ordinal) ? "desk-1"
                    : path.StartsWith("/api/v1/accounts", StringComparison.Ordinal) ? "spare"
                    : path.StartsWith("/api/v1/runs", StringComparison.Ordinal) ? "devices"
                    : path.StartsWith("/api/v1/secrets", StringComparison.Ordinal) ? "spare"
                    : "small",
                StringComparison.Ordinal
            )
            .Replace("{machine}", "desk-1", StringComparison.Ordinal)
            .Replace("{start}", "2027-01-01T00:00:00Z", StringComparison.Ordinal)
            .Replace("{check}", "space", StringComparison.Ordinal)
            .Replace("{key}", "os.version", StringComparison.Ordinal)
            .Replace("{plan}", "small", StringComparison.Ordinal)
            .Replace("{run}", "r1", StringComparison.Ordinal)
            .Replace("{leg}/{step}/{attempt}", "1/clean/1", StringComparison.Ordinal)
            .Replace("{import}", "1", StringComparison.Ordinal)
            .Replace("{id}", "w1", StringComparison.Ordinal)
            .Replace("{product}", "Brae%20Desktop", StringComparison.Ordinal)
            .Replace("{site}", "Westhaven", StringComparison.Ordinal);

    private async Task<string> OutcomeAsync(Call call, string? token)
    {
        var path = Fill(call.Path);
        // What a caller would use up is made anew for each.
        if (call.Name == "EndToken")
            path =
                $"/api/v1/tokens/"
                + $"{(await Service.Client.CreateTokenAsync(new("to be ended", 1), TestContext.Current.CancellationToken)).Token.Id}/end";
        if (call.Path.StartsWith("/api/v1/readiness", StringComparison.Ordinal))
            path += "?product=Brae%20Desktop";
        if (call.Path.Contains("/rehearsals/", StringComparison.Ordinal))
            path = $"/api/v1/plans/small/rehearsals/{_rehearsal}";
        if (call.Name == "EndSession")
            path = $"/api/v1/sessions/{await NewSessionAsync()}";
        var (status, _) = await Calls.OutcomeAsync(
            Service,
            call.Method,
            path,
            token,
            call.Method == "GET" ? null : Bodies.GetValueOrDefault(call.Name, "{}"),
            ("Content-Type", call.Takes),
            ("Sec-Fetch-Site", "same-origin")
        );
        return status switch
        {
            401 => "who?",
            403 => "no",
            404 => "none",
            421 or >= 500 and not 502 => throw new InvalidOperationException($"{call.Name}: {status}"),
            _ => "yes",
        };
    }

    private async Task<string> NewSessionAsync()
    {
        using var signedIn = await Calls.SendAsync(
            Service,
            "POST",
            "/api/v1/session",
            null,
            $$"""{"token":"{{Service.Token}}"}""",
            ("Sec-Fetch-Site", "same-origin")
        );
        Assert.True(signedIn.IsSuccessStatusCode);
        return (await Service.Client.SessionsAsync(null, TestContext.Current.CancellationToken))[0].Id;
    }

    private async Task<string> EndedAsync()
    {
        var made = await Service.Client.CreateTokenAsync(new("ends at once", 1), TestContext.Current.CancellationToken);
        await Service.Client.EndTokenAsync(made.Token.Id, "a test", TestContext.Current.CancellationToken);
        return made.Secret;
    }

    private async Task PlanRunningAsync()
    {
        var stop = TestContext.Current.CancellationToken;
        if ((await Service.Client.AccountsAsync(stop)).All(a => a.Name != "spare"))
            await Calls.AccountAsync(Service, "spare", ["reader"], "*");
        if ((await Service.Client.PlansAsync(stop)).Any(p => p.Name == "small"))
            return;
        using var yaml = new MemoryStream(Encoding.UTF8.GetBytes(SmallFleet.Plan));
        await Service.Client.CreatePlanAsync(yaml, stop);
        await Service.Client.AcknowledgeAsync("small", new("read"), stop);
        await Service.Client.StartAsync("small", stop);
        await Service.Client.WaiveAsync(
            "desk-4",
            "space",
            new("a second disk is on order", $"{DateTime.UtcNow.AddDays(9):yyyy-MM-dd}"),
            stop
        );
        await Eventually.TrueAsync(
            async () => (await Service.Client.RunsAsync("small", null, 10, stop)).Total > 0,
            TimeSpan.FromSeconds(60),
            () => "a run opens"
        );
        await Eventually.TrueAsync(
            async () => await Calls.OutcomeAsync(Service, "GET", "/api/v1/plans/small/forecast", Service.Token) is (200, _),
            TimeSpan.FromSeconds(60),
            () => "a forecast is made"
        );
        _rehearsal = (await Service.Client.RehearseAsync("small", new(Draws: 1), stop)).Id;
    }

    private async Task<System.Collections.Concurrent.ConcurrentQueue<Contracts.ChangeView>> WatchAsync(
        string token,
        CancellationToken ended,
        TaskCompletionSource? done = null
    )
    {
        var seen = new System.Collections.Concurrent.ConcurrentQueue<Contracts.ChangeView>();
        _ = Task.Run(
            async () =>
            {
                using var client = new Client.GrandStairClient(Service.Url, token);
                try
                {
                    await foreach (var change in client.ChangesAsync(null, ended))
                        seen.Enqueue(change);
                    done?.TrySetResult();
                }
                catch (OperationCanceledException)
                {
                    // The test is over.
                }
            },
            CancellationToken.None
        );
        // The service tells nobody when it has begun to watch for him.
        await Task.Delay(TimeSpan.FromSeconds(1.5), Stop);
        return seen;
    }
}
