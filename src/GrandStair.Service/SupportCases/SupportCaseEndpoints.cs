using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.SupportCases;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.SupportCases;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Service.Runs;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.SupportCases;

/// <summary>Cases with the vendor's support: number, who has to act next, appointment, result.</summary>
internal static class SupportCaseEndpoints
{
    private const int MostMachines = 1000;

    public static void MapSupportCases(this RouteGroupBuilder api)
    {
        api.MapGet("/support-cases", ListAsync).WithName("ListSupportCases").ProducesProblem(400).ProducesProblem(404);
        api.MapPost("/support-cases", OpenAsync).WithName("OpenSupportCase").ProducesProblem(400).ProducesProblem(404).ProducesProblem(409);
        api.MapGet("/support-cases/{id}", ShowAsync).WithName("GetSupportCase").ProducesProblem(404);
        api.MapPost("/support-cases/{id}/notes", NoteAsync).WithName("NoteSupportCase").ProducesProblem(404).ProducesProblem(409);
        api.MapPut("/support-cases/{id}/appointment", BookAppointmentAsync)
            .WithName("BookAppointment")
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/support-cases/{id}/appointment/cancel", CancelAsync)
            .WithName("CancelAppointment")
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/support-cases/{id}/close", CloseAsync).WithName("CloseSupportCase").ProducesProblem(404).ProducesProblem(409);
    }

    private static async Task<Page<SupportCaseView>> ListAsync(
        [AsParameters] SupportCasesQuery asked,
        ScopedSupportCases cases,
        ScopedFleet fleet,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var state = asked.State is { } word ? RequestFields.Word<SupportCaseState>("state", word) : default(SupportCaseState?);
        var all = asked.Machine is { } name
            ? await cases.OfMachineAsync((await fleet.EverKnownAsync(name, stop)).Id, stop)
            : await cases.AllAsync(stop);
        var machines = await fleet.AllAsync(stop);
        var now = clock.GetUtcNow();
        return all.Where(c => state is null || c.State == state)
            .ToArray()
            .Page(asked.Limit, asked.Cursor, c => ScopedSupportCases.Show(c, machines, now));
    }

    private static async Task<SupportCaseView> ShowAsync(string id, ScopedSupportCases cases, CancellationToken stop) =>
        await cases.ShowAsync(await cases.FindAsync(id, stop), stop);

    private static async Task<SupportCaseView> OpenAsync(
        OpenSupportCaseCommand command,
        SupportCaseCommands commands,
        ScopedSupportCases cases,
        ScopedFleet fleet,
        ScopedRuns runs,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var machines = new List<MachineId>();
        foreach (var name in command.Machines ?? [])
            machines.Add((await fleet.MachineAsync(name, stop)).Id);
        long? run = null;
        if (command.Run is { } asked)
        {
            var (stored, machine) = await runs.FindAsync(asked, stop);
            (run, machines) = (stored.State.Run, [machine.Id, .. machines]);
        }

        var different = machines.Distinct().ToArray();
        if (different.Length is 0 or > MostMachines)
            throw RefusedException.Invalid("machines", $"The case is about {different.Length} machines; expected 1 to {MostMachines}.");
        var actor = caller.Actor();
        var opened = new SupportCase(
            0,
            RequestFields.Text("the number that support gave the case", command.Reference),
            RequestFields.Text("with whom the case is", command.With),
            RequestFields.Text("what the case is about", command.About),
            [.. different],
            clock.GetUtcNow(),
            actor.Name
        )
        {
            Run = run,
        };
        return await cases.ShowAsync(await commands.OpenAsync(opened, actor, stop), stop);
    }

    private static async Task<SupportCaseView> NoteAsync(
        string id,
        NoteSupportCaseCommand command,
        SupportCaseCommands commands,
        ScopedSupportCases cases,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var found = await cases.WholeAsync(id, stop);
        var state = command.State is { } word ? RequestFields.Word<SupportCaseState>("state", word) : default(SupportCaseState?);
        var text = RequestFields.Text("what was done or said", command.Text);
        return await cases.ShowAsync(await commands.NoteAsync(found.Id, state, text, caller.Actor(), stop), stop);
    }

    private static async Task<SupportCaseView> BookAppointmentAsync(
        string id,
        BookAppointmentCommand command,
        SupportCaseCommands commands,
        ScopedSupportCases cases,
        ScopedPlans plans,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var found = await cases.WholeAsync(id, stop);
        var from = RequestFields.Moment("from", command.From);
        (PlanRecord, string)? crew = null;
        if (!string.IsNullOrWhiteSpace(command.Crew))
            crew = (await PlanOfCrewAsync(found, command.Plan, plans, stop), command.Crew.Trim());
        var booked = await commands.BookAsync(
            found,
            from.AddTicks(-(from.Ticks % TimeSpan.TicksPerMinute)),
            TimeSpan.FromMinutes(command.Minutes),
            crew,
            caller.Actor(),
            stop
        );
        return await cases.ShowAsync(booked, stop);
    }

    /// <summary>The plan that names a crew: the one that was given, or the one that the machines are in.</summary>
    private static async Task<PlanRecord> PlanOfCrewAsync(SupportCase @case, string? named, ScopedPlans plans, CancellationToken stop)
    {
        if (named is not null)
            return await plans.FindAsync(named, stop);
        foreach (var plan in await plans.AllAsync(stop))
            if ((await plans.MembersAsync(plan.Name, stop)).Any(m => m.Machine == @case.Machines[0]))
                return plan;
        throw RefusedException.Invalid("plan", "The machine is in no plan. Say which plan names the crew, with --plan.");
    }

    private static async Task<SupportCaseView> CancelAsync(
        string id,
        Because because,
        SupportCaseCommands commands,
        ScopedSupportCases cases,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var found = await cases.WholeAsync(id, stop);
        var reason = RequestFields.Reason(because.Reason);
        return await cases.ShowAsync(await commands.CancelAppointmentAsync(found.Id, reason, caller.Actor(), stop), stop);
    }

    private static async Task<SupportCaseView> CloseAsync(
        string id,
        CloseSupportCaseCommand command,
        SupportCaseCommands commands,
        ScopedSupportCases cases,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var found = await cases.WholeAsync(id, stop);
        var result = RequestFields.Text("what came of it", command.Result);
        return await cases.ShowAsync(await commands.CloseAsync(found.Id, result, caller.Actor(), stop), stop);
    }

    /// <summary>Which cases are asked for; null stands for all.</summary>
    /// <param name="Machine">Those about this machine, by name or id.</param>
    /// <param name="State">Those in this state.</param>
    /// <param name="Limit">How many at most.</param>
    /// <param name="Cursor">Where to go on.</param>
    private sealed record SupportCasesQuery(
        [FromQuery(Name = "machine")] string? Machine,
        [FromQuery(Name = "state")] string? State,
        [FromQuery(Name = "limit")] int? Limit,
        [FromQuery(Name = "cursor")] string? Cursor
    );
}
