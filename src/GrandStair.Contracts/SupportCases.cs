namespace GrandStair.Contracts;

/// <summary>A case with the vendor's support.</summary>
/// <param name="Id">Our number of it, such as <c>c3</c>.</param>
/// <param name="Reference">The number under which support knows it.</param>
/// <param name="With">With whom it is.</param>
/// <param name="About">What it is about.</param>
/// <param name="State">Who has to act next: <c>with-support</c>, <c>with-us</c>, or nobody: <c>closed</c>.</param>
/// <param name="Machines">The machines, as far as the caller sees them.</param>
/// <param name="Run">The run that it is about, such as <c>r118</c>; null where it is about none.</param>
/// <param name="Appointment">When somebody works on the machines; null where nothing is agreed.</param>
/// <param name="Result">What came of it; null while it is open.</param>
/// <param name="Opened">When it was recorded, UTC.</param>
/// <param name="OpenedBy">Who recorded it.</param>
/// <param name="Closed">When it was closed, UTC; null while it is open.</param>
/// <param name="Notes">What was done and said, oldest first.</param>
public sealed record SupportCaseView(
    string Id,
    string Reference,
    string With,
    string About,
    string State,
    IReadOnlyList<string> Machines,
    string? Run,
    AppointmentView? Appointment,
    string? Result,
    DateTimeOffset Opened,
    string OpenedBy,
    DateTimeOffset? Closed,
    IReadOnlyList<SupportCaseNoteView> Notes
);

/// <summary>When somebody works on the machines of a case.</summary>
/// <param name="From">When it begins, UTC.</param>
/// <param name="To">When it ends, UTC.</param>
/// <param name="Crew">The crew that is booked for it; null where none is.</param>
/// <param name="Plan">The plan that names the crew; null where none is booked.</param>
/// <param name="Over">Whether it is over.</param>
public sealed record AppointmentView(DateTimeOffset From, DateTimeOffset To, string? Crew, string? Plan, bool Over);

/// <summary>What was done or said about a case.</summary>
public sealed record SupportCaseNoteView(DateTimeOffset At, string By, string Text);

/// <summary>Records a case that was opened with the vendor's support.</summary>
/// <param name="Reference">The number under which support knows it.</param>
/// <param name="With">With whom it is.</param>
/// <param name="About">What it is about, in a sentence.</param>
/// <param name="Machines">The machines, by name or id; may be left out where a run is given.</param>
/// <param name="Run">The run that it is about, such as <c>r118</c>; null where it is about none.</param>
public sealed record OpenSupportCaseCommand(
    string Reference,
    string With,
    string About,
    IReadOnlyList<string>? Machines = null,
    string? Run = null
);

/// <summary>Records what was done or said about a case.</summary>
/// <param name="Text">What.</param>
/// <param name="State">Who has to act next: <c>with-support</c> or <c>with-us</c>; null for whoever has to act now.</param>
public sealed record NoteSupportCaseCommand(string Text, string? State = null);

/// <summary>Books an appointment for a case, in place of an earlier one.</summary>
/// <param name="From">When it begins, to the minute.</param>
/// <param name="Minutes">How long it lasts, 1 to 1440 minutes.</param>
/// <param name="Crew">The crew that has to be there: it takes one of its hands; null for none.</param>
/// <param name="Plan">The plan that names the crew; null for the one that the first machine is in.</param>
public sealed record BookAppointmentCommand(DateTimeOffset From, int Minutes, string? Crew = null, string? Plan = null);

/// <summary>Closes a case.</summary>
/// <param name="Result">What came of it.</param>
public sealed record CloseSupportCaseCommand(string Result);
