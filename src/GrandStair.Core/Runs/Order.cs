namespace GrandStair.Core.Runs;

/// <summary>
/// The name of an order: <c>run/leg/step/attempt</c>, such as <c>r118/1/full-upgrade/2</c>. One name is one thing, done at most once.
/// </summary>
public readonly record struct OrderName(long Run, int Leg, string Step, int Attempt)
{
    /// <inheritdoc />
    public override string ToString() => $"r{Run}/{Leg}/{Step}/{Attempt}";

    /// <summary>Reads a name as it is written.</summary>
    /// <exception cref="FormatException">The text is not such a name.</exception>
    public static OrderName Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        return
            text.Split('/') is [['r', .. var run], var leg, var step, var attempt]
            && long.TryParse(run, out var runNumber)
            && int.TryParse(leg, out var legNumber)
            && int.TryParse(attempt, out var attemptNumber)
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
    /// <summary>
    /// When it is due, UTC. A step or a gate that seems to have been asked for after <paramref name="now"/> is due at once: the clock was
    /// set back since.
    /// </summary>
    /// <param name="now">The time, UTC.</param>
    public DateTimeOffset DueAt(DateTimeOffset now) => Kind is OrderKind.Step or OrderKind.Gate && At > now ? now : NotBefore;
}
