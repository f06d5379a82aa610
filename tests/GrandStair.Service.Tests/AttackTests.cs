using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>What can be tried against the service from outside, with the answer that each gets.</summary>
public sealed class AttackTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    private const string Golden = "docs/attacks.md";

    private ServiceProcess Service => fleet.Service;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task Every_attack_gets_the_answer_that_is_written_down()
    {
        var cookie = await SignInAsync(null);
        var planner = await Calls.AccountAsync(Service, "a-planner", ["reader", "planner"], "*");
        var deep = string.Concat(Enumerable.Repeat("{\"reason\":", 500)) + "1" + new string('}', 500);
        (string What, Task<string> Answer)[] attacks =
        [
            (
                "A page of another site, whatever the token",
                AnswerAsync("GET", "session", Service.Token, null, ("Origin", "http://evil.example"))
            ),
            ("Another host name (DNS that was bent)", AnswerAsync("GET", "session", Service.Token, null, ("Host", "evil.example"))),
            (
                "Another site's form with the console's cookie",
                AnswerAsync("POST", "plans/x/start", null, "{}", ("Cookie", cookie), ("Sec-Fetch-Site", "cross-site"))
            ),
            (
                "The cookie alone, from what says not where it comes from",
                AnswerAsync("POST", "plans/x/start", null, "{}", ("Cookie", cookie))
            ),
            (
                "Another port's page of the same host",
                AnswerAsync("POST", "plans/x/start", null, "{}", ("Cookie", cookie), ("Sec-Fetch-Site", "same-site"))
            ),
            (
                "Signing somebody in from another site",
                AnswerAsync("POST", "session", null, $$"""{"token":"{{Service.Token}}"}""", ("Sec-Fetch-Site", "cross-site"))
            ),
            ("A token in the address", AnswerAsync("GET", $"session?access_token={Service.Token}&token={Service.Token}", null, null)),
            (
                "A token in the address's user part",
                AnswerAsync(
                    "GET",
                    "session",
                    null,
                    null,
                    ("Authorization", $"Basic {Convert.ToBase64String(Encoding.ASCII.GetBytes($"admin:{Service.Token}"))}")
                )
            ),
            ("A token in a cookie", AnswerAsync("GET", "session", null, null, ("Cookie", $"grandstair-session={Service.Token}"))),
            ("A session in the header for tokens", AnswerAsync("GET", "session", cookie.Split('=')[1], null)),
            ("A planner who starts what he planned", AnswerAsync("POST", "plans/small/start", planner, "{}")),
            (
                "A planner who acknowledges what he planned",
                AnswerAsync("POST", "plans/small/acknowledgements", planner, """{"reason":"x"}""")
            ),
            (
                "A planner who makes himself an approver",
                AnswerAsync("PUT", "accounts/a-planner", planner, """{"roles":["approver"],"sites":["*"],"reason":"x"}""")
            ),
            (
                "A planner who makes himself a wider token",
                AnswerAsync("POST", "tokens", planner, """{"label":"x","days":1,"roles":["admin"]}""")
            ),
            (
                "A planner who makes a token of the admin",
                AnswerAsync("POST", "tokens", planner, """{"label":"x","days":1,"account":"admin"}""")
            ),
            ("A planner who asks for a secret", AnswerAsync("GET", "secrets", planner, null)),
            ("An admin who asks for a secret's value", AnswerAsync("GET", "secrets/x", Service.Token, null)),
            ("A way out of a folder in a machine's name", AnswerAsync("GET", "machines/..%2F..%2Fadmin.token", Service.Token, null)),
            ("A way out of a folder in a page's path", AnswerAsync("GET", "/..%2f..%2fadmin.token", null, null)),
            (
                "A way out of a folder in a page's path, plain",
                RawAsync("GET /../../admin.token HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
            ),
            (
                "A body of two megabytes",
                RawAsync(
                    $"POST /api/v1/accounts HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {Service.Token}\r\nContent-Type: "
                        + $"application/json\r\nContent-Length: {2 << 20}\r\nConnection: close\r\n\r\n"
                )
            ),
            (
                "A body that promises two gigabytes",
                RawAsync(
                    $"POST /api/v1/accounts HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {Service.Token}\r\nContent-Type: "
                        + $"application/json\r\nContent-Length: 2147483648\r\nConnection: close\r\n\r\n"
                )
            ),
            ("JSON that is 500 levels deep", AnswerAsync("POST", "accounts/x/end", Service.Token, deep)),
            ("JSON that is none", AnswerAsync("POST", "accounts/x/end", Service.Token, "{\"reason\": \"x\"")),
            ("JSON of another kind than expected", AnswerAsync("POST", "tokens", Service.Token, """{"label":"x","days":"many"}""")),
            ("JSON that lacks what is needed", AnswerAsync("POST", "accounts", Service.Token, """{"name":"x"}""")),
            (
                "YAML whose aliases stand for a thousand million entries",
                AnswerAsync("POST", "plans", Service.Token, Laughs(), ("Content-Type", "application/yaml"))
            ),
            (
                "YAML that is 2,000 levels deep",
                AnswerAsync("POST", "plans", Service.Token, "plan: " + new string('[', 2000), ("Content-Type", "application/yaml"))
            ),
            (
                "A condition of 5,000 characters",
                AnswerAsync("GET", $"machines?filter={Uri.EscapeDataString($"name = \"{new string('x', 5000)}\"")}", Service.Token, null)
            ),
            (
                "A condition of 500 brackets",
                AnswerAsync("GET", $"machines?filter={new string('(', 500)}name%20%3D%20x{new string(')', 500)}", Service.Token, null)
            ),
            ("A list of a million at once", AnswerAsync("GET", "machines?limit=1000000", Service.Token, null)),
            ("A line break in a header's value", AnswerAsync("GET", "fixes?machine=x%0d%0aSet-Cookie:%20a=b", Service.Token, null)),
            ("A request line of 20,000 characters", RawAsync($"GET /{new string('x', 20_000)} HTTP/1.1\r\nHost: localhost\r\n\r\n")),
            (
                "Two lengths of one body",
                RawAsync("POST /api/v1/session HTTP/1.1\r\nHost: localhost\r\nContent-Length: 2\r\nContent-Length: 40\r\n\r\n{}")
            ),
        ];
        var table = new StringBuilder("| what is tried | what it gets |\n|---|---|\n");
        foreach (var (what, answer) in attacks)
            table.Append($"| {what} | {await answer} |\n");
        var written = await File.ReadAllTextAsync(Path.Combine(Repository.Root, Golden), Stop);
        var own = Path.Combine(Path.GetTempPath(), "attacks.md");
        await File.WriteAllTextAsync(
            own,
            written[..(written.IndexOf("| what is tried |", StringComparison.Ordinal) is var at and >= 0 ? at : written.Length)] + table,
            Stop
        );
        Assert.True(
            written == await File.ReadAllTextAsync(own, Stop),
            $"{Golden} is not what the service does; that is in {own} now. Read what changed, and take it over if it is meant."
        );
    }

    [Fact]
    public async Task A_session_that_was_planted_is_not_the_one_that_is_signed_in()
    {
        var planted = await SignInAsync(null);
        var after = await SignInAsync(planted);
        Assert.NotEqual(planted, after);
        Assert.Equal(401, (await Calls.OutcomeAsync(Service, "GET", "/api/v1/session", headers: ("Cookie", planted))).Status);
        Assert.Equal(200, (await Calls.OutcomeAsync(Service, "GET", "/api/v1/session", headers: ("Cookie", after))).Status);
        var made = await SignInAsync("grandstair-session=chosen-by-somebody-else");
        Assert.DoesNotContain("chosen", made, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Nobody_learns_which_accounts_there_are_and_guessing_grows_slow()
    {
        await Service.Client.AddAccountAsync(new("night-watch", "person", ["reader"], ["*"], "a test"), Stop);
        await Service.Client.SetPasswordAsync("night-watch", "lanterns along the pier", Stop);
        async Task<(int Status, string Body)> TryAsync(string account, string password)
        {
            using var response = await Calls.SendAsync(
                Service,
                "POST",
                "/api/v1/session",
                null,
                JsonSerializer.Serialize(new { account, password }),
                ("Sec-Fetch-Site", "same-origin")
            );
            return (
                (int)response.StatusCode,
                System.Text.RegularExpressions.Regex.Replace(await response.Content.ReadAsStringAsync(Stop), "\"traceId\":\"[^\"]*\"", "")
            );
        }

        var known = new List<(int Status, string Body)>();
        var unknown = new List<(int Status, string Body)>();
        for (var i = 0; i < 5; i++)
            known.Add(await TryAsync("night-watch", "wrong"));
        for (var i = 0; i < 5; i++)
            unknown.Add(await TryAsync("day-watch", "wrong"));

        Assert.Equal([401, 401, 401, 401, 429], known.Select(k => k.Status));
        Assert.Equal(known.Take(4), unknown.Take(4));
        Assert.Equal(429, unknown[4].Status);
        // The right password has to wait too, or the wait would tell which one is right.
        foreach (var wait in new[] { 2.5, 4.5 })
        {
            await Task.Delay(TimeSpan.FromSeconds(wait), Stop);
            Assert.Equal(401, (await TryAsync("night-watch", "wrong")).Status);
        }

        Assert.Equal(429, (await TryAsync("night-watch", "lanterns along the pier")).Status);
        await Task.Delay(TimeSpan.FromSeconds(8.5), Stop);
        Assert.Equal(200, (await TryAsync("Night-Watch", "lanterns along the pier")).Status);
        Assert.Contains((await Service.Client.AuditAsync(null, "session refused", null, null, null, null, 50, Stop)).Items, e =>
            e.Subject == "day-watch" && e.From == "127.0.0.1"
        );
    }

    [Fact]
    public async Task Whoever_calls_too_often_is_held_back_and_the_others_are_not()
    {
        await using var service = await ServiceProcess.StartAsync("--rate", "5");
        var other = await Calls.AccountAsync(service, "other", ["reader"], "*");
        var outcomes = await Task.WhenAll(
            Enumerable.Range(0, 60).Select(_ => Calls.OutcomeAsync(service, "GET", "/api/v1/session", service.Token))
        );
        Assert.InRange(outcomes.Count(o => o.Status == 200), 15, 40);
        Assert.Contains((429, "too-many-calls"), outcomes);
        Assert.Equal(200, (await Calls.OutcomeAsync(service, "GET", "/api/v1/session", other)).Status);
        var unknown = await Task.WhenAll(Enumerable.Range(0, 400).Select(_ => Calls.OutcomeAsync(service, "GET", "/api/v1/session")));
        Assert.Contains(unknown, o => o.Status == 429);
        Assert.Equal(200, (await Calls.OutcomeAsync(service, "GET", "/api/v1/session", other)).Status);
    }

    [Fact]
    public async Task What_machines_say_is_never_obeyed_by_a_page_a_spreadsheet_or_a_terminal()
    {
        const string Markup = "<script>alert(1)</script><img src=x onerror=alert(1)>";
        var file = fleet.Service.Write(
            "name,site,connection,os.product,os.edition,os.version,firmware.tpm.version,firmware.tpm.state,"
                + $"disk.system.free,hardware.model,seen\n\"{Markup}\",Corran,simulated,Brae Desktop,Workplace,6.4,2.0,off,1 "
                + $"GiB,\"{Markup}\",{DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ}\n"
                + $"\"=HYPERLINK(\"\"http://evil.example\"\",\"\"click\"\")\",Corran,simulated,Brae Desktop,Workplace,6.4,2.0,off,1 "
                + $"GiB,\"=cmd|' /C calc'!A0\",{DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ}\n"
                + $"$(touch /tmp/grandstair-owned)`id`,Corran,simulated,Brae Desktop,Workplace,6.4,2.0,off,1 "
                + $"GiB,\"[31mred\u001b[31m\u009b31m\",{DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ}\n",
            "hostile.csv"
        );
        Assert.Equal(0, (await Service.GstairAsync("fleet", "import", file)).Exit);
        var html = await TextAsync("readiness/report?product=Brae%20Desktop&scope=site%20%3D%20Corran&format=html");
        Assert.DoesNotContain("<script>alert", html, StringComparison.Ordinal);
        Assert.DoesNotContain("<img src=x", html, StringComparison.Ordinal);
        Assert.Contains("&lt;script&gt;", html, StringComparison.Ordinal);
        var csv = await TextAsync("readiness/report?product=Brae%20Desktop&scope=site%20%3D%20Corran&format=csv");
        foreach (var cell in csv.Split('\n').SelectMany(l => l.Split(',')).Select(c => c.Trim('"', '\r')))
            Assert.False(cell.StartsWith('=') || cell.StartsWith('@') || cell.StartsWith('+'), cell);
        var list = await Service.GstairAsync("fleet", "list", "site = Corran");
        Assert.DoesNotContain('\u001b', list.Out);
        Assert.DoesNotContain('\u009b', list.Out);
        Assert.False(File.Exists("/tmp/grandstair-owned"));
        using var answer = await Calls.SendAsync(Service, "GET", "/api/v1/machines?filter=site%20%3D%20Corran", Service.Token);
        Assert.Equal("application/json", answer.Content.Headers.ContentType?.MediaType);
        Assert.Equal("nosniff", answer.Headers.GetValues("X-Content-Type-Options").Single());
    }

    [Fact]
    public async Task A_cell_or_a_line_without_end_is_told_and_what_came_before_it_is_kept()
    {
        var cell = fleet.Service.Write(
            $"name,site,connection,hardware.model,seen\nbefore-1,Linsay,simulated,x,2026-01-01T00:00:00Z\n"
                + $"endless-1,Linsay,simulated,\"{new string('x', 3 << 20)}\n",
            "cell.csv"
        );
        var ran = await Service.GstairAsync("fleet", "import", cell);
        Assert.Equal(9, ran.Exit);
        Assert.Contains("A cell has more than 1048576 characters; is a quotation mark missing?", ran.Error, StringComparison.Ordinal);
        var line = fleet.Service.Write(
            $"{{\"name\":\"before-2\",\"site\":\"Linsay\",\"connection\":\"simulated\"}}\n{{\"name\":\"{new string('x', 9 << 20)}\n",
            "line.jsonl"
        );
        Assert.Contains(
            "The line has more than 4194304 characters",
            (await Service.GstairAsync("fleet", "import", line)).Error,
            StringComparison.Ordinal
        );
        Assert.Equal(2, (await Service.Client.MachinesAsync("site = Linsay", 10, Stop)).Total);
    }

    private static string Laughs()
    {
        var yaml = new StringBuilder("a: &a [x, x, x, x, x, x, x, x, x, x]\n");
        for (var c = 'b'; c <= 'i'; c++)
            yaml.Append($"{c}: &{c} [{string.Join(", ", Enumerable.Repeat($"*{(char)(c - 1)}", 10))}]\n");
        return yaml.ToString();
    }

    private async Task<string> TextAsync(string path)
    {
        using var response = await Calls.SendAsync(Service, "GET", $"/api/v1/{path}", Service.Token);
        return await response.Content.ReadAsStringAsync(Stop);
    }

    private async Task<string> AnswerAsync(
        string method,
        string path,
        string? token,
        string? body,
        params (string Name, string Value)[] headers
    )
    {
        var (status, problem) = await Calls.OutcomeAsync(
            Service,
            method,
            path.StartsWith('/') ? path : $"/api/v1/{path}",
            token,
            body,
            headers
        );
        return problem.Length > 0 ? $"{status} `{problem}`" : $"{status}";
    }

    /// <summary>Sends what no client would, and returns the status that comes back.</summary>
    private async Task<string> RawAsync(string request)
    {
        using var client = new TcpClient("127.0.0.1", Service.Url.Port);
        var stream = client.GetStream();
        await stream.WriteAsync(Encoding.ASCII.GetBytes(request), Stop);
        using var reader = new StreamReader(stream);
        var line = await reader.ReadLineAsync(Stop).AsTask().WaitAsync(TimeSpan.FromSeconds(20), Stop);
        var status = line?.Split(' ').ElementAtOrDefault(1) ?? "no answer";
        if (status != "200")
            return status;
        // A path that leads nowhere gets the console's own page.
        return (await reader.ReadToEndAsync(Stop)).Contains("<title>Grand Stair", StringComparison.Ordinal) ? "the console's page" : "200";
    }

    private async Task<string> SignInAsync(string? before)
    {
        using var response = await Calls.SendAsync(
            Service,
            "POST",
            "/api/v1/session",
            null,
            $$"""{"token":"{{Service.Token}}"}""",
            before is null ? [("Sec-Fetch-Site", "same-origin")] : [("Sec-Fetch-Site", "same-origin"), ("Cookie", before)]
        );
        return response.Headers.GetValues("Set-Cookie").Single().Split(';')[0];
    }
}
