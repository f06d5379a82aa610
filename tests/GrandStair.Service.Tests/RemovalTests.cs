using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Machines that are removed from the fleet, and imports that are undone.</summary>
public sealed class RemovalTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    private ServiceProcess Service => fleet.Service;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_removed_machine_leaves_lists_readiness_and_plans_keeps_its_history_and_can_be_restored()
    {
        var own = await fleet.OwnMachinesAsync("leaving");
        await Service.OkAsync(
            "plan",
            "create",
            Service.Write(
                SmallFleet
                    .Plan.Replace("plan: small", "plan: leaving", StringComparison.Ordinal)
                    .Replace(own.From, own.To, StringComparison.Ordinal),
                "leaving.yaml"
            )
        );
        var before = await Service.Client.ReadinessAsync("Brae Desktop", null, null, "name like \"leaving-*\"", Stop);
        Assert.Contains(
            "2 removed",
            (await Service.GstairAsync("machine", "remove", "leaving-2", "leaving-3", "--reason", "sold")).Out,
            StringComparison.Ordinal
        );

        Assert.Equal(["leaving-1"], (await Service.Client.MachinesAsync("leaving-", 10, Stop)).Items.Select(m => m.Name));
        Assert.Equal(["leaving-1"], (await Service.Client.MachinesAsync("name like \"leaving-*\"", 10, Stop)).Items.Select(m => m.Name));
        Assert.Equal(
            before.Machines - 2,
            (await Service.Client.ReadinessAsync("Brae Desktop", null, null, "name like \"leaving-*\"", Stop)).Machines
        );
        Assert.Equal(
            "removed from the fleet: sold",
            (await Service.Client.MembersAsync("leaving", null, null, null, 10, Stop))
                .Items.Single(m => m.Name == "leaving-2")
                .ExemptionReason
        );
        Assert.Contains(
            "leaving-2 was removed from the fleet on",
            (await Service.GstairAsync("machine", "gate", "leaving-2")).Error,
            StringComparison.Ordinal
        );
        var gone = await Service.GstairAsync("machine", "show", "leaving-2");
        Assert.Contains("by admin: sold", gone.Out, StringComparison.Ordinal);
        Assert.Contains("hardware.memory", gone.Out, StringComparison.Ordinal);

        // The inventory still lists it: nothing is added behind the back of whoever removed it.
        var again = await Service.GstairAsync(
            "fleet",
            "import",
            Service.Write("name,serial,connection\nleaving-2,leaving2,simulated\n", "again.csv"),
            "--seen",
            "now"
        );
        Assert.Contains("'leaving-2' is leaving-2, which was removed from the fleet on", again.Error, StringComparison.Ordinal);
        // Another machine takes its name over, and then it cannot come back under it.
        Assert.Contains(
            "1 added",
            (
                await Service.GstairAsync(
                    "fleet",
                    "import",
                    Service.Write("name,serial,connection\nleaving-3,other-serial,simulated\n", "taken.csv"),
                    "--seen",
                    "now"
                )
            ).Out,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "Another machine is named leaving-3",
            (await Service.GstairAsync("machine", "restore", await IdOfRemovedAsync("leaving-3"), "--reason", "found")).Error,
            StringComparison.Ordinal
        );

        Assert.Contains(
            "leaving-2",
            (await Service.GstairAsync("machine", "restore", "leaving-2", "--reason", "not sold after all")).Out,
            StringComparison.Ordinal
        );
        Assert.Equal(3, (await Service.Client.MachinesAsync("leaving-", 10, Stop)).Total);
        Assert.Equal(3, (await Service.GstairAsync("machine", "restore", "leaving-2", "--reason", "twice")).Exit);
        Assert.Equal(4, (await Service.GstairAsync("machine", "remove", "leaving-1", "nobody", "--reason", "x")).Exit);
        Assert.Equal(3, (await Service.Client.MachinesAsync("leaving-", 10, Stop)).Total);
    }

    [Fact]
    public async Task An_import_is_undone_with_what_it_added_and_what_it_changed()
    {
        await Service.OkAsync(
            "fleet",
            "import",
            Service.Write("name,serial,site,connection,hardware.memory\nundo-1,U1,Westhaven,simulated,16 GiB\n", "first.csv"),
            "--seen",
            "2026-01-01T00:00:00Z"
        );
        await Service.OkAsync(
            "fleet",
            "import",
            Service.Write(
                "name,serial,site,connection,hardware.memory\nundo-one,U1,Wsthaven,simulated,16 MiB\nundo-2,U2,Wsthaven,simulated,8 MiB\n",
                "wrong.csv"
            ),
            "--seen",
            "2026-01-02T00:00:00Z"
        );
        await Service.OkAsync(
            "fleet",
            "import",
            Service.Write("name,serial,connection\nundo-2,U2,simulated\n", "later.csv"),
            "--seen",
            "2026-01-03T00:00:00Z"
        );
        var numbers = (await Service.Client.ImportsAsync(Stop)).OrderByDescending(i => i.Import).Take(3).Select(i => i.Import).ToArray();
        Assert.Contains(
            $"Import {numbers[0]} came later and changed some of the same machines",
            (await Service.GstairAsync("fleet", "undo", $"{numbers[1]}", "--reason", "wrong units")).Error,
            StringComparison.Ordinal
        );
        await Service.OkAsync("fleet", "undo", $"{numbers[0]}", "--reason", "of no use");
        Assert.Contains(
            "1 removed, 1 restored",
            (await Service.GstairAsync("fleet", "undo", $"{numbers[1]}", "--reason", "wrong units")).Out,
            StringComparison.Ordinal
        );

        var back = await Service.Client.MachineAsync("undo-1", Stop);
        Assert.Equal(("Westhaven", "16 GiB"), (back.Machine.Site, back.Readings.Single(r => r.Key == "hardware.memory").Shown));
        Assert.Equal(["16 GiB"], (await Service.Client.HistoryAsync("undo-1", "hardware.memory", Stop)).Select(h => h.Shown));
        Assert.Equal(0, (await Service.Client.MachinesAsync("site = Wsthaven", 10, Stop)).Total);
        Assert.Contains(
            $"Import {numbers[1]} was undone already",
            (await Service.GstairAsync("fleet", "undo", $"{numbers[1]}", "--reason", "twice")).Error,
            StringComparison.Ordinal
        );
        Assert.Equal(4, (await Service.GstairAsync("fleet", "undo", "999", "--reason", "none")).Exit);
        Assert.Contains("undone", (await Service.GstairAsync("fleet", "imports")).Out, StringComparison.Ordinal);

        // The corrected file adds the same machine, with the same serial number.
        Assert.Contains(
            "1 added, 1 updated",
            (
                await Service.GstairAsync(
                    "fleet",
                    "import",
                    Service.Write(
                        "name,serial,site,connection,hardware.memory\nundo-1,U1,Westhaven,simulated,16 GiB\n"
                            + "undo-2,U2,Westhaven,simulated,8 GiB\n",
                        "right.csv"
                    ),
                    "--seen",
                    "2026-01-04T00:00:00Z"
                )
            ).Out,
            StringComparison.Ordinal
        );
        Assert.Equal("Westhaven", (await Service.Client.MachineAsync("undo-2", Stop)).Machine.Site);
    }

    private async Task<string> IdOfRemovedAsync(string name)
    {
        var entries = await Calls.JsonAsync(Service, "GET", "/api/v1/audit?limit=200", Service.Token);
        return entries
            .GetProperty("items")
            .EnumerateArray()
            .Where(e => e.GetProperty("command").GetString() == "machine remove")
            .Select(e => e.GetProperty("subject").GetString()!)
            .First(id => Service.Client.MachineAsync(id, Stop).GetAwaiter().GetResult().Machine.Name == name);
    }
}
