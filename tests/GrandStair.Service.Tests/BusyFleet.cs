using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>A service with simulated machines that answer and a running plan, of which there is something of everything to tell.</summary>
public sealed class BusyFleet : IAsyncLifetime
{
    /// <summary>A calendar with one event a day.</summary>
    public const string Berths =
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//test//EN\r\nBEGIN:VEVENT\r\nUID:one\r\nDTSTAMP:20260101T000000Z\r\n"
        + "DTSTART;TZID=Europe/London:20260105T190000\r\nDURATION:PT8H\r\nRRULE:FREQ=DAILY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    /// <summary>The service.</summary>
    public ServiceProcess Service { get; private set; } = null!;

    /// <inheritdoc />
    public async ValueTask InitializeAsync()
    {
        var truth = Path.GetTempFileName();
        await File.WriteAllTextAsync(truth, LifecycleTests.Truth.Replace("off,80 GiB", "off,20 GiB", StringComparison.Ordinal), Stop);
        Service = await ServiceProcess.StartAsync("--pace", "20", "--simulated", truth);
        var machines = Enumerable
            .Range(1, 6)
            .Select(i =>
                $"desk-{i},{(i < 4 ? "Westhaven" : "Eastness")},{(i % 2 == 0 ? "office" : "ticket-desk")},owner-{i % 3},simulated\n"
            );
        await Service.OkAsync(
            "fleet",
            "import",
            Service.Write("name,site,group,owner,connection\n" + string.Concat(machines), "fleet.csv"),
            "--seen",
            "now"
        );
        for (var i = 1; i <= 6; i++)
            await Service.OkAsync("machine", "read", $"desk-{i}");
        // Another source says something else of one of them.
        await Service.OkAsync(
            "fleet",
            "import",
            Service.Write("name,connection,hardware.memory\ndesk-1,simulated,8 GiB\n", "stock.csv"),
            "--source",
            "stock",
            "--seen",
            "2026-01-01T00:00:00Z"
        );
        await Service.OkAsync("calendar", "load", "berths", Service.Write(Berths, "berths.ics"));
        await Service.OkAsync(
            "plan",
            "create",
            Service.Write(
                SmallFleet.Plan.Replace("tag = \"pilot\"", "name = \"desk-1\"", StringComparison.Ordinal)
                    + "\ndeadline: 2031-01-31\nowners: { within: 10 d, notice: 1 h }\n",
                "plan.yaml"
            )
        );
        await Service.OkAsync("plan", "acknowledge", "small", "--all", "--reason", "read");
        await Service.OkAsync("plan", "start", "small");
        await Eventually.TrueAsync(
            async () => (await Service.Client.RunsAsync("small", null, 10, Stop)).Total > 0,
            TimeSpan.FromSeconds(60),
            () => "a run opens"
        );
        await Eventually.TrueAsync(
            async () => (await Calls.OutcomeAsync(Service, "GET", "/api/v1/plans/small/forecast", Service.Token)).Status == 200,
            TimeSpan.FromSeconds(90),
            () => "a forecast is made"
        );
    }

    /// <inheritdoc />
    public ValueTask DisposeAsync() => Service.DisposeAsync();
}
