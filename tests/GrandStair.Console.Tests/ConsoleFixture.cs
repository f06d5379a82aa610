using System.Collections.Concurrent;
using GrandStair.Testing;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>The demo with its pilot done, and a browser that is signed in by the printed link.</summary>
public sealed class ConsoleFixture : IAsyncLifetime
{
    private readonly ConcurrentQueue<string> _complaints = new();
    private IBrowserContext? _open;
    private IPlaywright? _playwright;
    private IBrowser? _browser;
    private string _session = "";

    /// <summary>The service.</summary>
    public ServiceProcess Service { get; private set; } = null!;

    /// <summary>The link that logged the browser in.</summary>
    public string Link { get; private set; } = "";

    /// <summary>What browsers said was wrong on pages of signed-in people.</summary>
    public IReadOnlyCollection<string> Complaints => _complaints;

    /// <inheritdoc />
    public async ValueTask InitializeAsync()
    {
        Service = await ServiceProcess.StartAsync("--demo", Path.Combine(Repository.Root, "demo-data", "northmere"), "--pace", "60");
        Link = await Service.WaitForLineAsync("Console: ", TimeSpan.FromMinutes(8));
        (_playwright, _browser) = await BrowserAsync();
        var context = await NewContextAsync(ColorScheme.Light, null);
        var page = await context.NewPageAsync();
        await page.GotoAsync(Link);
        await Assertions.Expect(page.Locator(".who")).ToContainTextAsync("planner", new() { Timeout = 20_000 });
        _session = await context.StorageStateAsync();
    }

    /// <summary>Starts Debian's Chromium.</summary>
    internal static async Task<(IPlaywright Playwright, IBrowser Browser)> BrowserAsync()
    {
        Assertions.SetDefaultExpectTimeout(15_000);
        var playwright = await Playwright.CreateAsync();
        var browser = await playwright.Chromium.LaunchAsync(
            new()
            {
                ExecutablePath = "/usr/bin/chromium",
                Args =
                [
                    "--no-sandbox",
                    "--disable-gpu",
                    "--disable-quic",
                    "--no-first-run",
                    "--disable-background-networking",
                    "--disable-component-update",
                    "--disable-sync",
                ],
            }
        );
        return (playwright, browser);
    }

    /// <summary>
    /// Opens a page of the console in a browser of its own, and closes the one before it, which would otherwise go on asking the service.
    /// </summary>
    public async Task<IPage> OpenAsync(string path, bool signedIn = true, ColorScheme scheme = ColorScheme.Light)
    {
        if (_open is not null)
            await _open.DisposeAsync();
        var context = await NewContextAsync(scheme, signedIn ? _session : null);
        var page = await context.NewPageAsync();
        if (signedIn)
        {
            page.Console += (_, message) =>
            {
                // What is refused is an answer of 400, 409 or 422, which browsers log and the page tells.
                if (
                    message.Type is "error" or "warning"
                    && !new[] { "400", "409", "422" }.Any(status => message.Text.Contains(status, StringComparison.Ordinal))
                )
                    _complaints.Enqueue($"{path}: {message.Text}");
            };
            page.PageError += (_, error) => _complaints.Enqueue($"{path}: {error}");
        }

        await page.GotoAsync(new Uri(Service.Url, path).ToString());
        return page;
    }

    /// <inheritdoc />
    public async ValueTask DisposeAsync()
    {
        // Each of them is missing where the start before it failed.
        if (_browser is not null)
            await _browser.DisposeAsync();
        _playwright?.Dispose();
        if (Service is not null)
            await Service.DisposeAsync();
    }

    private async Task<IBrowserContext> NewContextAsync(ColorScheme scheme, string? session)
    {
        var context = await _browser!.NewContextAsync(
            new()
            {
                ViewportSize = new() { Width = 1280, Height = 800 },
                ColorScheme = scheme,
                StorageState = session,
            }
        );
        context.SetDefaultTimeout(15_000);
        _open = context;
        return context;
    }
}
