namespace GrandStair.Contracts;

/// <summary>A part of a list.</summary>
/// <param name="Items">The entries.</param>
/// <param name="Next">The cursor of the next part; null where this is the last.</param>
/// <param name="Total">How many entries there are in all.</param>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next, int Total);

/// <summary>Who is calling, and what the service's clock says.</summary>
public sealed record SessionView(string Actor, string Version, DateTimeOffset Now, double Pace);

/// <summary>A token to sign in with.</summary>
public sealed record SignIn(string Token);

/// <summary>A reason for what is commanded.</summary>
public sealed record Because(string Reason);

/// <summary>A reading key.</summary>
public sealed record KeyView(string Key, string Kind, string Meaning);

/// <summary>A product of the catalogue.</summary>
public sealed record ProductView(string Name, string Hash, IReadOnlyList<ReleaseView> Releases, IReadOnlyList<HopView> Hops, IReadOnlyList<MethodView> Methods);

/// <summary>A release of a product.</summary>
public sealed record ReleaseView(string Version, string Name, string Status, IReadOnlyDictionary<string, string> SupportEnds);

/// <summary>A supported step between releases.</summary>
public sealed record HopView(string Name, IReadOnlyList<string> From, string To, int Checks);

/// <summary>A way to do a hop.</summary>
/// <param name="SlotMinutes">How many minutes a slot usually lasts.</param>
public sealed record MethodView(string Name, string Title, string Carries, double SlotMinutes, string Rollback);

/// <summary>Something wrong in a line of a file.</summary>
public sealed record LineProblem(int Line, string Message);

/// <summary>What an import did, or would do.</summary>
public sealed record ImportReport(int Added, int Updated, int Lines, bool Dry, IReadOnlyList<LineProblem> Problems);

/// <summary>A machine in a list.</summary>
/// <param name="Standing">Where it stands in the newest plan it is in; null where it is in none.</param>
/// <param name="LastSeen">When anything of it was last seen; null where nothing ever was.</param>
public sealed record MachineRow(
    string Id, string Name, string Site, string Group, string Owner, IReadOnlyList<string> Tags, string? Product, string? Version, string? Edition, string? Model,
    DateTimeOffset? LastSeen, int Disagreements, string? Plan, string? Wave, string? Standing);

/// <summary>A machine with all that is known of it.</summary>
public sealed record MachineView(MachineRow Machine, LinkView Link, IReadOnlyList<ReadingView> Readings, IReadOnlyList<ReadingView> Disagreements, IReadOnlyList<PlaceView> Places, IReadOnlyList<RunRow> Runs);

/// <summary>How a machine is reached.</summary>
/// <param name="HostKey">The pinned key's kind and fingerprint; null where none is pinned.</param>
public sealed record LinkView(string Kind, string Address, int Port, string User, string? HostKey);

/// <summary>A reading.</summary>
/// <param name="Shown">The value as people read it, <c>absent</c>, or why it could not be read.</param>
/// <param name="AgeSeconds">How long ago it was seen.</param>
public sealed record ReadingView(string Key, string State, string Shown, DateTimeOffset Seen, DateTimeOffset Received, double AgeSeconds, string Source, bool Clamped);

/// <summary>A machine's place in a plan.</summary>
public sealed record PlaceView(string Plan, string Wave, string Standing, string? Why, string? Method, DateTimeOffset? SlotStart, DateTimeOffset? SlotEnd, string? Run);

/// <summary>Whether a machine may go to a target, and why not.</summary>
/// <param name="Gate"><c>open</c>, <c>undecided</c> or <c>shut</c>.</param>
/// <param name="Arrived">Whether it runs the target already.</param>
/// <param name="Until">When the answer may change by readings growing old alone.</param>
public sealed record GateView(
    string Machine, string Target, string Gate, bool Arrived, string? Why, IReadOnlyList<string> Route, string? Method, string? Carries, IReadOnlyList<AgainstView> Against, IReadOnlyList<CheckView> Checks, DateTimeOffset? Until);

/// <summary>A method that was not chosen, with the reason.</summary>
public sealed record AgainstView(string Method, string Why);

/// <summary>A check's answer for one machine.</summary>
public sealed record CheckView(string Name, string Title, string Need, string State, IReadOnlyList<SeenView> Seen, string Wanted, FixView Fix);

/// <summary>What a check looked at.</summary>
/// <param name="Note">Why it could not be told; null where it could.</param>
public sealed record SeenView(string Condition, string Key, string Shown, double? AgeSeconds, string? Source, string? Note);

/// <summary>How an unmet check is mended.</summary>
public sealed record FixView(string By, string Words, double? Minutes);

/// <summary>Whether the machines of a scope may go to a target.</summary>
/// <param name="Open">How many gates are open; those that have arrived are not counted among them.</param>
/// <param name="Checks">Every check with its counts.</param>
/// <param name="Reasons">What keeps machines from having a gate at all: no route, no method.</param>
public sealed record ReadinessView(
    string Target, string Scope, int Machines, int Arrived, int Open, int Undecided, int Shut, int NobodyCanMend, int Disagreements, DateTimeOffset? Oldest,
    IReadOnlyList<CheckCount> Checks, IReadOnlyList<ReasonCount> Reasons);

/// <summary>How one check fares over a scope.</summary>
/// <param name="Opens">How many gates would open if this check alone were mended.</param>
public sealed record CheckCount(string Name, string Title, string Need, int Met, int Unmet, int Untold, int Deferred, int NotApplicable, FixView Fix, int Opens);

/// <summary>How many machines have no gate for a reason.</summary>
public sealed record ReasonCount(string Reason, int Machines);

/// <summary>A machine behind a number of the readiness.</summary>
public sealed record ReadinessRow(string Id, string Name, string Site, string Gate, string? Why, string? Method, string? CheckState, IReadOnlyList<SeenView> Seen);

/// <summary>A plan in a list.</summary>
public sealed record PlanRow(string Name, string Target, string State, string? Held, int Machines, IReadOnlyDictionary<string, int> Tally, DateTimeOffset Created, string CreatedBy, DateTimeOffset? Started, DateTimeOffset? Ended, string? Deadline);

/// <summary>A plan with its waves.</summary>
public sealed record PlanView(PlanRow Plan, string Body, string Scope, string Carries, IReadOnlyList<string> Methods, LimitsView Limits, AdvanceView Advance, IReadOnlyList<WaveView> Waves, IReadOnlyList<string> Undecided);

/// <summary>How many may run at once.</summary>
public sealed record LimitsView(int All, int Site);

/// <summary>What must hold before the next wave begins.</summary>
public sealed record AdvanceView(double Proved, int Failures, double SoakHours);

/// <summary>A wave of a plan.</summary>
/// <param name="Why">What the advance rule last said of it.</param>
public sealed record WaveView(int Number, string Name, string State, DateTimeOffset? Opened, string? Why, int Machines, IReadOnlyDictionary<string, int> Tally, DateTimeOffset? PlannedFrom, DateTimeOffset? PlannedTo);

/// <summary>A machine of a plan.</summary>
public sealed record MemberRow(
    string Id, string Name, string Site, int Wave, string WaveName, string Standing, string Gate, string? Why, bool CannotBeMended, string? Method,
    DateTimeOffset? SlotStart, DateTimeOffset? SlotEnd, string? Run, DateTimeOffset? Proved, string? Excuse, string? ExcuseReason, string? ExcuseBy, string? ExcuseUntil);

/// <summary>An excuse for a machine that will not go.</summary>
/// <param name="As"><c>replaced</c>, <c>retired</c> or <c>stays</c>.</param>
/// <param name="Until">Until when it stays, as <c>2027-03-31</c>.</param>
public sealed record ExcuseCommand(string As, string Reason, string? Until);

/// <summary>A decision about a run.</summary>
/// <param name="Decision"><c>try-again</c>, <c>wait-on</c>, <c>call-off</c>, <c>go-back</c> or <c>give-up</c>.</param>
public sealed record DecisionCommand(string Decision, string Reason);

/// <summary>A host key to pin.</summary>
public sealed record HostKeyCommand(string HostKey, string Reason);

/// <summary>A run in a list.</summary>
/// <param name="Standing">Where its machine stands by it.</param>
/// <param name="PhaseNumber">How far it is: the number of its phase from 1 to 8, in the order gate, stage, await-slot, guard, apply, prove, settle, closed.</param>
/// <param name="ElapsedSeconds">How long the step or phase under way has lasted.</param>
/// <param name="LeftSeconds">How long the steps up to the proof usually take from here; null where nothing is under way.</param>
/// <param name="OverSeconds">How much longer than usual the step under way has taken; null where it has not.</param>
public sealed record RunRow(
    string Run, string Machine, string Site, string Plan, string Wave, string Method, string Standing, string Phase, int PhaseNumber, string? Step, double? Share, string? Note,
    double ElapsedSeconds, double? LeftSeconds, double? OverSeconds, DateTimeOffset SlotStart, string? Parked, string? Outcome, string? Reason, DateTimeOffset? Proved, DateTimeOffset? Closed, int LooseEnds);

/// <summary>A run with its passage and log.</summary>
/// <param name="Possible">The decisions that can be taken now.</param>
public sealed record RunView(RunRow Run, string Hop, long Epoch, int MissedSlots, bool Turned, IReadOnlyList<PhaseView> Phases, IReadOnlyList<StepView> Steps, IReadOnlyList<LooseEndView> LooseEnds, IReadOnlyList<string> Possible, IReadOnlyList<EventView> Log);

/// <summary>A phase that a run went through.</summary>
public sealed record PhaseView(string Phase, DateTimeOffset From, DateTimeOffset? To);

/// <summary>A step of a run's method.</summary>
/// <param name="State"><c>to-come</c>, <c>under-way</c>, <c>done</c> or <c>failed</c>.</param>
public sealed record StepView(string Name, string Title, string Phase, string State, int Attempts, bool TurningPoint, double TypicalSeconds);

/// <summary>Something left to do.</summary>
public sealed record LooseEndView(string Name, string Title, string Seen, string Fix, DateTimeOffset Opened, DateTimeOffset? Closed, string? By);

/// <summary>A line of a run's log.</summary>
public sealed record EventView(int Number, DateTimeOffset At, string Type, string Actor, string Text, string? Detail);

/// <summary>How a plan's machines ended or stand.</summary>
public sealed record OutcomesView(string Plan, int Machines, IReadOnlyDictionary<string, int> Tally, IReadOnlyDictionary<string, int> Outcomes, IReadOnlyDictionary<string, int> Excuses, IReadOnlyList<MemberRow> Open);

/// <summary>The one page that everyone above wants.</summary>
/// <param name="ProbableEnd">When the last slot that stands or is laid out ends; null where there is none.</param>
public sealed record OverviewView(
    PlanRow Plan, string Target, DateTimeOffset Now, double Pace, string? SupportEnds, DateTimeOffset? ProbableEnd, IReadOnlyList<WaveView> Waves, IReadOnlyList<StairPoint> Planned, IReadOnlyList<StairPoint> Actual,
    IReadOnlyList<InTheWayView> InTheWay, IReadOnlyList<RunRow> UnderWay, int RoomAll, IReadOnlyList<NextView> Next);

/// <summary>How many machines were to be proved, or were, by a moment.</summary>
public sealed record StairPoint(DateTimeOffset At, int Proved);

/// <summary>Something that keeps machines from going.</summary>
/// <param name="Kind"><c>check</c>, <c>parked</c>, <c>ended</c>, <c>route</c> or <c>loose-end</c>.</param>
/// <param name="Condition">What lists the machines: the name of the check or the standing.</param>
/// <param name="By">Who can mend it; null where a decision is needed.</param>
public sealed record InTheWayView(string Kind, int Machines, string Title, string Detail, string? By, double? Minutes, string Condition, int Opens);

/// <summary>Slots to come.</summary>
public sealed record NextView(DateTimeOffset From, DateTimeOffset To, string Site, int Machines, int Staged);

/// <summary>A change, as live events tell it.</summary>
public sealed record ChangeView(long Position, DateTimeOffset At, string Kind, string Subject, string Type, string Actor);
