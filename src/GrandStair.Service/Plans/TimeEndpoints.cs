using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Engine.Plans;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;

namespace GrandStair.Service.Plans;

/// <summary>The times that a machine can have, and giving it one.</summary>
internal static class TimeEndpoints
{
    private static readonly TimeSpan Usual = TimeSpan.FromDays(14);
    private static readonly TimeSpan Apart = TimeSpan.FromMinutes(30);

    public static void MapTimes(this RouteGroupBuilder api)
    {
        api.MapGet("/plans/{name}/members/{machine}/times", TimesAsync).WithName("ListTimes").ProducesProblem(404).ProducesProblem(409);
        api.MapGet("/plans/{name}/members/{machine}/times/{start}", TryAsync).WithName("TryTime").ProducesProblem(404).ProducesProblem(409);
        api.MapPost(
                "/plans/{name}/members/{machine}/reschedule",
                async (
                    string name,
                    string machine,
                    RescheduleCommand command,
                    SlotCommands desk,
                    ScopedPlans plans,
                    ScopedFleet fleet,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    var (stored, of, reason) = (
                        await plans.FindAsync(name, stop),
                        await fleet.MachineAsync(machine, stop),
                        RequestFields.Reason(command.Reason)
                    );
                    if (command.Start is { } start)
                        await desk.RescheduleAsync(stored, of, RequestFields.Moment("start", start), reason, caller.Actor(), stop);
                    else
                        await desk.GiveUpAsync(stored, of, reason, caller.Actor(), stop);
                    return Results.NoContent();
                }
            )
            .WithName("RescheduleMachine")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
    }

    private static async Task<TimesView> TimesAsync(
        string name,
        string machine,
        DateTimeOffset? from,
        DateTimeOffset? to,
        SlotCommands desk,
        ScopedPlans plans,
        ScopedFleet fleet,
        TimeProvider clock,
        CancellationToken stop
    )
    {
        var (stored, of) = (await plans.FindAsync(name, stop), await fleet.MachineAsync(machine, stop));
        var member = await desk.MemberAsync(stored, of, stop);
        var (at, until) = SlotSheet.TimeOf(member);
        var begin = RequestFields.Moment("from", from) ?? clock.GetUtcNow();
        // Where nothing is said it is about the time after the one that it has.
        var end = RequestFields.Moment("to", to) ?? (at > begin ? at.Value : begin) + Usual;
        var times = await desk.TimesAsync(stored, of, begin, end, Apart, stop);
        return new(
            of.Name,
            of.Site,
            at is null || until is null ? null : new(at.Value, until.Value),
            member.Slot is not null,
            member.Rescheduled,
            PlanEndpoints.ChosenBy(member),
            [.. times.Select(t => new SpanView(t.Start, t.End))]
        );
    }

    private static async Task<TrialView> TryAsync(
        string name,
        string machine,
        DateTimeOffset start,
        SlotCommands desk,
        ScopedPlans plans,
        ScopedFleet fleet,
        CancellationToken stop
    )
    {
        var (stored, of) = (await plans.FindAsync(name, stop), await fleet.MachineAsync(machine, stop));
        var rescheduling = await desk.TryAsync(stored, of, RequestFields.Moment("start", start), stop);
        var slot = rescheduling.Trial.Slot;
        return new(
            of.Name,
            slot is null ? null : new(slot.Start, slot.End),
            slot?.StageFrom,
            slot?.Crew,
            rescheduling.Trial.InTheWay,
            [
                .. rescheduling
                    .Moved.Where(m => fleet.Sites.Holds(m.Machine.Site))
                    .Select(m => new MovedRow(m.Machine.Name, m.Machine.Site, m.Before.Start, m.After?.Start)),
            ],
            rescheduling.EndBefore,
            rescheduling.End,
            rescheduling.MeetsDeadline
        );
    }
}
