using System.Text.Json;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>What the service answers, against its published description: every field and none that it does not tell of.</summary>
public sealed class AnswerTests(BusyFleet fleet) : IClassFixture<BusyFleet>
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private ServiceProcess Service => fleet.Service;

    [Fact]
    public async Task Every_answer_of_every_call_that_looks_is_as_the_description_says()
    {
        var made = await Calls.JsonAsync(
            Service,
            "POST",
            "/api/v1/plans/small/share-links",
            Service.Token,
            new { kind = "owner", of = "owner-1" }
        );
        var secret = made.GetProperty("page").GetString()!.Split('/')[^1];
        await Service.Client.WaiveAsync("desk-2", "space", new("on order", $"{DateTime.UtcNow.AddDays(5):yyyy-MM-dd}"), Stop);
        await Calls.JsonAsync(Service, "PUT", "/api/v1/secrets/fleet-key", Service.Token, new { value = "a key of nobody" });
        await Calls.JsonAsync(Service, "PUT", "/api/v1/host-keys/first-use/Westhaven", Service.Token, new { reason = "they are new" });
        await fleet.Service.OkAsync("plan", "rehearse", "small", "--draws", "3", "--if", "limits.all=4");
        // What is scheduled for a wave to come is kept after a while, and can be chosen anew from then on.
        await Eventually.TrueAsync(
            async () =>
                (await Calls.JsonAsync(Service, "GET", $"/api/v1/shared/{secret}", null))
                    .GetProperty("slots")
                    .EnumerateArray()
                    .Any(s =>
                        s.GetProperty("machine").GetString() == "desk-4" && s.GetProperty("chooseFrom").ValueKind == JsonValueKind.String
                    ),
            TimeSpan.FromSeconds(60),
            () => "desk-4 can have another time"
        );
        var times = (await Service.Client.TimesAsync("small", "desk-4", null, null, Stop)).Times;
        Assert.NotEmpty(times);

        var support = (await Service.Client.OpenSupportCaseAsync(new("NM-1", "the vendor", "its chip", ["desk-2"]), Stop)).Id;
        await Service.Client.BookAppointmentAsync(support, new(DateTimeOffset.UtcNow.AddDays(2), 30), Stop);
        var upload = await Service.Client.BeginMediaUploadAsync(new("clock.img", 4), Stop);
        var seen = new List<(string Call, int Status, string? Type, string Body)>();
        var calls = await Calls.AllAsync(Service);
        foreach (var call in calls.Where(c => c.Method == "GET"))
        {
            // Each as it is asked for what there is, and for what there is not.
            foreach (var path in new[] { Fill(call.Path, true), Fill(call.Path, false) }.Distinct())
                await AskAsync(seen, call, path + Query(call.Name));
        }

        // Those with a body: one that is right and one that is not.
        var compare = calls.Single(c => c.Name == "ComparePlan");
        var text = (await Service.Client.PlanAsync("small", Stop)).Body;
        await AskAsync(seen, compare, compare.Path, text.Replace("all: 2", "all: 3", StringComparison.Ordinal), "application/yaml");
        await AskAsync(seen, compare, compare.Path, text.Replace("all: 2", "all: none", StringComparison.Ordinal), "application/yaml");
        var load = calls.Single(c => c.Name == "LoadPlan");
        await AskAsync(
            seen,
            load,
            "/api/v1/plans/small?reason=wider&after=1",
            text.Replace("all: 2", "all: 3", StringComparison.Ordinal),
            "application/yaml"
        );
        await AskAsync(seen, load, "/api/v1/plans/small?reason=late&after=1", text, "application/yaml");
        var approve = calls.Single(c => c.Name == "ApprovePlan");
        await AskAsync(seen, approve, "/api/v1/plans/small/approvals", """{"intent":"0000","reason":"fine"}""");
        var ask = calls.Single(c => c.Name == "Recheck");
        await AskAsync(seen, ask, "/api/v1/machines/desk-4/checks/mains/recheck", "{}");
        await AskAsync(seen, calls.Single(c => c.Name == "ReadMachine"), "/api/v1/machines/desk-4/readings", "{}");

        await CheckAsync(seen, "answers.jsonl");
        var good = seen.Where(s => s.Status is >= 200 and < 300).Select(s => s.Call).ToHashSet();
        // What takes a session of a browser, or goes on without end, is asked elsewhere.
        // Files are saved of real machines alone.
        string[] apart = ["WatchChanges", "DescribeInterface", "GetSavedFiles"];
        Assert.Empty(
            calls
                .Where(c => c.Method == "GET" && c.Path.StartsWith("/api/", StringComparison.Ordinal))
                .Select(c => c.Name)
                .Except(good)
                .Except(apart)
        );
        Assert.True(seen.Count(s => s.Status is 404 or 409 or 422) > 15, $"{seen.Count(s => s.Status >= 400)} refusals");

        string Fill(string path, bool known) =>
            path.Replace(
                    "{name}",
                    known
                        ? path.StartsWith("/api/v1/machines", StringComparison.Ordinal)
                            ? "desk-2"
                            : path.StartsWith("/api/v1/calendars", StringComparison.Ordinal)
                                ? "berths"
                                : path.StartsWith("/api/v1/media", StringComparison.Ordinal)
                                    ? "brae-desktop-8.0.1.img"
                                    : "small"
                        : "nothing",
                    StringComparison.Ordinal
                )
                .Replace("{plan}", known ? "small" : "nothing", StringComparison.Ordinal)
                .Replace("{machine}", known ? "desk-4" : "nobody", StringComparison.Ordinal)
                .Replace("{run}", known ? "r1" : "r99", StringComparison.Ordinal)
                .Replace("{leg}/{step}/{attempt}", known ? "1/clean/1" : "1/nothing/1", StringComparison.Ordinal)
                .Replace("{key}", "hardware.memory", StringComparison.Ordinal)
                .Replace(
                    "{start}",
                    known ? $"{times[^1].From.UtcDateTime:yyyy-MM-ddTHH:mm:ssZ}" : "2020-01-01T00:00:00Z",
                    StringComparison.Ordinal
                )
                .Replace("{rehearsal}", known ? "1" : "99", StringComparison.Ordinal)
                .Replace(
                    "{id}",
                    !known ? "99"
                        : path.StartsWith("/api/v1/media-uploads", StringComparison.Ordinal) ? upload.Id
                        : path.StartsWith("/api/v1/support-cases", StringComparison.Ordinal) ? support
                        : "1",
                    StringComparison.Ordinal
                )
                .Replace("{secret}", known ? secret : "none", StringComparison.Ordinal);
    }

    [Fact]
    public async Task Every_answer_to_a_command_is_as_the_description_says()
    {
        var seen = new List<(string Call, int Status, string? Type, string Body)>();
        var calls = (await Calls.AllAsync(Service)).ToDictionary(c => c.Name);
        var until = $"{DateTime.UtcNow.AddDays(5):yyyy-MM-dd}";
        // A machine is upgraded by one plan at a time; this one has machines of its own, which are not ready and so do not begin meanwhile.
        var own =
            SmallFleet.Csv.Split('\n')[0]
            + string.Concat(
                Enumerable
                    .Range(1, 3)
                    .Select(i =>
                        $"\nspare-{i},P{i},Eastness,office,,simulated,Brae Desktop,Workplace,6.4,Ness 2,16 GiB,2.0,on,80 "
                        + $"GiB,0,yes,{DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ},100 Mbit/s,,4.2"
                    )
            );
        await Service.OkAsync("fleet", "import", Service.Write(own, "spare.csv"), "--seen", "now");
        var plan = (await Service.Client.PlanAsync("small", Stop))
            .Body.Replace("plan: small", "plan: commanded", StringComparison.Ordinal)
            .Replace("scope: os.product", "scope: name like \"spare-*\" and os.product", StringComparison.Ordinal);
        await SayAsync("CreatePlan", "plans", plan, "application/yaml");
        await SayAsync("CreatePlan", "plans", plan, "application/yaml");
        await SayAsync("Acknowledge", "plans/commanded/acknowledgements", """{"names":null,"reason":"read"}""");
        await SayAsync("StartPlan", "plans/commanded/start", "{}");
        await SayAsync("StartPlan", "plans/commanded/start", "{}");
        await SayAsync("DiscardPlan", "plans/commanded/discard", """{"reason":"too late"}""");
        await SayAsync("HoldPlan", "plans/commanded/hold", """{"reason":"storm"}""");
        await SayAsync("ChooseMethod", "plans/commanded/members/spare-1/method", """{"method":"image-in-place","reason":"no line"}""");
        await SayAsync("ChooseMethod", "plans/commanded/members/spare-1/method", """{"method":"pigeon","reason":"no line"}""");
        await SayAsync("MoveMachine", "plans/commanded/members/spare-2/move", """{"wave":"Pilot","reason":"on loan"}""");
        await SayAsync("MoveMachine", "plans/commanded/members/spare-2/move", """{"wave":"Last","reason":"on loan"}""");
        await SayAsync(
            "RescheduleMachine",
            "plans/commanded/members/spare-1/reschedule",
            """{"start":"2020-01-01T00:00:00Z","reason":"too late"}"""
        );
        await SayAsync("ExemptMachine", "plans/commanded/members/spare-3/exemption", """{"as":"replaced","reason":"a new one"}""");
        await SayAsync("GoAgain", "plans/commanded/members/spare-1/again", """{"reason":"why not"}""");
        await SayAsync("AcceptProposals", "plans/commanded/proposals", """{"reason":"as it is"}""");
        await SayAsync("AskRehearsal", "plans/commanded/rehearsals", """{"draws":1}""");
        await SayAsync("AskRehearsal", "plans/commanded/rehearsals", """{"draws":0}""");
        await SayAsync("MakeShareLink", "plans/commanded/share-links", """{"kind":"site","of":"Eastness"}""");
        await SayAsync("MakeShareLink", "plans/commanded/share-links", """{"kind":"ship"}""");
        await SayAsync("LoadCalendar", "calendars/quays", BusyFleet.Berths, "text/calendar");
        await SayAsync("LoadCalendar", "calendars/quays", "BEGIN:NOTHING", "text/calendar");
        await SayAsync("WaiveCheck", "machines/desk-2/checks/security-chip/waivers", $$"""{"reason":"on order","until":"{{until}}"}""");
        await SayAsync("Recheck", "machines/desk-4/checks/none/recheck", "{}");
        await SayAsync("FixCheck", "machines/desk-4/checks/mains/fixes", """{"reason":"x"}""");
        await SayAsync("PinHostKey", "machines/desk-4/host-key", """{"hostKey":"none","reason":"x"}""");
        await SayAsync("DecideRun", "runs/r1/decisions", """{"decision":"give-up","reason":"x"}""");
        await SayAsync("AnswerRun", "runs/r1/answers", """{"answer":"done"}""");
        await SayAsync("AnswerRun", "runs/r1/answers", """{"answer":"perhaps"}""");
        await SayAsync("KeepRollback", "runs/r1/rollback-period", """{"until":"2027-02-08","reason":"x"}""");
        await SayAsync("CategoriseRollbacks", "rollbacks/categorise", """{"runs":["r1"],"category":"x"}""");
        await SayAsync("AddFollowUp", "runs/r1/follow-ups", """{"title":"its card reader","due":"2027-02-08"}""");
        await SayAsync("AddFollowUp", "runs/r1/follow-ups", """{"title":""}""");
        await SayAsync("AssignFollowUps", "follow-ups/assign", """{"of":[{"run":"r1","name":"devices"}],"owner":"deck-it"}""");
        await SayAsync("FixFollowUps", "follow-ups/fix", """{"of":[{"run":"r1","name":"devices"}],"reason":"x"}""");
        await SayAsync("CloseFollowUps", "follow-ups/close", """{"of":[{"run":"r1","name":"devices"}],"reason":"x"}""");
        await SayAsync("OpenSupportCase", "support-cases", """{"reference":"NM-7","with":"us","about":"slow","machines":["desk-4"]}""");
        await SayAsync("OpenSupportCase", "support-cases", """{"reference":"NM-7","with":"us","about":"slow","machines":["desk-4"]}""");
        var support = (await Service.Client.SupportCasesAsync("desk-4", null, 1, Stop)).Items.Single().Id;
        await SayAsync("NoteSupportCase", $"support-cases/{support}/notes", """{"text":"they look","state":"with-support"}""");
        await SayAsync("NoteSupportCase", $"support-cases/{support}/notes", """{"text":"they look","state":"asleep"}""");
        await SayAsync("BookAppointment", $"support-cases/{support}/appointment", """{"from":"2090-02-08T09:00:00Z","minutes":60}""");
        await SayAsync("BookAppointment", $"support-cases/{support}/appointment", """{"from":"2090-02-08T09:00:00Z","minutes":0}""");
        await SayAsync("CancelAppointment", $"support-cases/{support}/appointment/cancel", """{"reason":"not needed"}""");
        await SayAsync("CancelAppointment", $"support-cases/{support}/appointment/cancel", """{"reason":"not needed"}""");
        await SayAsync("CloseSupportCase", $"support-cases/{support}/close", """{"result":"a setting"}""");
        await SayAsync("CloseSupportCase", $"support-cases/{support}/close", """{"result":"a setting"}""");
        await SayAsync(
            "AddAccount",
            "accounts",
            """{"name":"quay-hand","kind":"person","roles":["reader"],"sites":["*"],"reason":"new"}"""
        );
        await SayAsync("AddAccount", "accounts", """{"name":"quay-hand","kind":"person","roles":["pilot"],"sites":["*"],"reason":"new"}""");
        await SayAsync("ChangeAccount", "accounts/quay-hand", """{"roles":["auditor"],"sites":["Westhaven"],"reason":"moved"}""");
        await SayAsync("SetPassword", "accounts/quay-hand/password", """{"password":"short"}""");
        await SayAsync("CreateToken", "tokens", """{"label":"a dashboard","days":7,"account":"quay-hand"}""");
        await SayAsync("CreateToken", "tokens", """{"label":"a dashboard","days":7000}""");
        await SayAsync("EndAccount", "accounts/quay-hand/end", """{"reason":"left"}""");
        await SayAsync("PutSecret", "secrets/quay-key", """{"value":"a key"}""");
        await SayAsync("RotateSecrets", "secrets/rotate", "");
        await SayAsync("RemoveSecret", "secrets/quay-key/remove", """{"reason":"not used"}""");
        await SayAsync("ChangeSettings", "settings", """{"mediaHosts":["downloads.example"],"reason":"the vendor's"}""");
        await SayAsync("ChangeSettings", "settings", """{"mediaHosts":["https://x/y"],"reason":"the vendor's"}""");
        await SayAsync("DownloadMedia", "media-downloads", """{"url":"https://elsewhere.example/clock.img"}""");
        await SayAsync("SetRepository", "site-repositories/Eastness", """{"url":"http://media.eastness.example/","reason":"nearer"}""");
        await SayAsync("SetRepository", "site-repositories/Nowhere", """{"url":"http://media.eastness.example/","reason":"nearer"}""");
        await SayAsync("RemoveRepository", "site-repositories/Eastness/remove", """{"reason":"broken"}""");
        await SayAsync("RemoveRepository", "site-repositories/Eastness/remove", """{"reason":"broken"}""");
        await SayAsync("ReadSource", "sources/none/read", "{}");
        await SayAsync("RemoveMachines", "fleet/removals", """{"machines":["spare-3"],"reason":"sold"}""");
        await SayAsync("RemoveMachines", "fleet/removals", """{"machines":["nobody"],"reason":"sold"}""");
        await SayAsync("RestoreMachine", "machines/spare-3/restore", """{"reason":"not sold"}""");
        await SayAsync("RestoreMachine", "machines/spare-3/restore", """{"reason":"twice"}""");
        await SayAsync("UndoImport", "fleet/imports/99/undo", """{"reason":"wrong"}""");
        await CheckAsync(seen, "commands.jsonl");
        Assert.True(
            seen.Count(s => s.Status < 300) >= 18 && seen.Count(s => s.Status >= 400) >= 15,
            string.Join(", ", seen.Select(s => $"{s.Call} {s.Status}"))
        );

        Task SayAsync(string name, string path, string body, string type = "application/json") =>
            AskAsync(seen, calls[name], $"/api/v1/{path}", body, type);
    }

    /// <summary>Lets every answer be held against the published description.</summary>
    private async Task CheckAsync(List<(string Call, int Status, string? Type, string Body)> seen, string name)
    {
        var file = Path.Combine(Service.Data, name);
        await File.WriteAllLinesAsync(
            file,
            seen.Select(s =>
                JsonSerializer.Serialize(
                    new
                    {
                        call = s.Call,
                        status = s.Status,
                        type = s.Type,
                        body = s.Body,
                    }
                )
            ),
            Stop
        );
        var ran = await Shell.RunAsync(
            "node",
            [Path.Combine(Repository.Root, "console", "check-answers.mjs"), Path.Combine(Repository.Root, "schemas", "openapi.json"), file]
        );
        Assert.True(ran.Exit == 0, ran.Error + ran.Out);
    }

    private static string Query(string call) =>
        call switch
        {
            "GetReadiness" or "GetReadinessReport" => "?product=Brae%20Desktop",
            "ListReadinessMachines" => "?product=Brae%20Desktop&check=security-chip&checkState=unmet",
            "CompleteCondition" => "?text=site%20%3D%20",
            "ListSharedTimes" => "?machine=desk-4",
            _ => "",
        };

    private async Task AskAsync(
        List<(string, int, string?, string)> seen,
        Call call,
        string path,
        string? body = null,
        string type = "application/json"
    )
    {
        if (call.Name is "WatchChanges" or "DescribeInterface")
            return;
        using var response = await Calls.SendAsync(Service, call.Method, path, Service.Token, body, ("Content-Type", type));
        seen.Add(
            (
                call.Name,
                (int)response.StatusCode,
                response.Content.Headers.ContentType?.MediaType,
                await response.Content.ReadAsStringAsync(Stop)
            )
        );
    }
}
