using System.CommandLine;
using GrandStair.Client;
using GrandStair.Contracts;

namespace GrandStair.Cli.Runs;

/// <summary>Shows what the scripts of a run printed.</summary>
internal static class RunOutputCommand
{
    private const int MostLines = 5000;
    private static readonly TimeSpan Between = TimeSpan.FromSeconds(2);
    private static readonly Argument<string> Run = new("run") { Description = "The run, such as r118." };
    private static readonly Option<string?> Step = new("--step")
    {
        Description = "Show what this step printed, instead of listing all that did.",
    };
    private static readonly Option<int?> Leg = new("--leg") { Description = "The leg of the step (default: the last one that has it)." };
    private static readonly Option<int?> Attempt = new("--attempt") { Description = "Which attempt of the step (default: the last one)." };
    private static readonly Option<string?> Find = new("--find") { Description = "Only lines with this text, in capitals or not." };
    private static readonly Option<int> Count = new("--lines")
    {
        Description = "How many of the last lines, 1 to 5000.",
        DefaultValueFactory = _ => 200,
    };
    private static readonly Option<bool> Follow = new("--follow") { Description = "Go on with what is printed, until the step has ended." };
    private static readonly Option<string?> Out = new("--out") { Description = "Write all of it to this file." };

    public static Command Make()
    {
        var command = new Command("output", "Show or search what the scripts of a run printed, also while they run")
        {
            Run,
            Step,
            Leg,
            Attempt,
            Find,
            Count,
            Follow,
            Out,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var run = parsed.GetValue(Run)!;
                var all = await client.OutputsAsync(run, stop);
                if (parsed.GetValue(Step) is not { } step)
                {
                    if (!Caller.PrintedAsJson(parsed, all))
                        Print(run, all, screen);
                }
                else if (parsed.GetValue(Out) is { } file)
                {
                    await using var text = await client.OutputTextAsync(run, Chosen(parsed, all, step), stop);
                    await Caller.WriteAsync(text, file, screen, stop);
                }
                else
                {
                    await ShowAsync(parsed, client, Chosen(parsed, all, step), screen, stop);
                }

                return ExitStatus.Done;
            }
        );
        return command;
    }

    /// <exception cref="IOException">The step has printed nothing.</exception>
    private static OutputRow Chosen(ParseResult parsed, IReadOnlyList<OutputRow> all, string step) =>
        all.LastOrDefault(o =>
            o.Step == step && (parsed.GetValue(Leg) ?? o.Leg) == o.Leg && (parsed.GetValue(Attempt) ?? o.Attempt) == o.Attempt
        )
        ?? throw new IOException(
            all.Count == 0
                ? $"Run {parsed.GetValue(Run)} has printed nothing so far."
                : $"Step '{step}' of run {parsed.GetValue(Run)} has printed nothing there; steps that have: "
                    + $"{string.Join(", ", all.Select(o => o.Step).Distinct())}."
        );

    private static async Task ShowAsync(
        ParseResult parsed,
        GrandStairClient client,
        OutputRow output,
        Screen screen,
        CancellationToken stop
    )
    {
        var (run, find) = (parsed.GetValue(Run)!, parsed.GetValue(Find));
        var view = await client.OutputAsync(run, output, find, null, parsed.GetValue(Count), stop);
        if (Caller.PrintedAsJson(parsed, view))
            return;
        Print(view, find, screen);
        while (parsed.GetValue(Follow) && view.Output.Running)
        {
            await Task.Delay(Between, stop);
            view = await client.OutputAsync(run, output, find, view.Lines + 1, MostLines, stop);
            PrintLines(view, screen);
        }
    }

    private static void Print(string run, IReadOnlyList<OutputRow> all, Screen screen)
    {
        if (all.Count == 0)
        {
            screen.Say($"Run **{run}** has printed nothing so far.");
            return;
        }

        screen.Table(
            ["#leg", "step", "#attempt", "title?", "from (UTC)", "#bytes", ""],
            all.Select(o =>
                new[]
                {
                    $"{o.Leg}",
                    o.Step,
                    $"{o.Attempt}",
                    o.Title,
                    Screen.Time(o.At),
                    $"{o.Bytes:N0}",
                    o.Running ? "running"
                    : o.Cut ? "cut: it printed more"
                    : "",
                }
            )
        );
        screen.Hint($"gstair run output {run} --step {all[^1].Step}  shows one; --find TEXT searches it, --out FILE writes it.");
    }

    private static void Print(OutputView view, string? find, Screen screen)
    {
        var found = find is null ? "" : $", {Screen.Many(view.Matching, "line")} with '{find}'";
        screen.Say($"**{view.Output.Title}** ({view.Output.Order}): {Screen.Many(view.Lines, "line")}{found}");
        PrintLines(view, screen);
        if (view.Shown.Count < view.Matching)
            screen.Hint($"The last {view.Shown.Count}; raise --lines, or write all of it with --out.");
    }

    private static void PrintLines(OutputView view, Screen screen)
    {
        foreach (var line in view.Shown)
            screen.Plain(line.Text);
    }
}
