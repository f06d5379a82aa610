using System.Text.Json;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Hosts.Tests;

/// <summary>What tests of upgrades have in common. Each class upgrades one host after the other, beside those of the other class.</summary>
public abstract class HostTests
{
    /// <summary>A plan that upgrades one Debian system after the other to a release.</summary>
    protected static string PlanTo(int release) =>
        $$"""
            plan: old-to-new
            target: { product: Debian, release: "{{release}}" }
            scope: os.product = "Debian" and os.version < {{release}}
            methods: [in-place]
            waves: [{ name: Pilot }]
            windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
            limits: { all: 1 }
            advance: { verified: 100 %, failures: 0, soak: 0 s }
            lead: 0 s
            """;

    protected static readonly TimeSpan HopLimit = TimeSpan.FromMinutes(12);

    protected static CancellationToken Stop => TestContext.Current.CancellationToken;

    protected static async Task ImportAsync(ServiceProcess service, TestHost host, string user, string? hostKey = null)
    {
        var file = Path.Combine(service.Data, "hosts.csv");
        await File.WriteAllTextAsync(
            file,
            $"name,site,connection,address,user,host key\n"
                + $"{host.Name},Westhaven,ssh,{host.Address},{user},{hostKey ?? await host.HostKeyAsync()}\n",
            Stop
        );
        Assert.Contains("1 added", await service.OkAsync("fleet", "import", file), StringComparison.Ordinal);
    }

    protected static async Task PlanAsync(ServiceProcess service, string plan)
    {
        var file = Path.Combine(service.Data, "plan.yaml");
        await File.WriteAllTextAsync(file, plan, Stop);
        await service.OkAsync("plan", "create", file);
        await service.OkAsync("plan", "acknowledge", "old-to-new", "--all", "--reason", "looked through");
        await service.OkAsync("plan", "start", "old-to-new");
        await Eventually.TrueAsync(
            async () => (await service.Client.RunsAsync(null, null, 10, Stop)).Total == 1,
            TimeSpan.FromMinutes(1),
            () => "a run is opened"
        );
    }

    /// <summary>A public key that is no host's.</summary>
    protected static async Task<string> OtherKeyAsync(ServiceProcess service)
    {
        await Shell.RunAsync("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", Path.Combine(service.Data, "other")]);
        return string.Join(' ', (await File.ReadAllTextAsync(Path.Combine(service.Data, "other.pub"), Stop)).Split(' ')[..2]);
    }

    /// <summary>Waits until some packages are unpacked and not configured yet. The host knows; the service looks more seldom.</summary>
    protected static Task WaitUntilInstallingAsync(TestHost host) =>
        Eventually.TrueAsync(
            async () => await host.DoAsync("dpkg-query -W -f '${db:Status-Abbrev}\\n' | grep -vc '^ii' || true") != "0",
            HopLimit,
            () => "packages are being installed"
        );

    protected static async Task<string> RefusedAsync(ServiceProcess service, TestHost host)
    {
        var ran = await service.GstairAsync("machine", "read", host.Name);
        Assert.Equal(7, ran.Exit);
        return ran.Error;
    }

    protected static async Task<RunView> WaitAsync(ServiceProcess service, Func<RunRow, bool> holds, string what, string run = "r1")
    {
        RunView? view = null;
        await Eventually.TrueAsync(
            async () =>
            {
                view = await service.Client.RunAsync(run, Stop);
                return holds(view.Run) || (view.Run.Parked is not null && what != "the run is done");
            },
            HopLimit,
            () => $"{what}; it stands at {JsonSerializer.Serialize(view!.Run)}; the service wrote\n{service.Output}"
        );
        return view!;
    }

    /// <summary>A person has set right what was wrong.</summary>
    protected static Task RetryAsync(ServiceProcess service) =>
        service.OkAsync("run", "decide", "r1", "retry", "--reason", "it is set right");

    /// <summary>That no person was asked; where one was, what the scripts on the host wrote says why.</summary>
    protected static async Task AssertNotParkedAsync(TestHost host, RunView view)
    {
        if (view.Run.Parked is not null)
            Assert.Fail(
                $"{view.Run.Parked}: {string.Join('\n', view.Log.Select(l => l.Text))}\n"
                    + $"{await host.DoAsync("tail -n 40 /var/lib/grandstair/*/orders/*/output")}"
            );
    }

    /// <summary>The evidence of a run is verified without the service, and a changed byte of it is found.</summary>
    protected static async Task AssertEvidenceAsync(ServiceProcess service, string run)
    {
        var file = Path.Combine(service.Data, $"{run}-evidence.zip");
        await service.OkAsync("run", "evidence", run, "--out", file);
        Assert.Contains("every byte as it was signed", await service.OkAsync("evidence", "verify", file), StringComparison.Ordinal);
        var bytes = await File.ReadAllBytesAsync(file, Stop);
        bytes[bytes.Length / 2] ^= 1;
        await File.WriteAllBytesAsync(file, bytes, Stop);
        Assert.Equal(3, (await service.GstairAsync("evidence", "verify", file)).Exit);
    }

    /// <summary>Asks the host itself whether it is well: os-release alone would show nothing.</summary>
    protected static async Task AssertUpgradedAsync(TestHost host, string bootBefore, int release = 12)
    {
        Assert.StartsWith($"{release}.", await host.DoAsync("cat /etc/debian_version"), StringComparison.Ordinal);
        Assert.Equal("", await host.DoAsync("dpkg --audit"));
        await host.DoAsync("apt-get check");
        Assert.Equal("", await host.DoAsync("dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package}\\n' | grep -v '^ii' || true"));
        Assert.NotEqual(bootBefore, await host.DoAsync("cat /proc/sys/kernel/random/boot_id"));
        Assert.Equal("precious", await host.DoAsync("cat /etc/must-survive"));
        Assert.Equal("precious", await host.DoAsync("cat /home/carrier/must-survive"));
        await host.DoAsync("gzip -t /var/backups/grandstair/etc.tar.gz");
    }

    /// <summary>By the launcher's own records: every attempt was taken in once, run once, and the last of each step ended well.</summary>
    protected static async Task AssertNoAttemptDoneTwiceAsync(TestHost host, int expectedAttempts)
    {
        var orders = (
            await host.DoAsync(
                "cd /var/lib/grandstair/*/orders && for o in *; do echo \"$o $(grep -c first $o/posts) $(wc -l < $o/process) $(cat "
                    + "$o/exit 2>/dev/null || echo none) $(cat $o/kind)\"; done"
            )
        )
            .Split('\n')
            .Select(l => l.Split(' '))
            .ToArray();
        Assert.Equal(expectedAttempts, orders.Length);
        Assert.All(orders, o => Assert.Equal(("1", "1"), (o[1], o[2])));
        foreach (var step in orders.Where(o => o[4] == "script").GroupBy(o => o[0][..o[0].LastIndexOf('.')]))
            Assert.Equal("0", step.OrderBy(o => int.Parse(o[0].Split('.')[3], null)).Last()[3]);
    }
}
