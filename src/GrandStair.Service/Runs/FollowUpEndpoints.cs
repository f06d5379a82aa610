using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Runs;
using GrandStair.Engine.Checks;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Runs;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Runs;

/// <summary>What is left to do on machines after their upgrade, of all runs.</summary>
internal static class FollowUpEndpoints
{
    public static void MapFollowUps(this RouteGroupBuilder api)
    {
        api.MapGet("/follow-ups", ListAsync).WithName("ListFollowUps").ProducesProblem(400);
        api.MapPost("/follow-ups/close", CloseAsync).WithName("CloseFollowUps").ProducesProblem(400).ProducesProblem(404);
        api.MapPost("/follow-ups/assign", AssignAsync).WithName("AssignFollowUps").ProducesProblem(400).ProducesProblem(404);
        api.MapPost("/follow-ups/fix", FixAsync).WithName("FixFollowUps").ProducesProblem(400).ProducesProblem(404);
        api.MapPost("/runs/{run}/follow-ups", AddAsync).WithName("AddFollowUp").ProducesProblem(400).ProducesProblem(404);
    }

    private static async Task<Page<FollowUpRow>> ListAsync(
        [AsParameters] FollowUpsQuery asked,
        RunIndex index,
        ScopedFleet fleet,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var (plan, owner, overdue, closed, limit, cursor) = asked;
        var now = clock.GetUtcNow();
        var machines = await fleet.AllAsync(stop);
        return (await index.AllAsync(stop))
            .Where(r => machines.ContainsKey(r.Machine) && (plan is null || r.Plan == plan))
            .SelectMany(r => r.FollowUps.Select(f => (Run: r, FollowUp: f)))
            .Where(x =>
                x.FollowUp.Closed is not null == (closed ?? false)
                && (owner is null || (x.FollowUp.Owner ?? "").Equals(owner, StringComparison.OrdinalIgnoreCase))
                && (overdue is null || x.FollowUp.IsOverdue(now) == overdue)
            )
            .OrderByDescending(x => x.FollowUp.Closed)
            .ThenBy(x => x.FollowUp.Due ?? DateOnly.MaxValue)
            .ThenBy(x => x.FollowUp.Opened)
            .ThenBy(x => x.Run.Run)
            .ToArray()
            .Page(limit, cursor, x => new FollowUpRow(
                $"r{x.Run.Run}",
                machines[x.Run.Machine].Name,
                machines[x.Run.Machine].Site,
                x.Run.Plan,
                x.Run.Wave,
                RunMachine.Name(x.Run.Status),
                RunViews.View(x.FollowUp, now)
            ));
    }

    private static async Task<RunView> AddAsync(
        string run,
        AddFollowUpCommand command,
        RunCommands commands,
        ScopedRuns runs,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (stored, _) = await runs.FindAsync(run, stop);
        await commands.AddFollowUpAsync(
            stored.State.Run,
            RequestFields.Text("what is left to do", command.Title),
            (command.Fix ?? "").Trim(),
            Owner(command.Owner),
            command.Due,
            caller.Actor(),
            stop
        );
        return await runs.ViewAsync(run, stop);
    }

    private static Task<BulkResult> CloseAsync(
        CloseFollowUpsCommand command,
        RunCommands commands,
        ScopedRuns runs,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var reason = RequestFields.Reason(command.Reason);
        return Bulk.EachAsync(command.Of, "follow-ups", async f =>
            await commands.CloseFollowUpAsync(await runs.NumberAsync(f.Run, stop), f.Name, reason, caller.Actor(), stop)
        );
    }

    private static Task<BulkResult> FixAsync(
        FixFollowUpsCommand command,
        CheckRunner checks,
        ScopedRuns runs,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var reason = RequestFields.Reason(command.Reason);
        return Bulk.EachAsync(command.Of, "follow-ups", async f =>
            await checks.FixFollowUpAsync(await runs.NumberAsync(f.Run, stop), f.Name, reason, command.Now, caller.Actor(), stop)
        );
    }

    private static Task<BulkResult> AssignAsync(
        AssignFollowUpsCommand command,
        RunCommands commands,
        ScopedRuns runs,
        ClaimsPrincipal caller,
        CancellationToken stop
    ) =>
        Bulk.EachAsync(command.Of, "follow-ups", async followUp =>
            await commands.AssignFollowUpAsync(
                await runs.NumberAsync(followUp.Run, stop),
                followUp.Name,
                f => f with { Owner = command.Owner is null ? f.Owner : Owner(command.Owner), Due = command.Due ?? f.Due },
                caller.Actor(),
                stop
            )
        );

    private static string? Owner(string? owner) => string.IsNullOrWhiteSpace(owner) ? null : RequestFields.Text("who is to do it", owner);

    /// <summary>Which follow-ups are asked for; null stands for all.</summary>
    /// <param name="Plan">The plan.</param>
    /// <param name="Owner">Who is to do them; empty for those that nobody has.</param>
    /// <param name="Overdue">Whether their day is over.</param>
    /// <param name="Closed">Those that are closed, the last one first, in place of those that are open.</param>
    /// <param name="Limit">How many at most.</param>
    /// <param name="Cursor">Where to go on.</param>
    private sealed record FollowUpsQuery(
        [FromQuery(Name = "plan")] string? Plan,
        [FromQuery(Name = "owner")] string? Owner,
        [FromQuery(Name = "overdue")] bool? Overdue,
        [FromQuery(Name = "closed")] bool? Closed,
        [FromQuery(Name = "limit")] int? Limit,
        [FromQuery(Name = "cursor")] string? Cursor
    );
}
