using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Scheduling;

namespace GrandStair.Core.SupportCases;

/// <summary>Who has to act on a support case next.</summary>
public enum SupportCaseState
{
    /// <summary>The vendor's support: we wait for their answer.</summary>
    WithSupport,

    /// <summary>We do: they asked for something, or an appointment is to be kept.</summary>
    WithUs,

    /// <summary>Nobody: it has a result.</summary>
    Closed,
}

/// <summary>When somebody works on the machines of a case.</summary>
/// <param name="From">When it begins, UTC.</param>
/// <param name="To">When it ends, UTC.</param>
/// <param name="Crew">The crew that is booked for it, with the plan that names it; null where none of ours has to be there.</param>
public sealed record Appointment(DateTimeOffset From, DateTimeOffset To, PlanCrew? Crew);

/// <summary>A crew of a plan.</summary>
/// <param name="Plan">The plan's name.</param>
/// <param name="Name">The crew's name.</param>
public sealed record PlanCrew(string Plan, string Name);

/// <summary>What was done or said about a case.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="By">Who recorded it.</param>
/// <param name="Text">What.</param>
public sealed record SupportCaseNote(DateTimeOffset At, string By, string Text);

/// <summary>A case with the vendor's support, about one machine or several.</summary>
/// <param name="Id">Our number of it, from 1.</param>
/// <param name="Reference">The number under which support knows it.</param>
/// <param name="With">With whom it is.</param>
/// <param name="About">What it is about, in a sentence.</param>
/// <param name="Machines">The machines, at least one.</param>
/// <param name="Opened">When it was recorded, UTC.</param>
/// <param name="OpenedBy">Who recorded it.</param>
public sealed record SupportCase(
    long Id,
    string Reference,
    string With,
    string About,
    ImmutableArray<MachineId> Machines,
    DateTimeOffset Opened,
    string OpenedBy
)
{
    /// <summary>The run that it is about; null where it is about none.</summary>
    public long? Run { get; init; }

    /// <summary>Who has to act next.</summary>
    public SupportCaseState State { get; init; }

    /// <summary>When somebody works on the machines; null where nothing is agreed.</summary>
    public Appointment? Appointment { get; init; }

    /// <summary>What came of it; null while it is open.</summary>
    public string? Result { get; init; }

    /// <summary>When it was closed, UTC; null while it is open.</summary>
    public DateTimeOffset? Closed { get; init; }

    /// <summary>What was done and said, oldest first.</summary>
    public ImmutableArray<SupportCaseNote> Notes { get; init; } = [];

    /// <summary>How it is written, such as <c>c3</c>.</summary>
    public string Name => $"c{Id}";

    /// <summary>The case with a further note, and with whoever has to act next; null where that stays as it is.</summary>
    /// <exception cref="RefusedException">It is closed, or is to be closed without a result.</exception>
    public SupportCase Noted(SupportCaseState? state, string text, string by, DateTimeOffset at)
    {
        var open = StillOpen();
        return state == SupportCaseState.Closed
            ? throw RefusedException.Invalid("state", "A case is closed with its result: gstair case close.")
            : open with
            {
                State = state ?? State,
                Notes = Notes.Add(new(at, by, text)),
            };
    }

    /// <summary>The case with an appointment, in place of an earlier one.</summary>
    /// <exception cref="RefusedException">It is closed, or the appointment is over.</exception>
    public SupportCase Booked(Appointment appointment, string by, DateTimeOffset at)
    {
        ArgumentNullException.ThrowIfNull(appointment);
        return appointment.To <= at
            ? throw RefusedException.Invalid(
                "from",
                $"The appointment ended {appointment.To:yyyy-MM-dd HH:mm} UTC; give one that is to come."
            )
            : StillOpen() with
            {
                Appointment = appointment,
                Notes = Notes.Add(
                    new(
                        at,
                        by,
                        $"Appointment {appointment.From:yyyy-MM-dd HH:mm} UTC, {(appointment.To - appointment.From).TotalMinutes:0} min"
                            + (appointment.Crew is { } crew ? $", with {crew.Name}" : "")
                    )
                ),
            };
    }

    /// <summary>The case without its appointment.</summary>
    /// <exception cref="RefusedException">It is closed, or has none.</exception>
    public SupportCase NotBooked(string reason, string by, DateTimeOffset at) =>
        Appointment is null
            ? throw RefusedException.Conflict("no-appointment", $"Case {Name} has no appointment.")
            : StillOpen() with
            {
                Appointment = null,
                Notes = Notes.Add(new(at, by, $"Appointment cancelled: {reason}")),
            };

    /// <summary>The case with its result. An appointment that has not begun is given back.</summary>
    /// <exception cref="RefusedException">It is closed already.</exception>
    public SupportCase Ended(string result, string by, DateTimeOffset at) =>
        StillOpen() with
        {
            State = SupportCaseState.Closed,
            Result = result,
            Closed = at,
            Appointment = Appointment?.From > at ? null : Appointment,
            Notes = Notes.Add(new(at, by, result)),
        };

    /// <summary>The hours of a crew that the appointment takes; null where it takes none.</summary>
    public CrewBooking? Booking =>
        Appointment is { Crew: { } crew } appointment ? new(crew.Name, appointment.From, appointment.To, Machines[0]) : null;

    private SupportCase StillOpen() =>
        Closed is null
            ? this
            : throw RefusedException.Conflict(
                "case-closed",
                $"Case {Name} was closed {Closed:yyyy-MM-dd}: {Result}. Open a new one: gstair case open."
            );
}
