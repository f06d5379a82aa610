using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Hosts.Tests;

/// <summary>A real Debian 11 system is upgraded to 12 and on to 13 over SSH by the running service.</summary>
public sealed class UpgradeTests : HostTests
{
    [Fact]
    public async Task A_host_is_judged_fixed_planned_and_upgraded_over_two_hops_though_the_service_is_killed_and_the_connection_cut()
    {
        await using var host = await TestHost.StartAsync("gs-upgrade", "127.0.0.51", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile);
        await host.DoAsync(
            "apt-get update -qq && apt-mark hold procps && echo precious > /etc/must-survive && echo precious > /home/carrier/must-survive"
        );
        var bootBefore = await host.DoAsync("cat /proc/sys/kernel/random/boot_id");
        await ImportAsync(service, host, "carrier");

        await service.OkAsync("machine", "read", host.Name);
        var blocked = await service.OkAsync("machine", "gate", host.Name);
        Assert.Contains("the gate is blocked: No package on hold", blocked, StringComparison.Ordinal);
        Assert.Matches(@"found +packages\.held = procps, \d+ s ago, by ssh", blocked);
        Assert.Contains("required  not packages.held like \"*\"", blocked, StringComparison.Ordinal);
        Assert.Contains("fix       Find out why it is on hold, then run 'apt-mark unhold PACKAGE'", blocked, StringComparison.Ordinal);

        await host.DoAsync("apt-mark unhold procps");
        await service.OkAsync("machine", "read", host.Name);
        Assert.Contains("the gate is open", await service.OkAsync("machine", "gate", host.Name), StringComparison.Ordinal);

        await PlanAsync(service, PlanTo(13));
        await WaitAsync(service, r => r.Phase == "apply", "the upgrade is running");
        await WaitUntilInstallingAsync(host);
        await service.KillAsync();
        await host.DoAsync("pkill -KILL -f '[s]shd: carrier' || true");
        // Nobody watches, and the work goes on.
        await Task.Delay(TimeSpan.FromSeconds(4), Stop);
        Assert.NotEqual("0", await host.DoAsync("pgrep -fc '[/]bin/sh ./script'"));
        await service.StartAgainAsync();

        var verified = await WaitAsync(service, r => r.Verified is not null || r.Parked is not null, "the run is verified");
        await AssertNotParkedAsync(host, verified);
        await AssertUpgradedAsync(host, bootBefore, release: 13);
        await AssertNoAttemptDoneTwiceAsync(host, expectedAttempts: 10);

        // Every package has changed with each hop, and that was to be expected.
        Assert.Equal(2, verified.Comparisons.Count);
        Assert.All(verified.Comparisons, c => Assert.Equal((0, true), (c.Failing, c.Ignored > 10)));

        // What a person has to look at is a follow-up; with the last one closed the run is done.
        var end = Assert.Single(verified.FollowUps, l => l.Name == "leftovers");
        Assert.Contains("/etc/ssh/sshd_config.ucf-dist", end.Seen, StringComparison.Ordinal);
        await host.DoAsync("rm /etc/ssh/sshd_config.ucf-dist");
        foreach (var open in verified.FollowUps)
            await service.OkAsync("follow-up", "close", $"r1/{open.Name}", "--reason", "compared and deleted");
        await WaitAsync(service, r => r.Outcome == "done", "the run is done");
        await AssertEvidenceAsync(service, "r1");
        await Eventually.TrueAsync(
            async () => (await service.Client.PlanAsync("old-to-new", Stop)).Plan.State == "ended",
            TimeSpan.FromSeconds(30),
            () => "the plan ends"
        );
        Assert.Contains(
            "1 of 1 have an outcome or an exemption",
            await service.OkAsync("outcome", "show", "old-to-new"),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_changed_host_key_a_missing_one_and_an_account_without_rights_are_told_and_nothing_is_sent()
    {
        await using var host = await TestHost.StartAsync("gs-keys", "127.0.0.53", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile);
        var right = await host.HostKeyAsync();
        var other = await OtherKeyAsync(service);
        await host.DoAsync("rm /etc/sudoers.d/carrier");

        await ImportAsync(service, host, "carrier", hostKey: "");
        Assert.Contains("No host key is pinned", await RefusedAsync(service, host), StringComparison.Ordinal);
        await service.OkAsync("machine", "pin", host.Name, "--key", other, "--reason", "as the label says");
        var changed = await RefusedAsync(service, host);
        Assert.Contains("shows another host key than the one pinned", changed, StringComparison.Ordinal);
        Assert.Contains("Nothing was sent", changed, StringComparison.Ordinal);
        Assert.Equal("", await host.DoAsync("ls /var/lib/grandstair 2>/dev/null || true"));

        await service.OkAsync("machine", "pin", host.Name, "--key", right, "--reason", "compared at the console");
        Assert.Contains(
            "cannot write /var/lib/grandstair as root",
            (await RefusedAsync(service, host)).Replace(
                "the launcher ended with status 1: sudo",
                "cannot write /var/lib/grandstair as root",
                StringComparison.Ordinal
            ),
            StringComparison.Ordinal
        );
        await host.DoAsync("echo 'carrier ALL=(root) NOPASSWD: /bin/sh' > /etc/sudoers.d/carrier");
        Assert.Contains("Debian 11", await service.OkAsync("machine", "read", host.Name), StringComparison.Ordinal);

        // Whoever tampers with the launcher finds it put right with the next connection.
        await host.DoAsync(
            "for f in /var/lib/grandstair/launcher-*; do echo 'echo os.product = Tampered' > $f; done; pkill -KILL -f '[s]shd: "
                + "carrier' || true"
        );
        Assert.Contains("Debian 11", await service.OkAsync("machine", "read", host.Name), StringComparison.Ordinal);

        // A fix script of the catalogue runs over the connection, and its check is asked again.
        await host.DoAsync("find /var/lib/apt /var/cache/apt -exec touch -d '10 days ago' {} +");
        Assert.Contains(
            "Package lists younger than 2 days",
            await service.OkAsync("check", "recheck", host.Name, "lists-fresh"),
            StringComparison.Ordinal
        );
        await service.OkAsync("check", "fix", host.Name, "lists-fresh", "--reason", "they are old");
        FixRunView? fix = null;
        await Eventually.TrueAsync(
            async () => (fix = (await service.Client.FixesAsync(host.Name, Stop))[0]).Ended is not null,
            TimeSpan.FromMinutes(2),
            () => $"the fix ends: {fix?.Note}"
        );
        Assert.Equal(("done", 0, "met", "update-lists.sh"), (fix!.State, fix.Exit, fix.CheckState, fix.Script));

        // A reader that hangs is ended with all that it began. What it had not reported by then is unreadable, not absent.
        await host.DoAsync(
            "mv /usr/bin/apt-mark /usr/bin/apt-mark.real && printf '#!/bin/sh\\nexec sleep 5555\\n' > /usr/bin/apt-mark && chmod 755 "
                + "/usr/bin/apt-mark"
        );
        await service.OkAsync("machine", "read", host.Name);
        var held = (await service.Client.MachineAsync(host.Name, Stop)).Readings.Single(r => r.Key == "packages.held");
        Assert.Equal("unreadable", held.State);
        Assert.Contains("the script did not end within 120 s", held.Shown, StringComparison.Ordinal);
        Assert.Equal("", await host.DoAsync("pgrep -x sleep || true"));

        await host.DoAsync("rm /home/carrier/.ssh/authorized_keys && pkill -KILL -f '[s]shd: carrier' || true");
        Assert.Contains("refused the login of 'carrier'", await RefusedAsync(service, host), StringComparison.Ordinal);
    }
}
