using GrandStair.Contracts;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Runs;

/// <summary>What the scripts of a run printed, to be read and searched while they run and afterwards.</summary>
internal static class OutputEndpoints
{
    private const int MostLines = 5000;
    private const int UsualLines = 500;

    public static void MapOutputs(this RouteGroupBuilder api)
    {
        api.MapGet("/runs/{run}/outputs", ListAsync).WithName("ListOutputs").ProducesProblem(404);
        api.MapGet("/runs/{run}/outputs/{leg}/{step}/{attempt}", GetAsync).WithName("GetOutput").ProducesProblem(400).ProducesProblem(404);
        api.MapGet("/runs/{run}/outputs/{leg}/{step}/{attempt}/text", DownloadAsync)
            .WithName("DownloadOutput")
            .Produces<string>(200, "text/plain")
            .ProducesProblem(404);
    }

    private static async Task<IReadOnlyList<OutputRow>> ListAsync(
        string run,
        ScopedRuns runs,
        RunOutputTable outputs,
        CancellationToken stop
    )
    {
        var (stored, _) = await runs.FindAsync(run, stop);
        return [.. (await outputs.OfAsync(stored.State.Run, stop)).Select(o => Row(o, stored.State))];
    }

    private static async Task<OutputView> GetAsync(
        [AsParameters] OutputQuery asked,
        ScopedRuns runs,
        RunOutputTable outputs,
        CancellationToken stop
    )
    {
        if (asked.Limit is < 1 or > MostLines)
            throw RefusedException.Invalid("limit", $"limit is {asked.Limit}; expected 1 to {MostLines}.");
        if (asked.From is < 1)
            throw RefusedException.Invalid("from", $"from is {asked.From}; expected the number of a line, from 1.");
        var (row, order) = await FindAsync(asked, runs, outputs, stop);
        var lines = OutputText.Lines(await outputs.TextAsync(order, stop)).Select((text, i) => new OutputLine(i + 1, text)).ToArray();
        var matching = asked.Find is { Length: > 0 } find
            ? Array.FindAll(lines, l => l.Text.Contains(find, StringComparison.OrdinalIgnoreCase))
            : lines;
        var limit = asked.Limit ?? UsualLines;
        return new(
            row,
            lines.Length,
            matching.Length,
            [.. asked.From is { } from ? matching.SkipWhile(l => l.Number < from).Take(limit) : matching.TakeLast(limit)]
        );
    }

    private static async Task<IResult> DownloadAsync(
        [AsParameters] OutputPath asked,
        ScopedRuns runs,
        RunOutputTable outputs,
        CancellationToken stop
    )
    {
        var (_, order) = await FindAsync(asked, runs, outputs, stop);
        return Results.File(
            System.Text.Encoding.UTF8.GetBytes(OutputText.Plain(await outputs.TextAsync(order, stop))),
            "text/plain; charset=utf-8",
            $"{asked.Run}-{asked.Leg}-{asked.Step}-{asked.Attempt}.txt"
        );
    }

    private static async Task<(OutputRow Row, OrderName Order)> FindAsync(
        OutputPath asked,
        ScopedRuns runs,
        RunOutputTable outputs,
        CancellationToken stop
    )
    {
        var (stored, _) = await runs.FindAsync(asked.Run, stop);
        var order = new OrderName(stored.State.Run, asked.Leg, asked.Step, asked.Attempt);
        return (await outputs.OfAsync(order.Run, stop)).FirstOrDefault(o => o.Order == order) is { } kept
            ? (Row(kept, stored.State), order)
            : throw RefusedException.Unknown(
                "unknown-output",
                $"No output of {order} is stored. 'gstair run output {asked.Run}' lists what there is."
            );
    }

    private static OutputRow Row(KeptOutput kept, RunState run) =>
        new(
            kept.Order.ToString(),
            kept.Order.Leg,
            kept.Order.Step,
            RunViews.Title(run, kept.Order),
            kept.Order.Attempt,
            kept.At,
            kept.Bytes,
            kept.Bytes >= OutputText.Most,
            run.Outstanding?.Name == kept.Order
        );

    /// <summary>Whose output is meant.</summary>
    /// <param name="Run">The run, such as r118.</param>
    /// <param name="Leg">The leg, from 1.</param>
    /// <param name="Step">The step's name.</param>
    /// <param name="Attempt">Which attempt of it, from 1.</param>
    private record OutputPath(
        [FromRoute(Name = "run")] string Run,
        [FromRoute(Name = "leg")] int Leg,
        [FromRoute(Name = "step")] string Step,
        [FromRoute(Name = "attempt")] int Attempt
    );

    /// <summary>Which lines are asked for.</summary>
    /// <param name="Find">Only lines with this text, in capitals or not; null for all.</param>
    /// <param name="From">The number of the first line; null for the last ones.</param>
    /// <param name="Limit">How many at most.</param>
    private sealed record OutputQuery(
        string Run,
        int Leg,
        string Step,
        int Attempt,
        [FromQuery(Name = "find")] string? Find,
        [FromQuery(Name = "from")] int? From,
        [FromQuery(Name = "limit")] int? Limit
    ) : OutputPath(Run, Leg, Step, Attempt);
}
