using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Runs;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Runs;

/// <summary>Runs, their progress and their logs.</summary>
internal static class RunEndpoints
{
    public static void MapRuns(this RouteGroupBuilder api)
    {
        api.MapGet("/runs", ListAsync).WithName("ListRuns");
        api.MapGet("/runs/{run}", async (string run, ScopedRuns runs, CancellationToken stop) => await runs.ViewAsync(run, stop))
            .WithName("GetRun")
            .ProducesProblem(404);
        api.MapPost(
                "/runs/{run}/decisions",
                async (
                    string run,
                    DecisionCommand command,
                    RunCommands commands,
                    ScopedRuns runs,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    var (stored, _) = await runs.FindAsync(run, stop);
                    await commands.DecideAsync(
                        stored.State.Run,
                        RequestFields.Word<Decision>("decision", command.Decision),
                        RequestFields.Reason(command.Reason),
                        command.Now,
                        caller.Actor(),
                        stop
                    );
                    return await runs.ViewAsync(run, stop);
                }
            )
            .WithName("DecideRun")
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/runs/{run}/rollback-period", KeepRollbackAsync)
            .WithName("KeepRollback")
            .ProducesProblem(400)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/rollbacks/categorise", CategoriseAsync)
            .WithName("CategoriseRollbacks")
            .ProducesProblem(400)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/runs/{run}/answers", AnswerAsync).WithName("AnswerRun").ProducesProblem(404).ProducesProblem(409);
        api.MapGet("/runs/{run}/evidence", async (string run, RunEvidence evidence, ScopedRuns runs, CancellationToken stop) =>
            {
                var (stored, machine) = await runs.FindAsync(run, stop);
                var pack = new MemoryStream();
                await evidence.WriteAsync(pack, stored, machine, stop);
                pack.Position = 0;
                return Results.File(pack, "application/zip", $"{run}-evidence.zip");
            })
            .WithName("GetRunEvidence")
            .Produces<byte[]>(200, "application/zip")
            .ProducesProblem(404);
    }

    private static async Task<RunView> KeepRollbackAsync(
        string run,
        KeepRollbackCommand command,
        RunCommands commands,
        ScopedRuns runs,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (stored, _) = await runs.FindAsync(run, stop);
        RequestFields.Moment("until", new DateTimeOffset(command.Until, TimeOnly.MinValue, TimeSpan.Zero));
        await commands.KeepRollbackAsync(
            stored.State.Run,
            RequestFields.Moment("until", stored.State.RollbackThrough(command.Until)),
            RequestFields.Reason(command.Reason),
            caller.Actor(),
            stop
        );
        return await runs.ViewAsync(run, stop);
    }

    private static Task<BulkResult> CategoriseAsync(
        CategoriseRollbacksCommand command,
        RunCommands commands,
        ScopedRuns runs,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var category = RequestFields.Text("what kind of reason it is", command.Category);
        return Bulk.EachAsync(command.Runs, "runs", async run =>
            await commands.CategoriseRollbackAsync(await runs.NumberAsync(run, stop), category, caller.Actor(), stop)
        );
    }

    private static async Task<RunView> AnswerAsync(
        string run,
        AnswerCommand command,
        RunCommands commands,
        ScopedRuns runs,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (stored, _) = await runs.FindAsync(run, stop);
        var done = command.Answer switch
        {
            "done" => true,
            "not-possible" => false,
            _ => throw RefusedException.Invalid("answer", $"The answer is '{command.Answer}'; expected done or not-possible."),
        };
        var note = (command.Note ?? "").Trim();
        if (!done && note.Length == 0)
            throw RefusedException.Invalid("no-note", "Say with a note why it is not possible; whoever decides about the run reads it.");
        await commands.AnswerAsync(stored.State.Run, command.Step, done, note, caller.Actor(), stop);
        return await runs.ViewAsync(run, stop);
    }

    private static async Task<Page<RunRow>> ListAsync(
        [AsParameters] RunsQuery asked,
        RunIndex index,
        RunLog runs,
        ScopedFleet fleet,
        RunRows rows,
        CancellationToken stop
    )
    {
        var (plan, status, wave, waitsForAnswer, hasSuspended, limit, cursor) = asked;
        var machines = await fleet.AllAsync(stop);
        var statuses = status?.Split(',').ToHashSet();
        var matching = (await index.AllAsync(stop))
            .Where(r =>
                machines.ContainsKey(r.Machine)
                && (plan is null || r.Plan == plan)
                && (wave is null || r.Wave == wave)
                && (waitsForAnswer is null || r.IsAsked == waitsForAnswer)
                && (hasSuspended is null || !r.Suspended.IsEmpty == hasSuspended)
                && (statuses is null || statuses.Contains(RunMachine.Name(r.Status)))
            )
            .OrderBy(Urgency)
            .ThenBy(r => r.Closed is null ? r.SlotStart : DateTimeOffset.MaxValue)
            .ThenByDescending(r => r.Closed)
            .ThenByDescending(r => r.Run)
            .ToArray();
        var page = matching.Page(limit, cursor, r => r.Run);
        var shown = await runs.SomeAsync(page.Items, stop);
        return new(await rows.OfAsync(shown, machines, stop), page.Next, page.Total);
    }

    /// <summary>Those that need a decision come first, then those that need an answer, then running, waiting and closed ones.</summary>
    private static int Urgency(RunEntry run) =>
        run switch
        {
            { Status: Status.Parked } => 0,
            { IsAsked: true } => 1,
            { Status: Status.Running } => 2,
            { Status: Status.Scheduled } => 3,
            { Status: Status.Verified } => 4,
            _ => 5,
        };

    /// <summary>Which runs are asked for; null stands for all.</summary>
    /// <param name="Plan">The plan.</param>
    /// <param name="Status">Their statuses, separated by commas.</param>
    /// <param name="Wave">The wave.</param>
    /// <param name="Asked">Whether they ask something of a person now.</param>
    /// <param name="Suspended">Whether something on their machine is suspended.</param>
    /// <param name="Limit">How many at most.</param>
    /// <param name="Cursor">Where to go on.</param>
    private sealed record RunsQuery(
        [FromQuery(Name = "plan")] string? Plan,
        [FromQuery(Name = "status")] string? Status,
        [FromQuery(Name = "wave")] string? Wave,
        [FromQuery(Name = "asked")] bool? Asked,
        [FromQuery(Name = "suspended")] bool? Suspended,
        [FromQuery(Name = "limit")] int? Limit,
        [FromQuery(Name = "cursor")] string? Cursor
    );
}
