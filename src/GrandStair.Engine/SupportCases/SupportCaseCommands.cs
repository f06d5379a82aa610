using GrandStair.Core.Access;
using GrandStair.Core.Plans;
using GrandStair.Core.Refusals;
using GrandStair.Core.Scheduling;
using GrandStair.Core.SupportCases;
using GrandStair.Engine.Plans;
using GrandStair.Storage.SupportCases;

namespace GrandStair.Engine.SupportCases;

/// <summary>Carries out people's commands about cases with the vendor's support.</summary>
public sealed class SupportCaseCommands(SupportCaseTable cases, PlanFactsReader facts, TimeProvider clock)
{
    /// <summary>How long an appointment may last.</summary>
    public static readonly TimeSpan LongestAppointment = TimeSpan.FromHours(24);

    /// <summary>Records a case that was opened with support.</summary>
    /// <exception cref="RefusedException">An open case has that reference already.</exception>
    public Task<SupportCase> OpenAsync(SupportCase opened, Actor actor, CancellationToken stop) => cases.OpenAsync(opened, actor, stop);

    /// <summary>Records what was done or said, and who has to act next.</summary>
    /// <exception cref="RefusedException">The case is closed.</exception>
    public Task<SupportCase> NoteAsync(long id, SupportCaseState? state, string text, Actor actor, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        return cases.ChangeAsync(id, c => c.Noted(state, text, actor.Name, now), "case note", text, actor, now, stop);
    }

    /// <summary>Books an appointment, in place of an earlier one. A crew has to have a hand free for it.</summary>
    /// <param name="case">The case.</param>
    /// <param name="from">When it begins, UTC.</param>
    /// <param name="lasts">How long it lasts.</param>
    /// <param name="plan">The plan that names the crew, and the crew's name; null where none of ours has to be there.</param>
    /// <param name="actor">Who books it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">The case is closed, the crew is not free then, does not come there, or is none.</exception>
    public async Task<SupportCase> BookAsync(
        SupportCase @case,
        DateTimeOffset from,
        TimeSpan lasts,
        (PlanRecord Record, string Crew)? plan,
        Actor actor,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(@case);
        var now = clock.GetUtcNow();
        if (lasts <= TimeSpan.Zero || lasts > LongestAppointment)
            throw RefusedException.Invalid(
                "lasts",
                $"The appointment lasts {lasts.TotalMinutes:0} minutes; expected 1 minute to {LongestAppointment.TotalHours:0} hours."
            );
        var crew = plan is var (record, name) ? await FreeCrewAsync(@case, from, lasts, record, name, now, stop) : null;
        var appointment = new Appointment(from, from + lasts, crew);
        return await cases.ChangeAsync(
            @case.Id,
            c => c.Booked(appointment, actor.Name, now),
            "case book",
            crew is null ? "" : $"with {crew.Name}",
            actor,
            now,
            stop
        );
    }

    /// <summary>Cancels the appointment, which gives the crew back.</summary>
    /// <exception cref="RefusedException">The case is closed or has none.</exception>
    public Task<SupportCase> CancelAppointmentAsync(long id, string reason, Actor actor, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        return cases.ChangeAsync(id, c => c.NotBooked(reason, actor.Name, now), "case cancel-appointment", reason, actor, now, stop);
    }

    /// <summary>Closes a case with its result.</summary>
    /// <exception cref="RefusedException">It is closed already.</exception>
    public Task<SupportCase> CloseAsync(long id, string result, Actor actor, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        return cases.ChangeAsync(id, c => c.Ended(result, actor.Name, now), "case close", result, actor, now, stop);
    }

    /// <summary>The crew, which has a hand free then.</summary>
    private async Task<PlanCrew> FreeCrewAsync(
        SupportCase @case,
        DateTimeOffset from,
        TimeSpan lasts,
        PlanRecord record,
        string name,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var state = await facts.StateAsync(record, stop);
        var known = await facts.OfStateAsync(state, now, stop);
        var crew = state.Plan.CrewOf(name)
            ?? throw RefusedException.Invalid(
                "crew",
                $"Plan '{record.Name}' has no crew '{name}'; it has "
                    + $"{string.Join(", ", state.Plan.Crews.Select(c => c.Name).DefaultIfEmpty("none"))}."
            );
        var away = @case.Machines.Select(m => known.Machines[m]).FirstOrDefault(m => !crew.ComesTo(m.Site));
        if (away is not null)
            throw RefusedException.Invalid("crew", $"Crew '{crew.Name}' does not come to site '{away.Site}', where {away.Name} is.");
        // An earlier appointment of the same case is given back.
        var taken = PlanSlots
            .Taken(state.Members, state.Product, known.Machines, now)
            .Concat(known.Elsewhere.Slots.Where(s => @case.Booking is not { } own || s != own.Taken()));
        var free = CrewBooking.FreeFrom(new(state.Plan, known.Calendars, [], [.. taken], from), crew.Name, lasts);
        return free == from
            ? new(record.Name, crew.Name)
            : throw RefusedException.Conflict(
                "crew-not-free",
                $"Crew '{crew.Name}' is not free for {lasts.TotalMinutes:0} minutes from {from:yyyy-MM-dd HH:mm} UTC"
                    + (free is { } next ? $"; it next is from {next:yyyy-MM-dd HH:mm} UTC." : ".")
            );
    }
}
