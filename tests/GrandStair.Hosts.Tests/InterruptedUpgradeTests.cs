using System.Text.Json;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Hosts.Tests;

/// <summary>An upgrade of a real Debian 11 system to 12 in the middle of which something goes wrong.</summary>
public sealed class InterruptedUpgradeTests : HostTests
{
    [Fact]
    public async Task A_power_cut_in_the_middle_is_found_and_a_second_attempt_finishes_the_work()
    {
        await using var host = await TestHost.StartAsync("gs-power", "127.0.0.52", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile, "--ssh-post-quantum", "no");
        await BeginUpgradeAsync(service, host);
        await WaitUntilInstallingAsync(host);
        await host.PowerAsync(on: false);
        // Now and then a cut leaves a package partly unpacked, which dpkg refuses to configure; here it always does.
        await host.LeavePartlyUnpackedAsync("hostname");
        await Task.Delay(TimeSpan.FromSeconds(3), Stop);
        await host.PowerAsync(on: true);
        var bootAfterCut = await host.DoAsync("cat /proc/sys/kernel/random/boot_id");
        Assert.NotEmpty(await host.DoAsync("dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package}\\n' | grep -v '^ii' | head -3"));

        var verified = await WaitAsync(service, r => r.Verified is not null || r.Parked is not null, "the run is verified");
        await AssertNotParkedAsync(host, verified);
        Assert.Contains(verified.Log, l => l.Text == "Upgrade all packages: gone without a result");
        Assert.Equal(2, verified.Steps.Single(s => s.Name == "full-upgrade").Attempts);
        await AssertUpgradedAsync(host, bootAfterCut);
        await AssertNoAttemptDoneTwiceAsync(host, expectedAttempts: 6);
    }

    [Fact]
    public async Task A_package_held_during_the_run_keeps_it_from_being_verified_and_a_changed_host_key_asks_at_once()
    {
        await using var host = await TestHost.StartAsync("gs-held", "127.0.0.54", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile, "--ssh-post-quantum", "no");
        await BeginUpgradeAsync(service, host);
        await host.DoAsync("apt-mark hold procps");
        await WaitUntilInstallingAsync(host);

        // Another host answers at its address, as far as keys tell.
        var right = await host.HostKeyAsync();
        var other = await OtherKeyAsync(service);
        await service.OkAsync("machine", "pin", host.Name, "--key", other, "--reason", "as the label says");
        var asked = await WaitAsync(service, r => r.Parked is not null, "a person is asked");
        Assert.Contains("shows another host key than the one pinned", asked.Run.Parked, StringComparison.Ordinal);
        await service.OkAsync("machine", "pin", host.Name, "--key", right, "--reason", "compared at the console");
        await service.OkAsync("run", "decide", "r1", "wait", "--reason", "the key is right again");

        RunView? held = null;
        await Eventually.TrueAsync(
            async () => (held = await service.Client.RunAsync("r1", Stop)).Run.Parked is not null && held.Run.Phase is "verify" or "gate",
            HopLimit,
            () => $"it is parked at its verification; it stands at {JsonSerializer.Serialize(held?.Run)}"
        );
        Assert.Null(held!.Run.Verified);
        Assert.Contains(
            "Every package is of the new release (found: packages.outdated = procps)",
            held.Run.Parked,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "No package was put on hold during the upgrade (found: packages.held-since = procps)",
            held.Run.Parked,
            StringComparison.Ordinal
        );
        Assert.Contains("partly upgraded", await service.OkAsync("machine", "gate", host.Name), StringComparison.Ordinal);

        await host.DoAsync(
            "apt-mark unhold procps && DEBIAN_FRONTEND=noninteractive apt-get -y -qq full-upgrade && apt-get -y -qq autoremove --purge"
        );
        await service.OkAsync("run", "decide", "r1", "retry", "--reason", "unheld and upgraded");
        RunView? done = null;
        await Eventually.TrueAsync(
            async () => (done = await service.Client.RunAsync("r1", Stop)).Run.Verified is not null,
            HopLimit,
            () => $"it is verified; it stands at {JsonSerializer.Serialize(done?.Run)}"
        );
        Assert.Contains(
            "runs Debian 12 already",
            await service.OkAsync("machine", "gate", host.Name, "--release", "12"),
            StringComparison.Ordinal
        );
    }

    /// <summary>Begins an upgrade and waits until it is in the phase in which packages are installed.</summary>
    private static async Task BeginUpgradeAsync(ServiceProcess service, TestHost host)
    {
        await host.DoAsync("apt-get update -qq && echo precious > /etc/must-survive && echo precious > /home/carrier/must-survive");
        await ImportAsync(service, host, "root");
        await service.OkAsync("machine", "read", host.Name);
        await PlanAsync(service, PlanTo(12));
        await WaitAsync(service, r => r.Phase == "apply", "the upgrade has begun");
    }
}
