using System.Collections.Immutable;

namespace GrandStair.Core.Runs;

/// <summary>Where a run is.</summary>
public enum Phase
{
    /// <summary>The checks are evaluated.</summary>
    Gate,

    /// <summary>What is needed is put in place.</summary>
    Stage,

    /// <summary>The machine's time has not come yet.</summary>
    Wait,

    /// <summary>What protects the machine is done: saved, patched, suspended.</summary>
    Protect,

    /// <summary>The upgrade itself.</summary>
    Apply,

    /// <summary>It is looked at whether the target runs.</summary>
    Verify,

    /// <summary>The upgrade is undone.</summary>
    RollBack,

    /// <summary>The run ends or misses its slot, and what it has suspended is switched on again first.</summary>
    Resume,

    /// <summary>Follow-ups are closed, and the rollback period runs.</summary>
    Settle,

    /// <summary>The run has its outcome.</summary>
    Closed,
}

/// <summary>What kind of action a step is.</summary>
public enum StepKind
{
    /// <summary>A script that runs on the machine by itself, with or without a connection.</summary>
    Script,

    /// <summary>The machine restarts; done when it has a new boot id.</summary>
    Restart,
}

/// <summary>One action within a phase, as the method says it.</summary>
/// <param name="Name">The step's name within its method.</param>
/// <param name="Title">What it does, for people.</param>
/// <param name="Phase">The phase that it belongs to.</param>
/// <param name="Kind">What kind of action it is.</param>
/// <param name="Script">The script's file name; null for a restart.</param>
/// <param name="Typical">How long it usually takes.</param>
/// <param name="Limit">How long it may take before a person is asked.</param>
/// <param name="Attempts">How often it is tried before a person is asked, at least 1.</param>
/// <param name="PointOfNoReturn">Whether one can only go forward once it has begun.</param>
public sealed record StepSpec(
    string Name,
    string Title,
    Phase Phase,
    StepKind Kind,
    string? Script,
    TimeSpan Typical,
    TimeSpan Limit,
    int Attempts = 1,
    bool PointOfNoReturn = false)
{
    /// <summary>The names of the secrets that its script needs.</summary>
    public ImmutableArray<string> Secrets { get; init; } = [];

    /// <summary>The keys that it makes true. A check on one of them is not asked before the step is done.</summary>
    public ImmutableArray<string> Provides { get; init; } = [];

    /// <summary>For a step that suspends something: the later step of its method that resumes it. That one is run however the run ends. Null for every other step.</summary>
    public string? ResumedBy { get; init; }
}

/// <summary>The name of an order: <c>run/leg/step/attempt</c>, such as <c>r118/1/full-upgrade/2</c>. One name is one thing, done at most once.</summary>
public readonly record struct OrderName(long Run, int Leg, string Step, int Attempt)
{
    /// <inheritdoc />
    public override string ToString() => $"r{Run}/{Leg}/{Step}/{Attempt}";

    /// <summary>Reads a name as it is written.</summary>
    /// <exception cref="FormatException">The text is not such a name.</exception>
    public static OrderName Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        return text.Split('/') is [['r', .. var run], var leg, var step, var attempt]
            && long.TryParse(run, out var runNumber) && int.TryParse(leg, out var legNumber) && int.TryParse(attempt, out var attemptNumber)
            ? new(runNumber, legNumber, step, attemptNumber)
            : throw new FormatException($"'{text}' is not the name of an order; expected one such as r118/1/full-upgrade/2.");
    }
}

/// <summary>What is asked for by an order.</summary>
public enum OrderKind
{
    /// <summary>Read the machine and judge its gate.</summary>
    Gate,

    /// <summary>Do a step on the machine.</summary>
    Step,

    /// <summary>Say when the slot has come.</summary>
    Slot,

    /// <summary>Say when the rollback period is over.</summary>
    Settle,

    /// <summary>A person has to decide.</summary>
    Decide,
}

/// <summary>An order to the outside, outstanding until an event answers it.</summary>
/// <param name="Name">The name under which it can be asked after.</param>
/// <param name="Kind">What is asked for.</param>
/// <param name="At">When the event was written that led to it, UTC.</param>
/// <param name="NotBefore">The earliest moment to process it, UTC.</param>
/// <param name="Moment">The gate's moment; null for all others.</param>
public sealed record Order(OrderName Name, OrderKind Kind, DateTimeOffset At, DateTimeOffset NotBefore, Catalogue.Moment? Moment = null)
{
    /// <summary>When it is due, UTC. A step or a gate that seems to have been asked for after <paramref name="now"/> is due at once: the clock was set back since.</summary>
    /// <param name="now">The time, UTC.</param>
    public DateTimeOffset DueAt(DateTimeOffset now) => Kind is OrderKind.Step or OrderKind.Gate && At > now ? now : NotBefore;
}
