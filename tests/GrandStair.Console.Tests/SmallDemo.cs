using GrandStair.Testing;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>A service with four simulated machines: one goes, one has its chip off, one cannot go, one hangs on battery.</summary>
internal sealed class SmallDemo : IAsyncDisposable
{
    private const string Truth = """
        name,os.product,os.edition,os.version,hardware.processor,hardware.memory,firmware.tpm.version,firmware.tpm.state,disk.system.free,patches.pending,licence.active,backup.last,network.rate,offer.release,driver.printer,power.mains,disk.encryption,services.failed,device.faults,truth.backup
        desk-1,Brae Desktop,Counter,6.4,Ness 5,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,-,4.2,yes,on,0,0,nightly
        desk-2,Brae Desktop,Counter,6.4,Ness 5,16 GiB,2.0,off,80 GiB,0,yes,-,200 Mbit/s,-,4.2,yes,on,0,0,nightly
        desk-3,Brae Desktop,Workplace,6.4,Ness 2,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,-,4.2,yes,on,0,0,nightly
        desk-4,Brae Desktop,Workplace,6.4,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,-,200 Mbit/s,-,4.2,no,on,0,0,nightly
        """;

    /// <summary>A plan of its machines.</summary>
    public const string Plan = """
        plan: small
        target: { product: Brae Desktop, release: "7" }
        scope: os.product = "Brae Desktop" and os.version < 7
        methods: [image-in-place]
        waves: [{ name: All }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        limits: { all: 4 }
        advance: { verified: 100 %, failures: 9, soak: 0 s }
        lead: 0 s
        """;

    private SmallDemo(ServiceProcess service) => Service = service;

    public ServiceProcess Service { get; }

    public static async Task<SmallDemo> StartAsync(bool started)
    {
        var truth = Path.Combine(Path.GetTempPath(), $"simulated-{Guid.NewGuid():N}.csv");
        await File.WriteAllTextAsync(truth, Truth);
        var service = await ServiceProcess.StartAsync("--pace", "2000", "--simulated", truth);
        var file = Path.Combine(service.Data, "fleet.csv");
        await File.WriteAllTextAsync(
            file,
            "name,site,connection\ndesk-1,Westhaven,simulated\ndesk-2,Westhaven,simulated\ndesk-3,Eastness,simulated\n"
                + "desk-4,Eastness,simulated\n"
        );
        await service.OkAsync("fleet", "import", file);
        for (var i = 1; i <= 4; i++)
            await service.OkAsync("machine", "read", $"desk-{i}");
        if (started)
        {
            var plan = Path.Combine(service.Data, "plan.yaml");
            await File.WriteAllTextAsync(plan, Plan);
            await service.OkAsync("plan", "create", plan);
            await service.OkAsync("plan", "acknowledge", "small", "--all", "--reason", "read");
            await service.OkAsync("plan", "start", "small");
            await Eventually.TrueAsync(
                async () => (await service.Client.RunsAsync("small", "parked", 1, default)).Total == 1,
                TimeSpan.FromMinutes(2),
                () => "a run is parked"
            );
        }

        return new(service);
    }

    public ValueTask DisposeAsync() => Service.DisposeAsync();
}

/// <summary>The small fleet with its plan running, and a browser.</summary>
public sealed class DecisionFixture : IAsyncLifetime
{
    private SmallDemo? _demo;
    private IPlaywright? _playwright;
    private IBrowser? _browser;
    private IPage? _open;

    /// <summary>The service.</summary>
    public ServiceProcess Service => _demo!.Service;

    /// <inheritdoc />
    public async ValueTask InitializeAsync()
    {
        _demo = await SmallDemo.StartAsync(started: true);
        (_playwright, _browser) = await ConsoleFixture.BrowserAsync();
    }

    /// <summary>Signs in by the token and opens a page; the one before it is closed.</summary>
    public async Task<IPage> OpenAsync(string path, ServiceProcess? service = null, string? zone = null)
    {
        var from = service ?? Service;
        if (_open is not null)
            await _open.CloseAsync();
        var page = _open = await _browser!.NewPageAsync(
            new()
            {
                ViewportSize = new() { Width = 1280, Height = 800 },
                TimezoneId = zone,
            }
        );
        page.SetDefaultTimeout(15_000);
        await page.GotoAsync(new Uri(from.Url, "/sign-in?by=token").ToString());
        await page.GetByLabel("Token", new() { Exact = true }).FillAsync(from.Token);
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator(".who")).ToContainTextAsync("admin");
        await page.GotoAsync(new Uri(from.Url, path).ToString());
        return page;
    }

    /// <inheritdoc />
    public async ValueTask DisposeAsync()
    {
        // Each of them is missing where the start before it failed.
        if (_browser is not null)
            await _browser.DisposeAsync();
        _playwright?.Dispose();
        if (_demo is not null)
            await _demo.DisposeAsync();
    }
}
