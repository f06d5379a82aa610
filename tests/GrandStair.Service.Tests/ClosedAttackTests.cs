using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using Dapper;
using GrandStair.Client;
using GrandStair.Testing;
using Microsoft.Data.Sqlite;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Attacks that once worked, each of which is listed by name in docs/attacks.md.</summary>
public sealed class ClosedAttackTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    private const string NeverHappens =
        "BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nUID:1\nDTSTART:20270101T080000Z\nDURATION:PT1H\n"
        + "RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30\nEND:VEVENT\nEND:VCALENDAR\n";

    private ServiceProcess Service => fleet.Service;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_rehearsal_whose_what_if_is_nested_a_hundred_thousand_levels_deep_is_refused_and_the_service_lives()
    {
        await PlanAsync("rehearsed");
        var body = JsonSerializer.Serialize(
            new { whatIfs = new[] { new { changes = new[] { "limits.all=" + new string('[', 100_000) } } } }
        );
        Assert.Equal(
            (400, "what-if"),
            await Calls.OutcomeAsync(Service, "POST", "/api/v1/plans/rehearsed/rehearsals", Service.Token, body)
        );
        var whole = JsonSerializer.Serialize(
            new { whatIfs = new[] { new { changes = Array.Empty<string>(), plan = "plan: " + new string('[', 100_000) } } }
        );
        Assert.Equal(
            (400, "what-if"),
            await Calls.OutcomeAsync(Service, "POST", "/api/v1/plans/rehearsed/rehearsals", Service.Token, whole)
        );
        Assert.Equal(200, (await Calls.OutcomeAsync(Service, "GET", "/health/live")).Status);
    }

    [Fact]
    public async Task A_planner_cannot_take_the_approval_off_a_plan_that_was_approved()
    {
        var (scope, own) = await fleet.OwnMachinesAsync("approved");
        var plan = Text("approved").Replace(scope, own, StringComparison.Ordinal);
        var text = plan + "\napproval: { by: [the-board] }";
        await LoadAsync("approved", text);
        var boards = await Calls.AccountAsync(Service, "the-board", ["approver", "reader"], "*");
        using var board = new GrandStairClient(Service.Url, boards);
        await ApproveAsync(board, "approved");
        await Service.Client.StartAsync("approved", Stop);
        Assert.Null((await Service.Client.PlanAsync("approved", Stop)).Plan.Held);

        await ReloadAsync("approved", plan);
        var held = await Service.Client.PlanAsync("approved", Stop);
        Assert.Equal("revision 2 waits for approval", held.Plan.Held);
        Assert.Equal(["the-board"], held.Planning.Approvals.Single().Asked);
        Assert.Equal((409, "not-approved"), await Calls.OutcomeAsync(Service, "POST", "/api/v1/plans/approved/start", Service.Token, "{}"));
        Assert.Equal(
            (409, "own-change"),
            await Calls.OutcomeAsync(
                Service,
                "POST",
                "/api/v1/plans/approved/approvals",
                Service.Token,
                $$"""{"intent":"{{held.Planning.Approvals.Single().Intent}}","reason":"mine"}"""
            )
        );
        // Swapped between look and yes: what was looked at is named.
        await ReloadAsync("approved", plan.Replace("all: 2", "all: 1", StringComparison.Ordinal));
        Assert.Equal(
            (409, "another-intent"),
            await Calls.OutcomeAsync(
                Service,
                "POST",
                "/api/v1/plans/approved/approvals",
                boards,
                $$"""{"intent":"{{held.Planning.Approvals.Single().Intent}}","reason":"seen"}"""
            )
        );
        Assert.Equal(
            (400, "body"),
            await Calls.OutcomeAsync(Service, "POST", "/api/v1/plans/approved/approvals", boards, """{"reason":"whatever it is"}""")
        );
        Assert.Contains(
            "needs approval by the-board; the-board approved revision 1",
            await Service.OkAsync("plan", "approve", "approved"),
            StringComparison.Ordinal
        );
        await ApproveAsync(board, "approved");
        await Service.Client.StartAsync("approved", Stop);

        // A method that preserves less, for one machine, after the start.
        var machine = (await Service.Client.MembersAsync("approved", null, null, null, 10, Stop)).Items.First(m => m.Run is null).Name;
        await Service.Client.ChooseMethodAsync("approved", machine, new("quicker", "start-afresh"), Stop);
        Assert.Contains("start-afresh", (await Service.Client.PlanAsync("approved", Stop)).Plan.Held, StringComparison.Ordinal);
        Assert.Equal(
            (409, "not-acknowledged"),
            await Calls.OutcomeAsync(Service, "POST", "/api/v1/plans/approved/start", Service.Token, "{}")
        );
    }

    [Fact]
    public async Task A_planner_cannot_move_machines_out_of_a_wave_that_needs_an_approval_or_accept_proposals_for_another()
    {
        var (scope, own) = await fleet.OwnMachinesAsync("waves");
        var text = Text("waves")
            .Replace(scope, own, StringComparison.Ordinal)
            .Replace("{ name: Rest }", "{ name: Rest, approval: yes }", StringComparison.Ordinal);
        await LoadAsync("waves", text);
        await Service.Client.StartAsync("waves", Stop);
        var machine = (await Service.Client.MembersAsync("waves", null, 2, null, 10, Stop)).Items.First(m => m.Run is null).Name;
        await Service.Client.MoveAsync("waves", machine, new("Pilot", "on loan"), Stop);
        var held = await Service.Client.PlanAsync("waves", Stop);
        Assert.Contains("waits for approval", held.Plan.Held, StringComparison.Ordinal);
        Assert.Equal(["plan", "wave Rest"], held.Planning.Approvals.Select(a => a.Subject));

        // Another planner accepts; then neither of the two may approve.
        var seconds = await Calls.AccountAsync(Service, "second-planner", ["planner", "approver", "reader"], "*");
        using var second = new GrandStairClient(Service.Url, seconds);
        await second.AcceptProposalsAsync("waves", "the fleet as it is", Stop);
        foreach (var token in new[] { Service.Token, seconds })
        {
            var needed = (await Service.Client.PlanAsync("waves", Stop)).Planning.Approvals[0];
            Assert.Equal(
                (409, "own-change"),
                await Calls.OutcomeAsync(
                    Service,
                    "POST",
                    "/api/v1/plans/waves/approvals",
                    token,
                    $$"""{"intent":"{{needed.Intent}}","reason":"x"}"""
                )
            );
        }
    }

    [Fact]
    public async Task An_admin_can_ask_for_an_approval_of_every_plan_and_those_without_one_are_held()
    {
        await using var service = await ServiceProcess.StartAsync();
        await service.GstairAsync(
            "fleet",
            "import",
            service.Write(
                SmallFleet.Csv.Replace("NOW", $"{DateTimeOffset.UtcNow:yyyy-MM-ddTHH:mm:ssZ}", StringComparison.Ordinal),
                "fleet.csv"
            ),
            "--seen",
            "now"
        );
        Assert.Equal(0, (await service.GstairAsync("plan", "load", service.Write(SmallFleet.Plan, "plan.yaml"), "--yes")).Exit);
        await service.Client.AcknowledgeAsync("small", new("read"), Stop);
        await service.Client.StartAsync("small", Stop);
        Assert.Contains("where its own text says so", await service.OkAsync("setting", "show"), StringComparison.Ordinal);
        Assert.Contains(
            "Every plan needs an approval",
            await service.OkAsync("setting", "change", "--every-plan-approved", "yes", "--reason", "after the audit"),
            StringComparison.Ordinal
        );
        var held = await service.Client.PlanAsync("small", Stop);
        Assert.Equal(
            ("every plan needs an approval now, which waits for approval", "This service asks for it of every plan."),
            (held.Plan.Held, held.Planning.Approvals.Single().Why)
        );
        var planner = await Calls.AccountAsync(service, "a-planner", ["planner", "approver"], "*");
        Assert.Equal(
            (403, "not-allowed"),
            await Calls.OutcomeAsync(service, "PUT", "/api/v1/settings", planner, """{"everyPlanApproved":false,"reason":"x"}""")
        );
        var intent = held.Planning.Approvals.Single().Intent;
        using var approver = new GrandStairClient(service.Url, planner);
        await approver.ApproveAsync("small", new(intent, "looked at it"), Stop);
        Assert.Null((await service.Client.StartAsync("small", Stop)).Plan.Held);
    }

    [Fact]
    public async Task A_calendar_that_never_happens_is_refused_and_one_that_is_stored_concerns_the_plans_that_name_it_alone()
    {
        var berths = NeverHappens.Replace("RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30\n", "RRULE:FREQ=DAILY\n", StringComparison.Ordinal);
        using (
            var refused = await Calls.SendAsync(
                Service,
                "PUT",
                "/api/v1/calendars/tides",
                Service.Token,
                NeverHappens,
                ("Content-Type", "text/calendar")
            )
        )
        {
            Assert.Equal(HttpStatusCode.UnprocessableEntity, refused.StatusCode);
            Assert.Contains("never happens", await refused.Content.ReadAsStringAsync(Stop), StringComparison.Ordinal);
        }

        var latin = Path.Combine(Service.Data, "latin.ics");
        await File.WriteAllBytesAsync(
            latin,
            Encoding.Latin1.GetBytes(berths.Replace("BEGIN:VEVENT\n", "BEGIN:VEVENT\nSUMMARY:Kapitän\n", StringComparison.Ordinal)),
            Stop
        );
        var encoded = await Service.GstairAsync("calendar", "load", "tides", latin);
        Assert.NotEqual(0, encoded.Exit);
        Assert.Matches("line \\d+.*not in UTF-8|:\\d+.*not in UTF-8", encoded.Error);
        Assert.Equal(
            200,
            (
                await Calls.OutcomeAsync(
                    Service,
                    "PUT",
                    "/api/v1/calendars/tides",
                    Service.Token,
                    berths,
                    ("Content-Type", "text/calendar")
                )
            ).Status
        );
        var (scope, own) = await fleet.OwnMachinesAsync("tidal");
        await LoadAsync(
            "tidal",
            Text("tidal")
                .Replace(scope, own, StringComparison.Ordinal)
                .Replace("weekly: [\"Mon-Sun 00:00-00:00\"]", "calendar: tides", StringComparison.Ordinal)
        );
        await PlanAsync("dry");
        await Service.Client.StartAsync("tidal", Stop);
        // As an earlier release would have stored it.
        await using (var database = new SqliteConnection($"Data Source={Path.Combine(Service.Data, "grandstair.db")}"))
            await database.ExecuteAsync(
                "UPDATE calendars SET body = @NeverHappens, hash = 'other' WHERE name = 'tides'",
                new { NeverHappens }
            );
        Assert.Equal((409, "calendar"), await Calls.OutcomeAsync(Service, "GET", "/api/v1/plans/tidal/schedule", Service.Token));
        Assert.Equal(200, (await Calls.OutcomeAsync(Service, "GET", "/api/v1/plans/dry/schedule", Service.Token)).Status);
        Assert.Equal(200, (await Calls.OutcomeAsync(Service, "GET", "/api/v1/calendars", Service.Token)).Status);
        await Eventually.TrueAsync(
            async () =>
                (await Service.Client.PlanAsync("tidal", Stop)).Trouble is { } trouble
                && trouble.Contains("The calendar 'tides' cannot be used", StringComparison.Ordinal),
            TimeSpan.FromSeconds(20),
            () => "the plan says so"
        );
        Assert.Contains("It does not go on", await Service.OkAsync("plan", "show", "tidal"), StringComparison.Ordinal);
        Assert.Null((await Service.Client.PlanAsync("dry", Stop)).Trouble);
        await Calls.SendAsync(
            Service,
            "PUT",
            "/api/v1/calendars/tides",
            Service.Token,
            berths.Replace("DAILY", "WEEKLY", StringComparison.Ordinal),
            ("Content-Type", "text/calendar")
        );
        await Eventually.TrueAsync(
            async () => (await Service.Client.PlanAsync("tidal", Stop)).Trouble is null,
            TimeSpan.FromSeconds(20),
            () => "the plan goes on"
        );
    }

    [Fact]
    public async Task What_was_made_with_a_token_neither_outlives_it_nor_survives_its_end()
    {
        var parent = await Calls.AccountAsync(Service, "token-maker", ["reader"], "*");
        var list = (await Calls.JsonAsync(Service, "GET", "/api/v1/tokens", parent)).EnumerateArray().First();
        var made = await Calls.JsonAsync(Service, "POST", "/api/v1/tokens", parent, new { label = "for long", days = 366 });
        Assert.Equal(list.GetProperty("expires").GetDateTimeOffset(), made.GetProperty("token").GetProperty("expires").GetDateTimeOffset());
        Assert.Equal(list.GetProperty("id").GetString(), made.GetProperty("token").GetProperty("madeWith").GetString());
        using var signedIn = await Calls.SendAsync(
            Service,
            "POST",
            "/api/v1/session",
            null,
            $$"""{"token":"{{parent}}"}""",
            ("Sec-Fetch-Site", "same-origin")
        );
        var cookie = signedIn.Headers.GetValues("Set-Cookie").Single().Split(';')[0];
        using var inSession = await Calls.SendAsync(
            Service,
            "POST",
            "/api/v1/tokens",
            null,
            """{"label":"from the console","days":300}""",
            ("Cookie", cookie),
            ("Sec-Fetch-Site", "same-origin")
        );
        var fromSession = JsonDocument.Parse(await inSession.Content.ReadAsStringAsync(Stop)).RootElement.GetProperty("secret").GetString();
        await Service.Client.EndTokenAsync(list.GetProperty("id").GetString()!, "stolen", Stop);
        foreach (var token in new[] { parent, made.GetProperty("secret").GetString(), fromSession })
            Assert.Equal((401, "wrong-token"), await Calls.OutcomeAsync(Service, "GET", "/api/v1/session", token));
        Assert.Equal(401, (await Calls.OutcomeAsync(Service, "GET", "/api/v1/session", headers: ("Cookie", cookie))).Status);
    }

    [Fact]
    public async Task A_link_in_the_catalogue_s_folder_is_refused_and_an_older_approved_script_asks_again()
    {
        var catalogue = Directory.CreateTempSubdirectory("grandstair-catalogue-").FullName;
        var debian = Path.Combine(catalogue, "debian");
        Directory.CreateDirectory(debian);
        foreach (var file in Directory.GetFiles(Path.Combine(Repository.Root, "catalogue", "debian")))
            File.Copy(file, Path.Combine(debian, Path.GetFileName(file)));
        await using var service = await ServiceProcess.StartAsync("--catalogue", catalogue);
        var first = (await service.Client.CatalogueAsync(Stop)).Single().Hash;
        var script = Path.Combine(debian, "tidy.sh");
        var before = await File.ReadAllTextAsync(script, Stop);
        await service.KillAsync();
        await File.AppendAllTextAsync(script, "# a fix\n", Stop);
        await service.StartAgainAsync();
        await service.Client.ApproveCatalogueAsync(
            "Debian",
            (await service.Client.CatalogueChangesAsync(Stop)).Single().Hash,
            "a fix",
            Stop
        );
        var second = (await service.Client.CatalogueAsync(Stop)).Single().Hash;
        await service.KillAsync();
        await File.WriteAllTextAsync(script, before, Stop);
        await service.StartAgainAsync();
        Assert.Equal(
            (second, first),
            ((await service.Client.CatalogueAsync(Stop)).Single().Hash, (await service.Client.CatalogueChangesAsync(Stop)).Single().Hash)
        );

        await service.KillAsync();
        File.CreateSymbolicLink(Path.Combine(debian, "notes.txt"), Path.Combine(service.Data, "admin.token"));
        var started = await Shell.RunAsync(
            "dotnet",
            [Repository.Built("GrandStair.Service", "grandstair"), "--data", service.Data, "--catalogue", catalogue, "--port", "0"],
            limit: TimeSpan.FromSeconds(60)
        );
        Assert.NotEqual(0, started.Exit);
        Assert.Contains("It is a link; expected a file of its own", started.Error, StringComparison.Ordinal);
        Directory.Delete(catalogue, recursive: true);
    }

    [Fact]
    public async Task Nothing_in_a_plan_or_an_import_reaches_the_terminal_as_a_code_that_it_obeys()
    {
        const string Codes = "\u001b]0;owned\u0007\u202Edne\u2066x\u009b31m";
        static string Escaped(string escape, string bell) =>
            Codes.Replace("\u001b", escape, StringComparison.Ordinal).Replace("\u0007", bell, StringComparison.Ordinal);
        var plan = await Service.GstairAsync(
            "plan",
            "check",
            Service.Write(Text("codes").Replace("all: 2", $"\"all{Escaped("\\e", "\\a")}\": 2", StringComparison.Ordinal), "codes.yaml")
        );
        Assert.NotEqual(0, plan.Exit);
        var import = await Service.GstairAsync(
            "fleet",
            "import",
            Service.Write($"name,os.versoin{Codes},seen\nx,1,2026-01-01T00:00:00Z\n", "codes.csv")
        );
        Assert.NotEqual(0, import.Exit);
        var rows = await Service.GstairAsync(
            "fleet",
            "import",
            Service.Write(
                $"{{\"name\":\"codes-1\",\"seen\":\"2026-01-01T00:00:00Z\",\"x{Escaped("\\u001b", "\\u0007")}\":1}}\n",
                "codes.jsonl"
            )
        );
        foreach (var said in new[] { plan.Out, plan.Error, import.Out, import.Error, rows.Out, rows.Error })
            Assert.DoesNotContain(said, c => c is '\u001b' or '\u0007' or '\u202E' or '\u2066' or '\u009b');
        Assert.Contains("codes-1", (await Service.GstairAsync("fleet", "list", "name like \"codes-*\"")).Out, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_pattern_that_fits_nowhere_in_long_texts_holds_nobody_up()
    {
        var cells = Enumerable.Range(0, 3).Select(i => $"long-{i},Linsay,simulated,{new string('a', 60_000)},2026-01-01T00:00:00Z");
        Assert.Equal(
            0,
            (
                await Service.GstairAsync(
                    "fleet",
                    "import",
                    Service.Write("name,site,connection,hardware.model,seen\n" + string.Join('\n', cells), "long.csv")
                )
            ).Exit
        );
        var filter = Uri.EscapeDataString($"hardware.model like \"*{string.Concat(Enumerable.Repeat("a?", 120))}b*\"");
        var begun = Stopwatch.StartNew();
        var slow = Calls.OutcomeAsync(Service, "GET", $"/api/v1/machines?filter={filter}", Service.Token);
        Assert.Equal(200, (await Calls.OutcomeAsync(Service, "GET", "/api/v1/machines?limit=1", Service.Token)).Status);
        Assert.Equal(200, (await slow).Status);
        Assert.True(begun.Elapsed < TimeSpan.FromSeconds(2), $"{begun.Elapsed}");
        Assert.Equal(
            (400, "condition"),
            await Calls.OutcomeAsync(
                Service,
                "GET",
                $"/api/v1/machines?filter={Uri.EscapeDataString($"hardware.model like \"{new string('a', 300)}\"")}",
                Service.Token
            )
        );
        Assert.Contains(
            "at most 65536 characters",
            (
                await Service.GstairAsync(
                    "fleet",
                    "import",
                    Service.Write(
                        $"name,site,connection,hardware.model,seen\n"
                            + $"long-9,Linsay,simulated,{new string('a', 70_000)},2026-01-01T00:00:00Z\n",
                        "longer.csv"
                    )
                )
            ).Error,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_planner_of_one_site_learns_nothing_of_machines_waves_and_sites_elsewhere()
    {
        await LoadAsync(
            "hidden",
            Text("hidden")
                .Replace("scope: ", "scope: site != Westhaven and ", StringComparison.Ordinal)
                .Replace("{ name: Rest }", "{ name: Secret-wave }", StringComparison.Ordinal)
        );
        await PlanAsync("mixed");
        var planner = await Calls.AccountAsync(Service, "west-planner", ["planner", "reader"], "Westhaven");
        // The same answer whether the named machine exists or not.
        (string, string)[] calls = [("POST", "/api/v1/plans/compare"), ("POST", "/api/v1/plans")];
        foreach (var (method, path) in calls)
        {
            var outcomes = new HashSet<(int, string)>();
            foreach (var name in new[] { "desk-3", "no-such-machine" })
                outcomes.Add(
                    await Calls.OutcomeAsync(
                        Service,
                        method,
                        path,
                        planner,
                        Text("hidden").Replace("scope: ", $"scope: name = \"{name}\" and ", StringComparison.Ordinal),
                        ("Content-Type", "application/yaml")
                    )
                );
            Assert.Equal((409, "plan-exists"), Assert.Single(outcomes));
        }

        var mixed = await Calls.JsonAsync(Service, "GET", "/api/v1/plans/mixed", planner);
        Assert.Equal(("", ""), (mixed.GetProperty("body").GetString(), mixed.GetProperty("scope").GetString()));
        using var html = await Calls.SendAsync(Service, "GET", "/api/v1/plans/mixed/slots?format=html", planner);
        Assert.DoesNotContain("Eastness", await html.Content.ReadAsStringAsync(Stop), StringComparison.Ordinal);
        Assert.Equal((403, "not-allowed"), await Calls.OutcomeAsync(Service, "GET", "/api/v1/calendars/tides", planner));
        using var health = await Calls.SendAsync(Service, "GET", "/health/ready");
        Assert.DoesNotContain("position", await health.Content.ReadAsStringAsync(Stop), StringComparison.OrdinalIgnoreCase);
    }

    [Fact]
    public async Task A_share_link_shows_no_more_than_its_maker_may_see_today()
    {
        await PlanAsync("shared");
        var maker = await Calls.AccountAsync(Service, "link-maker", ["planner", "reader"], "Westhaven", "Eastness");
        var made = await Calls.JsonAsync(Service, "POST", "/api/v1/plans/shared/share-links", maker, new { kind = "plan" });
        var path = made.GetProperty("calendar").GetString()![..^"/calendar.ics".Length];
        async Task<string[]> SitesAsync() =>
            [
                .. (await Calls.JsonAsync(Service, "GET", path, null))
                    .GetProperty("slots")
                    .EnumerateArray()
                    .Select(s => s.GetProperty("site").GetString()!)
                    .Distinct()
                    .Order(),
            ];
        Assert.Equal(["Eastness", "Westhaven"], await SitesAsync());
        await Calls.JsonAsync(
            Service,
            "PUT",
            "/api/v1/accounts/link-maker",
            Service.Token,
            new
            {
                roles = new[] { "planner" },
                sites = new[] { "Westhaven" },
                reason = "moved",
            }
        );
        Assert.Equal(["Westhaven"], await SitesAsync());
        await Service.Client.EndAccountAsync("link-maker", "left", Stop);
        Assert.Equal((404, "unknown-share-link"), await Calls.OutcomeAsync(Service, "GET", path));
    }

    [Fact]
    public async Task A_data_folder_that_is_open_to_others_is_refused_and_a_new_one_is_closed()
    {
        var parent = Directory.CreateTempSubdirectory("grandstair-folder-").FullName;
        var (open, closed) = (Path.Combine(parent, "open"), Path.Combine(parent, "closed"));
        Directory.CreateDirectory(open, (UnixFileMode)0b111_101_101);
        var refused = await Shell.RunAsync(
            "dotnet",
            [
                Repository.Built("GrandStair.Service", "grandstair"),
                "--data",
                open,
                "--catalogue",
                Path.Combine(Repository.Root, "catalogue"),
                "--port",
                "0",
            ],
            limit: TimeSpan.FromSeconds(60)
        );
        Assert.NotEqual(0, refused.Exit);
        Assert.Contains($"chmod 700 {open}", refused.Error, StringComparison.Ordinal);
        await using (await ServiceProcess.StartAsync(closed, []))
        {
            Assert.Equal((UnixFileMode)0b111_000_000, File.GetUnixFileMode(closed));
            Assert.All(Directory.GetFiles(closed), f => Assert.True((File.GetUnixFileMode(f) & (UnixFileMode)0b000_111_111) == 0, f));
        }
    }

    [Fact]
    public async Task Guessing_login_links_is_slowed_down_and_a_proxy_that_was_named_may_say_that_it_does_tls()
    {
        await using var service = await ServiceProcess.StartAsync("--proxy", "127.0.0.1", "--hosts", "stair.northmere.example");
        (string, string)[] proxied =
        [
            ("Host", "stair.northmere.example"),
            ("Origin", "https://stair.northmere.example"),
            ("X-Forwarded-Proto", "https"),
            ("X-Forwarded-For", "127.0.0.9"),
            ("Sec-Fetch-Site", "same-origin"),
        ];
        using var signedIn = await Calls.SendAsync(
            service,
            "POST",
            "/api/v1/session",
            null,
            $$"""{"token":"{{service.Token}}"}""",
            proxied
        );
        Assert.Equal(HttpStatusCode.OK, signedIn.StatusCode);
        Assert.StartsWith("__Host-", signedIn.Headers.GetValues("Set-Cookie").Single(), StringComparison.Ordinal);
        // Without a proxy that was named, whoever says so is not believed.
        Assert.Equal(
            (403, "foreign-origin"),
            await Calls.OutcomeAsync(
                Service,
                "POST",
                "/api/v1/session",
                null,
                $$"""{"token":"{{Service.Token}}"}""",
                ("Origin", $"https://127.0.0.1:{Service.Url.Port}"),
                ("X-Forwarded-Proto", "https")
            )
        );
        var guesses = await Task.WhenAll(Enumerable.Range(0, 120).Select(i => Calls.OutcomeAsync(service, "GET", $"/login/guess-{i}")));
        Assert.Contains(guesses, g => g.Status == 429);
        Assert.True(guesses.Count(g => g.Status == 302) < 60, $"{guesses.Count(g => g.Status == 302)} were looked at");
    }

    [Fact]
    public async Task Imports_cannot_name_the_service_s_own_sources_and_a_mapping_has_its_bound()
    {
        foreach (var source in new[] { "route", "dependents", "ssh" })
            Assert.Equal(
                (400, "source"),
                await Calls.OutcomeAsync(
                    Service,
                    "POST",
                    $"/api/v1/fleet/imports?source={source}&seen=now",
                    Service.Token,
                    "name,site\nx,y\n",
                    ("Content-Type", "text/csv")
                )
            );
        using var form = new MultipartFormDataContent
        {
            { new StringContent("name,site\nx,y\n"), "file", "fleet.csv" },
            { new StringContent("columns: { name: n }\n#" + new string('x', 3 << 20)), "mapping", "mapping.yaml" },
        };
        using var http = new HttpClient();
        http.DefaultRequestHeaders.Authorization = new("Bearer", Service.Token);
        using var answer = await http.PostAsync(new Uri(Service.Url, "/api/v1/fleet/imports?seen=now"), form, Stop);
        Assert.Equal(HttpStatusCode.UnprocessableEntity, answer.StatusCode);
        Assert.Contains("The mapping has", await answer.Content.ReadAsStringAsync(Stop), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_cell_is_no_formula_whatever_a_spreadsheet_splits_at()
    {
        Assert.Equal(
            0,
            (
                await Service.GstairAsync(
                    "fleet",
                    "import",
                    Service.Write(
                        $"name,site,connection,os.product,os.edition,os.version,seen\n\"cell;=1+1\",Linsay,simulated,Brae "
                            + $"Desktop,Workplace,6.4,{DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ}\n",
                        "cells.csv"
                    )
                )
            ).Exit
        );
        using var csv = await Calls.SendAsync(
            Service,
            "GET",
            "/api/v1/readiness/report?product=Brae%20Desktop&scope=site%20%3D%20Linsay&format=csv",
            Service.Token
        );
        var text = await csv.Content.ReadAsStringAsync(Stop);
        Assert.Contains("cell;'=1+1", text, StringComparison.Ordinal);
        Assert.DoesNotContain(";=", text, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_token_from_the_environment_is_not_sent_to_an_address_that_a_folder_names()
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-checkout-").FullName;
        Directory.CreateDirectory(Path.Combine(folder, "data"));
        using var thief = new TcpListener(IPAddress.Loopback, 0);
        thief.Start();
        await File.WriteAllTextAsync(
            Path.Combine(folder, "data", "service.url"),
            $"http://127.0.0.1:{((IPEndPoint)thief.LocalEndpoint).Port}\n",
            Stop
        );
        var ran = await Shell.RunAsync(
            "env",
            ["-C", folder, "GSTAIR_TOKEN=the-token", "dotnet", Repository.Built("GrandStair.Cli", "gstair"), "plan", "list"]
        );
        Assert.NotEqual(0, ran.Exit);
        Assert.Contains("GSTAIR_TOKEN is not sent to", ran.Error, StringComparison.Ordinal);
        Assert.False(thief.Pending());
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public async Task A_machine_with_a_malformed_key_exchange_stops_no_duty_and_the_others_are_read_on()
    {
        await using var service = await ServiceProcess.StartAsync("--ssh-key", "secret:carrier", "--read-every", "10min");
        await using var sshd = await SshServer.StartAsync("");
        await service.Client.PutSecretAsync("carrier", await File.ReadAllTextAsync(sshd.KeyFile, Stop), Stop);
        using var hostile = new TcpListener(IPAddress.Loopback, 0);
        hostile.Start();
        using var over = CancellationTokenSource.CreateLinkedTokenSource(Stop);
        var serving = ServeAsync(hostile, over.Token);
        var port = ((IPEndPoint)hostile.LocalEndpoint).Port;
        var rows = Enumerable
            .Range(0, 24)
            .Select(i => $"hostile-{i},Corran,ssh,127.0.0.1,{port},root,{sshd.HostKey},Debian,11")
            .Append($"good-1,Corran,ssh,127.0.0.1,{sshd.Port},root,{sshd.HostKey},Debian,11");
        await service.GstairAsync(
            "fleet",
            "import",
            service.Write("name,site,connection,address,port,user,host key,os.product,os.version\n" + string.Join('\n', rows), "fleet.csv"),
            "--seen",
            "now"
        );
        await Eventually.TrueAsync(
            async () => (await service.Client.MachineAsync("good-1", Stop)).Readings.Any(r => r.Source == "ssh"),
            TimeSpan.FromSeconds(60),
            () => $"the good one is read; {service.Output}"
        );
        for (var i = 0; i < 6; i++)
            Assert.Equal(7, (await service.GstairAsync("machine", "read", $"hostile-{i}")).Exit);
        using var health = await Calls.SendAsync(service, "GET", "/health/ready");
        var answer = JsonDocument.Parse(await health.Content.ReadAsStringAsync(Stop)).RootElement;
        Assert.Equal("ok", answer.GetProperty("status").GetString());
        Assert.All(answer.GetProperty("duties").EnumerateArray(), d =>
            Assert.Equal((true, 0), (d.GetProperty("running").GetBoolean(), d.GetProperty("failures").GetInt32()))
        );
        await over.CancelAsync();
        await serving;
    }

    /// <summary>Greets as an SSH server and then sends key exchanges that are cut, lie about their lengths, or are noise.</summary>
    private static async Task ServeAsync(TcpListener listener, CancellationToken stop)
    {
        var random = new Random(7);
        try
        {
            while (true)
            {
                using var client = await listener.AcceptTcpClientAsync(stop);
                var stream = client.GetStream();
                var payload = new byte[random.Next(18, 200)];
                random.NextBytes(payload);
                payload[0] = 20; // SSH_MSG_KEXINIT
                // A name list that claims to be longer than all that follows.
                if (random.Next(2) == 0)
                    BitConverter.GetBytes(int.MaxValue).CopyTo(payload, 17 > payload.Length - 4 ? payload.Length - 4 : 17);
                var packet = new byte[payload.Length + 9];
                var length = random.Next(3) switch
                {
                    0 => payload.Length + 5,
                    1 => random.Next(),
                    _ => 1,
                };
                for (var i = 0; i < 4; i++)
                    packet[i] = (byte)(length >> (24 - (8 * i)));
                packet[4] = 4;
                payload.CopyTo(packet, 5);
                try
                {
                    await stream.WriteAsync(Encoding.ASCII.GetBytes("SSH-2.0-harbour\r\n"), stop);
                    await stream.WriteAsync(packet, stop);
                    await Task.Delay(20, stop);
                }
                catch (IOException)
                {
                    // It was hung up on.
                }
            }
        }
        catch (OperationCanceledException) { }
    }

    private static string Text(string name) => SmallFleet.Plan.Replace("plan: small", $"plan: {name}", StringComparison.Ordinal);

    private Task PlanAsync(string name) => LoadAsync(name, Text(name));

    private async Task LoadAsync(string name, string text)
    {
        await Service.OkAsync("plan", "load", Service.Write(text, $"{name}.yaml"), "--yes");
        await Service.Client.AcknowledgeAsync(name, new("read"), Stop);
    }

    private async Task ReloadAsync(string name, string text) =>
        await Service.OkAsync("plan", "load", Service.Write(text, $"{name}.yaml"), "--yes", "--reason", "changed");

    private static async Task ApproveAsync(GrandStairClient client, string plan) =>
        await client.ApproveAsync(
            plan,
            new((await client.PlanAsync(plan, Stop)).Planning.Approvals.Single(a => a.Subject == "plan").Intent, "looked at it"),
            Stop
        );
}
