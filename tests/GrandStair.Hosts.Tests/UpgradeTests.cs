using System.Text.Json;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Hosts.Tests;

/// <summary>A real Debian 11 system is carried to 12 over SSH by the running service.</summary>
public sealed class UpgradeTests
{
    private const string Plan = """
        plan: old-to-new
        target: { product: Debian, release: "12" }
        scope: os.product = "Debian" and os.version < 12
        methods: [in-place]
        waves: [{ name: Pilot }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        limits: { all: 1 }
        advance: { proved: 100 %, failures: 0, soak: 0 s }
        lead: 0 s
        """;

    private static readonly TimeSpan HopLimit = TimeSpan.FromMinutes(12);

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_host_is_judged_mended_planned_and_upgraded_though_the_service_is_killed_and_the_connection_cut()
    {
        await using var host = await TestHost.StartAsync("gs-upgrade", "127.0.0.51", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile);
        await host.DoAsync("apt-get update -qq && apt-mark hold procps && echo precious > /etc/must-survive && echo precious > /home/carrier/must-survive");
        var bootBefore = await host.DoAsync("cat /proc/sys/kernel/random/boot_id");
        await ImportAsync(service, host, "carrier");

        await service.OkAsync("machine", "read", host.Name);
        var shut = await service.OkAsync("machine", "gate", host.Name);
        Assert.Contains("the gate is shut: No package on hold", shut, StringComparison.Ordinal);
        Assert.Matches(@"seen +packages\.held = procps, \d+ s ago, by ssh", shut);
        Assert.Contains("wanted  not packages.held like \"*\"", shut, StringComparison.Ordinal);
        Assert.Contains("fix     Find out why it is on hold, then run 'apt-mark unhold PACKAGE'", shut, StringComparison.Ordinal);

        await host.DoAsync("apt-mark unhold procps");
        await service.OkAsync("machine", "read", host.Name);
        Assert.Contains("the gate is open", await service.OkAsync("machine", "gate", host.Name), StringComparison.Ordinal);

        await PlanAsync(service);
        await WaitAsync(service, r => r.Phase == "apply", "the upgrade is under way");
        await WaitUntilInstallingAsync(host);
        await service.KillAsync();
        await host.DoAsync("pkill -KILL -f '[s]shd: carrier' || true");
        // Nobody watches, and the work goes on.
        await Task.Delay(TimeSpan.FromSeconds(4), Stop);
        Assert.NotEqual("0", await host.DoAsync("pgrep -fc '[/]bin/sh ./script'"));
        await service.StartAgainAsync();

        var proved = await WaitAsync(service, r => r.Proved is not null || r.Parked is not null, "the run is proved");
        Assert.True(proved.Run.Parked is null, $"{proved.Run.Parked}: {string.Join('\n', proved.Log.Select(l => l.Text))}");
        await AssertUpgradedAsync(host, bootBefore);
        await AssertNoAttemptDoneTwiceAsync(host, expectedAttempts: 5);

        // What a person has to look at is a loose end; with the last one closed the run is done.
        var end = Assert.Single(proved.LooseEnds, l => l.Name == "leftovers");
        Assert.Contains("/etc/ssh/sshd_config.ucf-dist", end.Seen, StringComparison.Ordinal);
        await host.DoAsync("rm /etc/ssh/sshd_config.ucf-dist");
        foreach (var open in proved.LooseEnds) await service.OkAsync("run", "close-loose-end", "r1", open.Name, "--reason", "compared and deleted");
        await WaitAsync(service, r => r.Outcome == "done", "the run is done");
        await Eventually.TrueAsync(async () => (await service.Client.PlanAsync("old-to-new", Stop)).Plan.State == "ended", TimeSpan.FromSeconds(30), () => "the plan ends");
        Assert.Contains("1 of 1 have an outcome or an excuse", await service.OkAsync("outcome", "show", "old-to-new"), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_power_cut_in_the_middle_is_found_and_a_second_attempt_finishes_the_work()
    {
        await using var host = await TestHost.StartAsync("gs-power", "127.0.0.52", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile, "--ssh-post-quantum", "no");
        await host.DoAsync("apt-get update -qq && echo precious > /etc/must-survive && echo precious > /home/carrier/must-survive");
        await ImportAsync(service, host, "root");
        await service.OkAsync("machine", "read", host.Name);
        await PlanAsync(service);
        await WaitAsync(service, r => r.Phase == "apply", "the upgrade is under way");
        await WaitUntilInstallingAsync(host);
        await host.PowerAsync(on: false);
        await Task.Delay(TimeSpan.FromSeconds(3), Stop);
        await host.PowerAsync(on: true);
        var bootAfterCut = await host.DoAsync("cat /proc/sys/kernel/random/boot_id");
        Assert.NotEmpty(await host.DoAsync("dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package}\\n' | grep -v '^ii' | head -3"));

        var proved = await WaitAsync(service, r => r.Proved is not null || r.Parked is not null, "the run is proved");
        Assert.True(proved.Run.Parked is null, $"{proved.Run.Parked}: {string.Join('\n', proved.Log.Select(l => l.Text))}");
        Assert.Contains(proved.Log, l => l.Text == "Upgrade all packages: gone without a result");
        Assert.Equal(2, proved.Steps.Single(s => s.Name == "full-upgrade").Attempts);
        await AssertUpgradedAsync(host, bootAfterCut);
        await AssertNoAttemptDoneTwiceAsync(host, expectedAttempts: 6);
    }

    [Fact]
    public async Task A_package_held_during_the_run_keeps_it_from_being_verified_and_a_changed_host_key_asks_at_once()
    {
        await using var host = await TestHost.StartAsync("gs-held", "127.0.0.54", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile, "--ssh-post-quantum", "no");
        await host.DoAsync("apt-get update -qq && echo precious > /etc/must-survive && echo precious > /home/carrier/must-survive");
        await ImportAsync(service, host, "root");
        await service.OkAsync("machine", "read", host.Name);
        await PlanAsync(service);
        await WaitAsync(service, r => r.Phase == "apply", "the upgrade has begun");
        await host.DoAsync("apt-mark hold procps");
        await WaitUntilInstallingAsync(host);

        // Another host answers at its address, as far as keys tell.
        var right = await host.HostKeyAsync();
        await Shell.RunAsync("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", Path.Combine(service.Data, "other")]);
        var other = string.Join(' ', (await File.ReadAllTextAsync(Path.Combine(service.Data, "other.pub"), Stop)).Split(' ')[..2]);
        await service.OkAsync("machine", "pin", host.Name, "--key", other, "--reason", "as the label says");
        var asked = await WaitAsync(service, r => r.Parked is not null, "a person is asked");
        Assert.Contains("shows another host key than the one pinned", asked.Run.Parked, StringComparison.Ordinal);
        await service.OkAsync("machine", "pin", host.Name, "--key", right, "--reason", "compared at the console");
        await service.OkAsync("run", "decide", "r1", "wait-on", "--reason", "the key is right again");

        RunView? held = null;
        await Eventually.TrueAsync(async () => (held = await service.Client.RunAsync("r1", Stop)).Run.Parked is not null && held.Run.Phase is "prove" or "gate", HopLimit, () => $"it is parked at its verification; it stands at {JsonSerializer.Serialize(held?.Run)}");
        Assert.Null(held!.Run.Proved);
        Assert.Contains("Every package is of the new release (seen: packages.outdated = procps)", held.Run.Parked, StringComparison.Ordinal);
        Assert.Contains("No package was put on hold during the upgrade (seen: packages.held-since = procps)", held.Run.Parked, StringComparison.Ordinal);
        Assert.Contains("partly upgraded", await service.OkAsync("machine", "gate", host.Name), StringComparison.Ordinal);

        await host.DoAsync("apt-mark unhold procps && DEBIAN_FRONTEND=noninteractive apt-get -y -qq full-upgrade && apt-get -y -qq autoremove --purge");
        await service.OkAsync("run", "decide", "r1", "try-again", "--reason", "unheld and upgraded");
        RunView? done = null;
        await Eventually.TrueAsync(async () => (done = await service.Client.RunAsync("r1", Stop)).Run.Proved is not null, HopLimit, () => $"it is verified; it stands at {JsonSerializer.Serialize(done?.Run)}");
        Assert.Contains("runs Debian 12 already", await service.OkAsync("machine", "gate", host.Name), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_changed_host_key_a_missing_one_and_an_account_without_rights_are_told_and_nothing_is_sent()
    {
        await using var host = await TestHost.StartAsync("gs-keys", "127.0.0.53", "bullseye");
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile);
        var right = await host.HostKeyAsync();
        await Shell.RunAsync("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", Path.Combine(service.Data, "other")]);
        var other = string.Join(' ', (await File.ReadAllTextAsync(Path.Combine(service.Data, "other.pub"), Stop)).Split(' ')[..2]);
        await host.DoAsync("rm /etc/sudoers.d/carrier");

        await ImportAsync(service, host, "carrier", hostKey: "");
        Assert.Contains("No host key is pinned", await RefusedAsync(service, host), StringComparison.Ordinal);
        await service.OkAsync("machine", "pin", host.Name, "--key", other, "--reason", "as the label says");
        var changed = await RefusedAsync(service, host);
        Assert.Contains("shows another host key than the one pinned", changed, StringComparison.Ordinal);
        Assert.Contains("Nothing was sent", changed, StringComparison.Ordinal);
        Assert.Equal("", await host.DoAsync("ls /var/lib/grandstair 2>/dev/null || true"));

        await service.OkAsync("machine", "pin", host.Name, "--key", right, "--reason", "compared at the console");
        Assert.Contains("cannot write /var/lib/grandstair as root", (await RefusedAsync(service, host)).Replace("the launcher ended with status 1: sudo", "cannot write /var/lib/grandstair as root", StringComparison.Ordinal), StringComparison.Ordinal);
        await host.DoAsync("echo 'carrier ALL=(root) NOPASSWD: /bin/sh' > /etc/sudoers.d/carrier");
        Assert.Contains("Debian 11", await service.OkAsync("machine", "read", host.Name), StringComparison.Ordinal);

        // Whoever tampers with the launcher finds it put right with the next connection.
        await host.DoAsync("for f in /var/lib/grandstair/launcher-*; do echo 'echo os.product = Tampered' > $f; done; pkill -KILL -f '[s]shd: carrier' || true");
        Assert.Contains("Debian 11", await service.OkAsync("machine", "read", host.Name), StringComparison.Ordinal);

        // A fix script of the catalogue runs over the link, and its check is asked again.
        await host.DoAsync("find /var/lib/apt /var/cache/apt -exec touch -d '10 days ago' {} +");
        Assert.Contains("Package lists younger than 2 days", await service.OkAsync("check", "ask-again", host.Name, "lists-fresh"), StringComparison.Ordinal);
        await service.OkAsync("check", "mend", host.Name, "lists-fresh");
        FixRunView? fix = null;
        await Eventually.TrueAsync(async () => (fix = (await service.Client.FixesAsync(host.Name, Stop))[0]).Ended is not null, TimeSpan.FromMinutes(2), () => $"the fix ends: {fix?.Note}");
        Assert.Equal(("done", 0, "met", "update-lists.sh"), (fix!.State, fix.Exit, fix.CheckState, fix.Script));

        // A reader that hangs is ended with all that it began. What it had not reported by then is unreadable, not absent.
        await host.DoAsync("mv /usr/bin/apt-mark /usr/bin/apt-mark.real && printf '#!/bin/sh\\nexec sleep 5555\\n' > /usr/bin/apt-mark && chmod 755 /usr/bin/apt-mark");
        await service.OkAsync("machine", "read", host.Name);
        var held = (await service.Client.MachineAsync(host.Name, Stop)).Readings.Single(r => r.Key == "packages.held");
        Assert.Equal("unreadable", held.State);
        Assert.Contains("the script did not end within 120 s", held.Shown, StringComparison.Ordinal);
        Assert.Equal("", await host.DoAsync("pgrep -x sleep || true"));

        await host.DoAsync("rm /home/carrier/.ssh/authorized_keys && pkill -KILL -f '[s]shd: carrier' || true");
        Assert.Contains("refused the login of 'carrier'", await RefusedAsync(service, host), StringComparison.Ordinal);
    }

    private static async Task ImportAsync(ServiceProcess service, TestHost host, string user, string? hostKey = null)
    {
        var file = Path.Combine(service.Data, "hosts.csv");
        await File.WriteAllTextAsync(file, $"name,site,link,address,user,host key\n{host.Name},Westhaven,ssh,{host.Address},{user},{hostKey ?? await host.HostKeyAsync()}\n", Stop);
        Assert.Contains("1 added", await service.OkAsync("fleet", "import", file), StringComparison.Ordinal);
    }

    private static async Task PlanAsync(ServiceProcess service)
    {
        var file = Path.Combine(service.Data, "plan.yaml");
        await File.WriteAllTextAsync(file, Plan, Stop);
        await service.OkAsync("plan", "create", file);
        await service.OkAsync("plan", "acknowledge", "old-to-new", "--all", "--reason", "looked through");
        await service.OkAsync("plan", "start", "old-to-new");
        await Eventually.TrueAsync(async () => (await service.Client.RunsAsync(null, null, 10, Stop)).Total == 1, TimeSpan.FromMinutes(1), () => "a run is opened");
    }

    /// <summary>Waits until some packages are unpacked and not configured yet. The host knows; the service looks more seldom.</summary>
    private static Task WaitUntilInstallingAsync(TestHost host) => Eventually.TrueAsync(
        async () => await host.DoAsync("dpkg-query -W -f '${db:Status-Abbrev}\\n' | grep -vc '^ii' || true") != "0", HopLimit, () => "packages are being installed");

    private static async Task<string> RefusedAsync(ServiceProcess service, TestHost host)
    {
        var ran = await service.GstairAsync("machine", "read", host.Name);
        Assert.Equal(7, ran.Exit);
        return ran.Error;
    }

    private static async Task<RunView> WaitAsync(ServiceProcess service, Func<RunRow, bool> holds, string what)
    {
        RunView? view = null;
        await Eventually.TrueAsync(
            async () =>
            {
                view = await service.Client.RunAsync("r1", Stop);
                return holds(view.Run) || (view.Run.Parked is not null && what != "the run is done");
            },
            HopLimit,
            () => $"{what}; it stands at {JsonSerializer.Serialize(view!.Run)}; the service wrote\n{service.Output}");
        return view!;
    }

    /// <summary>Asks the host itself whether it is well: os-release alone would prove nothing.</summary>
    private static async Task AssertUpgradedAsync(TestHost host, string bootBefore)
    {
        Assert.StartsWith("12.", await host.DoAsync("cat /etc/debian_version"), StringComparison.Ordinal);
        Assert.Equal("", await host.DoAsync("dpkg --audit"));
        await host.DoAsync("apt-get check");
        Assert.Equal("", await host.DoAsync("dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package}\\n' | grep -v '^ii' || true"));
        Assert.NotEqual(bootBefore, await host.DoAsync("cat /proc/sys/kernel/random/boot_id"));
        Assert.Equal("precious", await host.DoAsync("cat /etc/must-survive"));
        Assert.Equal("precious", await host.DoAsync("cat /home/carrier/must-survive"));
        await host.DoAsync("gzip -t /var/backups/grandstair/etc.tar.gz");
    }

    /// <summary>By the launcher's own records: every attempt was taken in once, run once, and the last of each step ended well.</summary>
    private static async Task AssertNoAttemptDoneTwiceAsync(TestHost host, int expectedAttempts)
    {
        var orders = (await host.DoAsync("cd /var/lib/grandstair/*/orders && for o in *; do echo \"$o $(grep -c first $o/posts) $(wc -l < $o/process) $(cat $o/exit 2>/dev/null || echo none) $(cat $o/kind)\"; done")).Split('\n').Select(l => l.Split(' ')).ToArray();
        Assert.Equal(expectedAttempts, orders.Length);
        Assert.All(orders, o => Assert.Equal(("1", "1"), (o[1], o[2])));
        foreach (var step in orders.Where(o => o[4] == "script").GroupBy(o => o[0].Split('.')[2]))
            Assert.Equal("0", step.OrderBy(o => int.Parse(o[0].Split('.')[3], null)).Last()[3]);
    }
}
