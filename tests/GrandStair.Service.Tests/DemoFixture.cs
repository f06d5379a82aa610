using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>A service with a small fleet of simulated machines, which all tests of a class share.</summary>
public sealed class SmallFleet : IAsyncLifetime
{
    /// <summary>A fleet file of six machines; one is at an odd site, one has its chip off, one has the wrong processor.</summary>
    public const string Csv = """
        name,serial,site,group,tags,connection,os.product,os.edition,os.version,hardware.processor,hardware.memory,firmware.tpm.version,firmware.tpm.state,disk.system.free,patches.pending,licence.active,backup.last,network.rate,offer.release,driver.printer
        desk-1,S1,Westhaven,ticket-desk,pilot,simulated,Brae Desktop,Counter,6.4,Ness 5,16 GiB,2.0,on,80 GiB,0,yes,NOW,100 Mbit/s,,4.2
        desk-2,S2,Westhaven,ticket-desk,,simulated,Brae Desktop,Counter,6.4,Ness 5,16 GiB,2.0,off,80 GiB,0,yes,NOW,100 Mbit/s,,4.2
        desk-3,S3,Eastness,ticket-desk,,simulated,Brae Desktop,Workplace,6.4,Ness 2,16 GiB,2.0,on,80 GiB,0,yes,NOW,100 Mbit/s,7,4.2
        desk-4,S4,Eastness,office,,simulated,Brae Desktop,Workplace,6.4,Ness 6,16 GiB,2.0,?,20 GiB,0,yes,NOW,100 Mbit/s,7,4.1
        desk-5,S5,"Quay, north",office,,simulated,Brae Desktop,Kiosk,6.4,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,NOW,100 Mbit/s,,4.2
        desk-6,S6,Eastness,office,,simulated,Brae Desktop,Workplace,7.1,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,NOW,100 Mbit/s,,4.2
        """;

    /// <summary>A plan for them.</summary>
    public const string Plan = """
        plan: small
        target: { product: Brae Desktop, release: "7" }
        scope: os.product = "Brae Desktop" and os.version < 7
        methods: [update-channel, image-in-place]
        waves: [{ name: Pilot, members: tag = "pilot" }, { name: Rest }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        limits: { all: 2, site: 1 }
        advance: { verified: 100 %, failures: 0, soak: 1 d }
        """;

    /// <summary>The service.</summary>
    public ServiceProcess Service { get; private set; } = null!;

    /// <inheritdoc />
    public async ValueTask InitializeAsync()
    {
        Service = await ServiceProcess.StartAsync();
        var imported = await Service.GstairAsync(
            "fleet",
            "import",
            Service.Write(Csv.Replace("NOW", $"{DateTimeOffset.UtcNow:yyyy-MM-ddTHH:mm:ssZ}", StringComparison.Ordinal), "fleet.csv"),
            "--seen",
            "now"
        );
        Assert.True(imported.Exit == 0, imported.Error);
    }

    /// <summary>
    /// Imports three machines of a plan's own, the last of them not ready: a machine is upgraded by one plan that has started at a time,
    /// and all tests of a class share the service.
    /// </summary>
    /// <param name="plan">The plan's name, with which the machines' names begin.</param>
    /// <returns>The change of a plan's text that makes these its scope.</returns>
    public async Task<(string From, string To)> OwnMachinesAsync(string plan)
    {
        var machines = Enumerable
            .Range(1, 3)
            .Select(i =>
                $"\n{plan}-{i},{plan}{i},{plan} quay,office,{(i == 1 ? "pilot" : "")},simulated,Brae Desktop,Workplace,6.4,Ness "
                + $"{(i == 3 ? 2 : 6)},16 GiB,2.0,on,80 GiB,0,yes,{DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ},100 Mbit/s,,4.2"
            );
        await Service.OkAsync(
            "fleet",
            "import",
            Service.Write(Csv.Split('\n')[0] + string.Concat(machines), $"{plan}.csv"),
            "--seen",
            "now"
        );
        return ("scope: os.product", $"scope: name like \"{plan}-*\" and os.product");
    }

    /// <inheritdoc />
    public ValueTask DisposeAsync() => Service.DisposeAsync();
}
