using GrandStair.Core.Runs;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>What can go wrong on a machine: what people see of it, and that the upgrade is completed once it is set right.</summary>
public sealed class FaultTests
{
    private static readonly string Plan = EngineKit.Plan.Replace("all: 3, site: 2", "all: 40, site: 40", StringComparison.Ordinal);

    // The steps of the method that do something on the machine.
    private static readonly string[] Steps =
    [
        "clean",
        "fetch-image",
        "save-settings",
        "suspend-protection",
        "apply-image",
        "restart",
        "resume-protection",
        "look-around",
    ];

    /// <summary>The faults, as docs/faults.md lists them.</summary>
    private static readonly Fault[] All =
    [
        new("no-return@restart", "Restart: not back after 45 min. Look at its screen", Set: ("truth.silent-until", "0")),
        new("restart-loop@restart", "it is gone without a result, the machine restarted", Set: ("truth.restarts-until", "0"), Retry: true),
        new("wrong-checksum@fetch-image*", "does not match: expected", Set: ("truth.fault", ""), Retry: true),
        new("full-disk@fetch-image*", "not enough space for brae-desktop-7.1.4.img", Set: ("truth.fault", ""), Retry: true),
        new("full-disk@apply-image*", "no space left on device", Set: ("truth.fault", ""), Retry: true),
        new("power-cut@apply-image", null),
        new("recovery-prompt@restart", null),
        new(
            "without-effect@suspend-protection",
            "Disk encryption suspended for the restart (found: disk.encryption = on",
            Set: ("disk.encryption", "suspended"),
            Retry: true
        ),
        new("jumps-back@apply-image", null),
        new("slow-uplink@fetch-image", "running for longer than 6 h", But: ("network.rate", "20 Mbit/s")),
        new("host-key-changed@apply-image", "shows another host key than the one pinned. Nothing was sent", Set: ("truth.refuses", "")),
        new("rights@apply-image", "Let that account run /bin/sh by sudo without a password", Set: ("truth.refuses", "")),
        new("", "service print-queue is missing (was running)", But: ("truth.loses", "print-queue"), Set: ("truth.lost", ""), Retry: true),
        new("", null, But: ("truth.loses", "label-printer")),
        new("", null, But: ("truth.clock-off", "1")),
        new("", null, But: ("truth.clock-off", "-1")),
    ];

    [Fact]
    public async Task Each_fault_is_told_with_what_to_do_and_once_it_is_set_right_the_machine_is_verified()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(All.Length, i => [("truth.fault", All[i - 1].Name), .. All[i - 1].But is { } but ? [but] : Nothing]);
        await kit.PlanAsync(Plan);
        kit.StartWorker();
        var seen = new string?[All.Length];
        await kit.UntilAsync(
            async () =>
            {
                foreach (var run in (await kit.StatesAsync()).Where(r => r.Parked is not null))
                    seen[run.Machine - 1] ??= run.Parked;
                return All.Zip(seen).All(x => x.First.Parked is null || x.Second is not null);
            },
            () => $"every fault is told; told so far: {string.Join("; ", All.Zip(seen).Select(x => $"{x.First.Name}: {x.Second}"))}"
        );
        Assert.All(All.Zip(seen), x => Assert.Contains(x.First.Parked ?? "", x.Second ?? "", StringComparison.Ordinal));
        Assert.All(All.Zip(seen).Where(x => x.First.Parked is null), x => Assert.Null(x.Second));

        await SetRightAsync(kit);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        var lost = (await kit.StatesAsync()).Single(r => All[r.Machine - 1].But == ("truth.loses", "label-printer"));
        Assert.Contains(lost.FollowUps, f => f.Title == "1 device is missing since the upgrade");
    }

    [Fact]
    public async Task A_machine_that_does_not_answer_for_three_hours_in_any_step_is_verified_and_does_nothing_twice()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(Steps.Length, i => [("truth.fault", $"drop-out@{Steps[i - 1]}")]);
        await kit.PlanAsync(Plan);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        foreach (var run in await kit.StatesAsync())
        {
            var ended = (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<OrderEnded>().ToArray();
            Assert.Equal(ended.Length, ended.Select(e => e.Order).Distinct().Count());
        }
    }

    [Fact]
    public async Task A_share_that_goes_down_comes_with_what_the_machine_does_then()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("truth.fault", "jumps-back@apply-image")]);
        await kit.PlanAsync(Plan);
        kit.StartWorker();
        var shown = new List<(double Share, string? Note)>();
        await kit.UntilAsync(
            async () =>
            {
                var run = (await kit.Runs.ListAsync("small", EngineKit.Stop)).SingleOrDefault();
                if (run?.Progress is { Share: { } share } progress && run.State.CurrentStep?.Name == "apply-image")
                    shown.Add((share, progress.Note));
                return run?.State.Verified is not null;
            },
            () => "it is verified"
        );
        var back = shown.Zip(shown.Skip(1)).First(x => x.Second.Share < x.First.Share).Second;
        Assert.Equal("fetching 214 MiB more that the image refers to", back.Note);
    }

    [Fact]
    public void The_table_of_the_docs_has_every_fault()
    {
        var table = File.ReadAllText(Path.Combine(Repository.Root, "docs", "faults.md"));
        Assert.All(All.Where(f => f.Parked is not null), f => Assert.Contains(f.Parked!, table, StringComparison.Ordinal));
    }

    private static IEnumerable<(string, string)> Nothing => [];

    /// <summary>A person sets right what is wrong, and tries again where that is needed.</summary>
    private static async Task SetRightAsync(EngineKit kit)
    {
        foreach (var (fault, i) in All.Select((f, i) => (f, i)))
        {
            if (fault.Set is var (key, value))
                kit.World.Set($"desk-{i + 1}", key, value);
            var run = (await kit.StatesAsync()).Single(r => r.Machine == i + 1);
            if (fault.Retry)
                await kit.RunCommands.DecideAsync(run.Run, Decision.Retry, "set right", false, new("planner"), EngineKit.Stop);
        }
    }

    /// <summary>A fault, and what comes of it.</summary>
    /// <param name="Name">The fault and the step at which it happens.</param>
    /// <param name="Parked">What people are told in the end of the run's reason; null where the run needs nobody.</param>
    /// <param name="But">What else is so on the machine.</param>
    /// <param name="Set">What a person sets right on the machine.</param>
    /// <param name="Retry">Whether the step has to be tried again then; else the run goes on by itself.</param>
    private sealed record Fault(
        string Name,
        string? Parked,
        (string, string)? But = null,
        (string, string)? Set = null,
        bool Retry = false
    );
}
