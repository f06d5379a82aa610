namespace GrandStair.Testing.Fuzzing;

/// <summary>A service with two sites, of which most callers may see one only, and an account for every role.</summary>
public static class FuzzFleet
{
    /// <summary>The site that callers of one site may not see.</summary>
    private const string HiddenSite = "Skaldmoor Quay";

    private static readonly string[] Roles = ["reader", "auditor", "planner", "approver", "operator", "admin"];

    /// <summary>Fills a service and prepares calls of it.</summary>
    public static async Task<ApiFuzz> PrepareAsync(ServiceProcess service, int seed, CancellationToken stop)
    {
        var seen = $"{DateTimeOffset.UtcNow:yyyy-MM-ddTHH:mm:ssZ}";
        var rows = Enumerable
            .Range(1, 12)
            .Select(i =>
                (
                    i % 2 == 0
                        ? $"skaldmoor-{i},{HiddenSite},skaldmoor-group,skaldmoor-owner,simulated,Brae Desktop,Workplace,6.4,Ness 6,16 "
                            + $"GiB,2.0,on,80 GiB,0,yes,SEEN"
                        : $"desk-{i},Westhaven,office,deck-it,simulated,Brae Desktop,Workplace,6.4,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,SEEN"
                ).Replace("SEEN", seen, StringComparison.Ordinal)
            );
        var file = service.Write(
            "name,site,group,owner,connection,os.product,os.edition,os.version,hardware.processor,hardware.memory,"
                + "firmware.tpm.version,firmware.tpm.state,disk.system.free,patches.pending,licence.active,seen\n"
                + string.Join('\n', rows),
            "fuzz.csv"
        );
        await service.OkAsync("fleet", "import", file);
        foreach (var (plan, scope) in new[] { ("both", "os.version < 7"), ("skaldmoor-plan", $"site = \"{HiddenSite}\"") })
        {
            var text =
                $"plan: {plan}\ntarget: {{ product: Brae Desktop, release: \"7\" }}\nscope: {scope}\nmethods: [image-in-place]\nwaves: "
                + $"[{{ name: Pilot, count: 2 }}, {{ name: {(plan == "both" ? "Rest" : "Skaldmoor-wave")} }}]\nwindows: [{{ zone: "
                + $"Europe/London, weekly: [\"Mon-Sun 00:00-00:00\"] }}]\ncrews: [{{ name: skaldmoor-crew, sites: [{HiddenSite}], "
                + $"hands: 1, zone: Europe/London, weekly: [\"Mon-Sun 00:00-00:00\"] }}]\nlimits: {{ all: 2 }}\nadvance: {{ verified: "
                + $"100 %, failures: 0, soak: 1 d }}\n";
            await service.OkAsync("plan", "load", service.Write(text, $"{plan}.yaml"), "--yes");
        }

        await service.Client.AcknowledgeAsync("both", new("read"), stop);
        await service.Client.StartAsync("both", stop);
        var callers = new List<FuzzCaller> { new("nobody", null, ["skaldmoor", "desk-1", "Westhaven"]), new("admin", service.Token, []) };
        foreach (var role in Roles)
        {
            callers.Add(new($"{role} of one site", await TokenAsync(service, $"{role}-west", role, ["Westhaven"], stop), ["skaldmoor"]));
            callers.Add(new(role, await TokenAsync(service, $"{role}-all", role, ["*"], stop), []));
        }

        using var http = new HttpClient();
        http.DefaultRequestHeaders.Authorization = new("Bearer", service.Token);
        var document = await http.GetStringAsync(new Uri(service.Url, "/api/v1/openapi.json"), stop);
        return new(
            service.Url,
            document,
            callers,
            [
                "desk-1",
                "desk-3",
                "both",
                "r1",
                "space",
                "patched",
                "Pilot",
                "Rest",
                "os.version",
                "Brae Desktop",
                "7",
                "Westhaven",
                "w1",
                "a1",
                "t9",
                "image-in-place",
                "office",
                "deck-it",
                "csv",
                "html",
                "json",
                "planner-west",
            ],
            seed
        );
    }

    private static async Task<string> TokenAsync(ServiceProcess service, string name, string role, string[] sites, CancellationToken stop)
    {
        await service.Client.AddAccountAsync(new(name, "person", [role], sites, "fuzzing"), stop);
        return (await service.Client.CreateTokenAsync(new("fuzzing", 30, name), stop)).Secret;
    }
}
