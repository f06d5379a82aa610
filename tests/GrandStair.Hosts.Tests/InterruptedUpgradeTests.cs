using System.Text.Json;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Hosts.Tests;

/// <summary>An upgrade of a real Debian 11 system to 12 in the middle of which something goes wrong.</summary>
public sealed class InterruptedUpgradeTests : HostTests
{
    [Fact]
    public async Task Power_cuts_early_midway_and_near_the_end_are_found_and_the_next_attempt_finishes_the_work()
    {
        await using var host = await TestHost.StartAsync("gs-power", "127.0.0.52", "bullseye");
        await using var service = await ServiceProcess.StartAsync(
            "--ssh-key",
            host.KeyFile,
            "--ssh-post-quantum",
            "no",
            "--catalogue",
            await OneAttemptAsync()
        );
        await BeginUpgradeAsync(service, host);
        await WaitUntilInstallingAsync(host);
        // Now and then a cut leaves a package partly unpacked, which dpkg refuses to configure; here it always does.
        await CutPowerAsync(host, partlyUnpacked: "hostname");
        Assert.NotEmpty(await host.DoAsync("dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package}\n' | grep -v '^ii' | head -3"));
        await ParkedAsync(service, "Upgrade all packages: it is gone without a result");
        await RetryAsync(service);
        await WaitForShareAsync(host, attempt: 2, share: 45);
        await CutPowerAsync(host);
        await ParkedAsync(service, "Upgrade all packages: it is gone without a result");
        await RetryAsync(service);
        await WaitForShareAsync(host, attempt: 3, share: 80);
        await CutPowerAsync(host);
        var bootAfterCut = await host.DoAsync("cat /proc/sys/kernel/random/boot_id");
        await ParkedAsync(service, "Upgrade all packages: it is gone without a result");
        await RetryAsync(service);

        var verified = await WaitAsync(service, r => r.Verified is not null, "the run is verified");
        await AssertNotParkedAsync(host, verified);
        Assert.Equal(4, verified.Steps.Single(s => s.Name == "full-upgrade").Attempts);
        await AssertUpgradedAsync(host, bootAfterCut);
        await AssertNoAttemptDoneTwiceAsync(host, expectedAttempts: 8);
    }

    [Fact]
    public async Task A_package_that_fails_and_a_full_disk_park_the_run_with_what_failed_and_a_retry_goes_on()
    {
        await using var host = await TestHost.StartAsync("gs-faults", "127.0.0.57", "bullseye");
        await using var service = await ServiceProcess.StartAsync(
            "--ssh-key",
            host.KeyFile,
            "--ssh-post-quantum",
            "no",
            "--catalogue",
            await OneAttemptAsync()
        );
        await BeginUpgradeAsync(
            service,
            host,
            "printf '#!/bin/sh\nexit 1\n' > /var/lib/dpkg/info/hostname.prerm; chmod 755 /var/lib/dpkg/info/*.prerm"
        );
        await ParkedAsync(service, "Upgrade all packages: exit status 1, failed: .*hostname");
        await host.DoAsync("rm /var/lib/dpkg/info/hostname.prerm && mount -t tmpfs -o size=64k tmpfs /usr/share/doc");
        await RetryAsync(service);
        await ParkedAsync(service, "Upgrade all packages: exit status 1, failed: .*No space left on device");
        var boot = await host.DoAsync("umount /usr/share/doc && cat /proc/sys/kernel/random/boot_id");
        await RetryAsync(service);
        var verified = await WaitAsync(service, r => r.Verified is not null, "the run is verified");
        await AssertNotParkedAsync(host, verified);
        await AssertUpgradedAsync(host, boot);
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

    /// <summary>A catalogue in which the upgrade is attempted once, and a person is asked then instead of five minutes later.</summary>
    private static async Task<string> OneAttemptAsync()
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-catalogue-").FullName;
        var product = Directory.CreateDirectory(Path.Combine(folder, "debian")).FullName;
        foreach (var file in Directory.GetFiles(Path.Combine(Repository.Root, "catalogue", "debian")))
        {
            var text = await File.ReadAllTextAsync(file, Stop);
            var once = text.Replace("limit: 4 h, attempts: 2", "limit: 4 h, attempts: 1", StringComparison.Ordinal);
            await File.WriteAllTextAsync(Path.Combine(product, Path.GetFileName(file)), once, Stop);
        }

        return folder;
    }

    private static async Task ParkedAsync(ServiceProcess service, string pattern)
    {
        var parked = await WaitAsync(service, r => r.Parked is not null, "the run is parked");
        Assert.Matches(pattern, parked.Run.Parked);
    }

    /// <summary>Cuts the power for a moment.</summary>
    private static async Task CutPowerAsync(TestHost host, string? partlyUnpacked = null)
    {
        await host.PowerAsync(on: false);
        if (partlyUnpacked is not null)
            await host.LeavePartlyUnpackedAsync(partlyUnpacked);
        await Task.Delay(TimeSpan.FromSeconds(3), Stop);
        await host.PowerAsync(on: true);
    }

    /// <summary>Waits until an attempt of the upgrade says that it has done a share, in per cent.</summary>
    private static Task WaitForShareAsync(TestHost host, int attempt, int share) =>
        Eventually.TrueAsync(
            async () =>
                int.TryParse(
                    await host.DoAsync(
                        $"tail -n 1 /var/lib/grandstair/*/orders/r1.1.full-upgrade.{attempt}/progress 2>/dev/null | cut -d ' ' -f 1"
                    ),
                    out var done
                )
                && done >= share,
            HopLimit,
            () => $"attempt {attempt} has done {share} %"
        );

    /// <summary>Begins an upgrade and waits until it is in the phase in which packages are installed.</summary>
    private static async Task BeginUpgradeAsync(ServiceProcess service, TestHost host, string before = "true")
    {
        await host.DoAsync(
            $"apt-get update -qq && echo precious > /etc/must-survive && echo precious > /home/carrier/must-survive && {before}"
        );
        await ImportAsync(service, host, "root");
        await service.OkAsync("machine", "read", host.Name);
        await PlanAsync(service, PlanTo(12));
        await WaitAsync(service, r => r.Phase == "apply", "the upgrade has begun");
    }
}
