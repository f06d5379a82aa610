using CsCheck;
using GrandStair.Core.Access;
using GrandStair.Core.Refusals;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Whatever planners call in whatever order, nothing runs that no valid approval covers.</summary>
public sealed class ConsentTests
{
    private const string Approved = "\napproval: { by: [board, second-board] }";

    /// <summary>Texts between which planners change: with and without approval, in more waves, by a method that wipes.</summary>
    private static readonly string[] Texts =
    [
        EngineKit.Plan + Approved,
        EngineKit.Plan,
        EngineKit.Plan.Replace("{ name: All }", "{ name: First, count: 2 }, { name: All, approval: yes }", StringComparison.Ordinal),
        EngineKit.Plan.Replace(
            "methods: [image-in-place]",
            "methods: [start-afresh, image-in-place]\npreserves: none",
            StringComparison.Ordinal
        ),
        EngineKit.Plan.Replace("methods: [image-in-place]", "methods: [keep-data]\npreserves: data", StringComparison.Ordinal) + Approved,
        EngineKit.Plan.Replace("all: 3", "all: 2", StringComparison.Ordinal) + "\napproval: { by: [second-board] }",
    ];

    private static readonly string[] People = ["planner", "other-planner", "board", "second-board"];
    private static readonly string[] Calls =
    [
        "revise",
        "method",
        "approve",
        "approve",
        "approve",
        "start",
        "start",
        "accept",
        "keep",
        "keep",
        "move",
    ];
    private static int _starts;
    private static int _runs;

    [Fact]
    public void Random_sequences_of_calls_never_start_a_run_that_no_valid_approval_covers()
    {
        Gen.Select(Gen.Int[0, Calls.Length - 1], Gen.Int[0, Texts.Length - 1], Gen.Int[0, People.Length - 1], Gen.Int[1, 4])
            .Array[4, 18]
            .Sample(
                calls => RunAsync([.. calls.Select(c => (Calls[c.Item1], c.Item2, People[c.Item3], c.Item4))]).GetAwaiter().GetResult(),
                iter: 60,
                threads: 1
            );
        // It was about something: plans were started and runs opened on the way.
        Assert.True(_starts >= 5 && _runs >= 3, $"{_starts} starts, {_runs} runs");
    }

    private static async Task RunAsync((string Call, int Text, string Person, int Machine)[] calls)
    {
        await using var kit = await EngineKit.StartAsync(pace: 1);
        await kit.AddMachinesAsync(4);
        await new ApprovalTable(kit.Database).AskForEveryPlanAsync(true, "a test", new("admin"), kit.Clock.GetUtcNow(), EngineKit.Stop);
        await kit.Writer.CreateAsync(Texts[0], new("planner"), SiteScope.All, EngineKit.Stop);
        // What was approved last, as an observer of the calls notes it down for himself.
        string? approved = null;
        var since = new HashSet<string> { "planner" };
        foreach (var (call, text, person, number) in calls)
        {
            var before = await ShownAsync(kit);
            var runs = (await kit.Runs.ListAsync("small", EngineKit.Stop)).Count;
            try
            {
                await MakeAsync(kit, call, text, person, number);
            }
            catch (Exception error) when (error is RefusedException or StoreException)
            {
                // Refused; the plan is as it was.
                continue;
            }

            var after = await ShownAsync(kit);
            if (call == "approve" && approved != before)
            {
                Assert.DoesNotContain(person, since);
                (approved, since) = (before, []);
            }

            if (after != before || call is "revise" or "accept")
                since.Add(person);
            if ((await kit.Runs.ListAsync("small", EngineKit.Stop)).Count is var opened && opened > runs)
                Assert.Equal(approved, before);
            if (call == "start")
                Assert.Equal(approved, before);
            _runs += opened - runs;
            _starts += call == "start" ? 1 : 0;
        }
    }

    /// <summary>All that a person who approves looks at: text, waves, and chosen methods.</summary>
    private static async Task<string> ShownAsync(EngineKit kit)
    {
        var stored = (await kit.Plans.FindAsync("small", EngineKit.Stop))!;
        var chosen = await kit.Decisions.OfAsync("Brae Desktop", "small", kit.Clock.GetUtcNow(), EngineKit.Stop);
        var members = (await kit.Plans.MembersAsync("small", EngineKit.Stop))
            .OrderBy(m => m.Machine.Value)
            .Select(m => $"{m.Machine} {m.Wave} {chosen.GetValueOrDefault(m.Machine)?.Method?.Method}");
        return $"{stored.Body}\n{string.Join(' ', members)}";
    }

    private static async Task MakeAsync(EngineKit kit, string call, int text, string person, int number)
    {
        var stored = (await kit.Plans.FindAsync("small", EngineKit.Stop))!;
        var machine = (await kit.Fleet.FindAsync($"desk-{number}", EngineKit.Stop))!;
        var actor = new Actor(person);
        switch (call)
        {
            case "revise":
                await kit.Writer.ReviseAsync(Texts[text], null, "x", actor, EngineKit.Stop);
                break;
            case "accept":
                await kit.Writer.ReviseAsync(stored.Body, stored.Revision, "x", actor, EngineKit.Stop);
                break;
            case "method":
                await kit.Commands.ChooseMethodAsync("small", machine, text % 2 == 0 ? "keep-data" : null, "x", actor, EngineKit.Stop);
                break;
            case "move":
                await kit.Writer.MoveAsync(stored, machine, stored.Waves[^1].Name, "x", actor, EngineKit.Stop);
                break;
            case "approve":
                var intent = (await kit.Approvals.NeededAsync(stored, EngineKit.Stop)).FirstOrDefault(n => n.Subject == "plan")?.Intent
                    ?? "";
                await kit.Approvals.ApproveAsync(stored, null, intent, "x", actor, EngineKit.Stop);
                break;
            case "start":
                await kit.Acknowledgements.AcknowledgeAsync(stored, null, "read", actor, EngineKit.Stop);
                await kit.Commands.StartAsync("small", actor, EngineKit.Stop);
                break;
            default:
                await kit.Keeper().KeepAsync(EngineKit.Stop);
                break;
        }
    }
}
