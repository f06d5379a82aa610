using System.Collections.Immutable;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Conditions;

/// <summary>A sentence over a machine's readings, answered yes, no or unknown. Made by <see cref="ConditionParser"/>.</summary>
public abstract record Condition(string Text)
{
    /// <summary>Asks a machine, or a row of one of its tables.</summary>
    public abstract Answer Ask(IReadable machine, EvaluationContext context);

    /// <summary>The keys that it looks at, each once.</summary>
    public abstract IEnumerable<string> Keys { get; }

    /// <summary>The condition in the one way of writing it: <see cref="ConditionParser"/> reads it back to the same condition.</summary>
    public abstract string Written { get; }

    /// <inheritdoc />
    public sealed override string ToString() => Text;
}

/// <summary>Holds when every part holds.</summary>
public sealed record All(string Text, ImmutableArray<Condition> Parts) : Condition(Text)
{
    /// <inheritdoc />
    public override Answer Ask(IReadable machine, EvaluationContext context) =>
        Joined.Of(Parts, machine, context, answers => answers.Min(a => a.Value), Kleene.Yes);

    /// <inheritdoc />
    public override IEnumerable<string> Keys => Parts.SelectMany(p => p.Keys).Distinct();

    /// <inheritdoc />
    public override string Written => string.Join(" and ", Parts.Select(p => p is All or Any ? $"({p.Written})" : p.Written));
}

/// <summary>Holds when one part holds.</summary>
public sealed record Any(string Text, ImmutableArray<Condition> Parts) : Condition(Text)
{
    /// <inheritdoc />
    public override Answer Ask(IReadable machine, EvaluationContext context) =>
        Joined.Of(Parts, machine, context, answers => answers.Max(a => a.Value), Kleene.No);

    /// <inheritdoc />
    public override IEnumerable<string> Keys => Parts.SelectMany(p => p.Keys).Distinct();

    /// <inheritdoc />
    public override string Written => string.Join(" or ", Parts.Select(p => p is Any ? $"({p.Written})" : p.Written));
}

/// <summary>Holds when the part does not; unknown stays unknown.</summary>
public sealed record Not(string Text, Condition Part) : Condition(Text)
{
    /// <inheritdoc />
    public override Answer Ask(IReadable machine, EvaluationContext context)
    {
        var answer = Part.Ask(machine, context);
        return answer with { Value = (Kleene)(Kleene.Yes - answer.Value) };
    }

    /// <inheritdoc />
    public override IEnumerable<string> Keys => Part.Keys;

    /// <inheritdoc />
    public override string Written => Part is All or Any ? $"not ({Part.Written})" : $"not {Part.Written}";
}

internal static class Joined
{
    /// <summary>
    /// Joins the answers and keeps the leaves of those parts that decided: all where all had to agree, else those of the deciding value.
    /// </summary>
    public static Answer Of(
        ImmutableArray<Condition> parts,
        IReadable machine,
        EvaluationContext context,
        Func<Answer[], Kleene> join,
        Kleene unanimous
    )
    {
        var answers = parts.Select(p => p.Ask(machine, context)).ToArray();
        var value = join(answers);
        var deciding = value == unanimous ? answers : [.. answers.Where(a => a.Value == value)];
        return new(value, [.. deciding.SelectMany(a => a.Leaves)], answers.Min(a => a.Until));
    }
}

/// <summary>How a value is compared.</summary>
public enum Comparison
{
    /// <summary>Equal; a list holds when one of its texts is.</summary>
    Equal,

    /// <summary>Not equal.</summary>
    NotEqual,

    /// <summary>Less than.</summary>
    Less,

    /// <summary>Less than or equal.</summary>
    AtMost,

    /// <summary>Greater than.</summary>
    Greater,

    /// <summary>Greater than or equal.</summary>
    AtLeast,

    /// <summary>Equal to one of several.</summary>
    In,

    /// <summary>Between two, both ends in.</summary>
    Between,

    /// <summary>Matches a pattern in which <c>*</c> is any text and <c>?</c> one character.</summary>
    Like,

    /// <summary>Equal to none of several.</summary>
    NotIn,

    /// <summary>Outside of two.</summary>
    NotBetween,

    /// <summary>Does not match a pattern.</summary>
    NotLike,
}

/// <summary>What a value is compared with: a value, or so long before or after now.</summary>
/// <param name="Text">As it was written.</param>
/// <param name="Value">The value; null where <paramref name="Ago"/> is given.</param>
/// <param name="Ago">How long before now, for dates and instants; negative for a time to come.</param>
public sealed record Literal(string Text, ReadingValue? Value, TimeSpan? Ago = null);

/// <summary>
/// Compares the value under a key. With <c>absent</c> the answer is no, whatever the comparison; without a reading that will do it cannot
/// be told.
/// </summary>
public sealed record Compares(string Text, KeyDefinition Key, Comparison How, ImmutableArray<Literal> With) : Condition(Text)
{
    /// <inheritdoc />
    public override IEnumerable<string> Keys => [Key.Name];

    /// <inheritdoc />
    public override string Written =>
        How switch
        {
            Comparison.Equal => $"{Key.Name} = {Write(With[0])}",
            Comparison.NotEqual => $"{Key.Name} != {Write(With[0])}",
            Comparison.Less => $"{Key.Name} < {Write(With[0])}",
            Comparison.AtMost => $"{Key.Name} <= {Write(With[0])}",
            Comparison.Greater => $"{Key.Name} > {Write(With[0])}",
            Comparison.AtLeast => $"{Key.Name} >= {Write(With[0])}",
            Comparison.In => $"{Key.Name} in ({string.Join(", ", With.Select(Write))})",
            Comparison.NotIn => $"{Key.Name} not in ({string.Join(", ", With.Select(Write))})",
            Comparison.Between => $"{Key.Name} between {Write(With[0])} and {Write(With[1])}",
            Comparison.NotBetween => $"{Key.Name} not between {Write(With[0])} and {Write(With[1])}",
            Comparison.NotLike => $"{Key.Name} not like {Write(With[0])}",
            _ => $"{Key.Name} like {Write(With[0])}",
        };

    /// <inheritdoc />
    public override Answer Ask(IReadable machine, EvaluationContext context)
    {
        var reading = machine.Find(Key.Name);
        if (context.WhyNot(reading) is { } note)
            return new(Kleene.Unknown, [new(Text, Key.Name, Kleene.Unknown, reading, note)], null);
        var holds = reading!.State == ReadingState.Value && Holds(reading.Value!, context.Now);
        var value = holds ? Kleene.Yes : Kleene.No;
        return new(value, [new(Text, Key.Name, value, reading, null)], UntilOf(reading, context));
    }

    private DateTimeOffset? UntilOf(Reading reading, EvaluationContext context)
    {
        var until = context.Until(reading);
        foreach (var ago in With.Where(l => l.Ago is not null && reading.Value is not null).Select(l => l.Ago!.Value))
            if (TurnOf(reading.Value!.Amount, ago, context.Now) is { } turns && (until is null || turns < until))
                until = turns;

        return until;
    }

    /// <summary>
    /// When a comparison with so long ago turns next: when the moment is just so long ago, and a second later, when it is longer ago. Null
    /// where both are over.
    /// </summary>
    internal static DateTimeOffset? TurnOf(double seconds, TimeSpan ago, DateTimeOffset now)
    {
        if (seconds + ago.TotalSeconds + 1 >= DateTimeOffset.MaxValue.ToUnixTimeSeconds())
            return DateTimeOffset.MaxValue;
        var turn = DateTimeOffset.FromUnixTimeSeconds((long)seconds) + ago;
        return turn > now ? turn
            : turn.AddSeconds(1) > now ? turn.AddSeconds(1)
            : null;
    }

    /// <summary>Whether it holds for a value exactly where its opposite, such as <c>in</c> for <c>not in</c>, does not.</summary>
    internal bool IsNegated => How is Comparison.NotEqual or Comparison.NotIn or Comparison.NotBetween or Comparison.NotLike;

    /// <summary>The ranges, both ends in, within which amounts hold; of what is negated those within which they do not.</summary>
    internal (double Low, double High)[] Ranges(DateTimeOffset now)
    {
        double Amount(Literal literal) => literal.Ago is { } ago ? (now - ago).ToUnixTimeSeconds() : literal.Value!.Amount;
        return How switch
        {
            Comparison.Less => [(double.NegativeInfinity, Math.BitDecrement(Amount(With[0])))],
            Comparison.AtMost => [(double.NegativeInfinity, Amount(With[0]))],
            Comparison.Greater => [(Math.BitIncrement(Amount(With[0])), double.PositiveInfinity)],
            Comparison.AtLeast => [(Amount(With[0]), double.PositiveInfinity)],
            Comparison.Between or Comparison.NotBetween => [(Amount(With[0]), Amount(With[1]))],
            _ => [.. With.Select(l => (Amount(l), Amount(l)))],
        };
    }

    /// <summary>Whether it holds for a value.</summary>
    internal bool Holds(ReadingValue value, DateTimeOffset now) =>
        IsNegated
        != How switch
        {
            Comparison.Equal or Comparison.NotEqual => IsEqual(value, With[0], now),
            Comparison.Less => Order(value, With[0], now) < 0,
            Comparison.AtMost => Order(value, With[0], now) <= 0,
            Comparison.Greater => Order(value, With[0], now) > 0,
            Comparison.AtLeast => Order(value, With[0], now) >= 0,
            Comparison.In or Comparison.NotIn => With.Any(l => IsEqual(value, l, now)),
            Comparison.Between or Comparison.NotBetween => Order(value, With[0], now) >= 0 && Order(value, With[1], now) <= 0,
            Comparison.Like or Comparison.NotLike => value.Kind == ValueKind.List
                ? value.Items.Any(i => Glob.Fits(i, With[0].Text))
                : Glob.Fits(value.Text, With[0].Text),
            _ => throw new InvalidOperationException($"Unknown comparison {How}."),
        };

    private static bool IsEqual(ReadingValue value, Literal literal, DateTimeOffset now) =>
        value.Kind switch
        {
            ValueKind.Text => string.Equals(value.Text, literal.Value!.Text, StringComparison.OrdinalIgnoreCase),
            ValueKind.List => value.Items.Contains(literal.Value!.Text, StringComparer.OrdinalIgnoreCase),
            _ => Order(value, literal, now) == 0,
        };

    private static int Order(ReadingValue value, Literal literal, DateTimeOffset now)
    {
        if (literal.Ago is { } ago)
            return value.Amount.CompareTo((now - ago).ToUnixTimeSeconds());
        return value.Kind == ValueKind.Version
            ? VersionOrder.Instance.Compare(value.Text, literal.Value!.Text)
            : value.Amount.CompareTo(literal.Value!.Amount);
    }

    private string Write(Literal literal) =>
        Key.Kind is ValueKind.Text or ValueKind.List || How is Comparison.Like or Comparison.NotLike
            ? $"\"{literal.Text.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal)}\""
        : literal.Value is { } value ? Bare(value)
        : literal.Text;

    private static string Bare(ReadingValue value) => value.Text.All(c => Token.IsBare(c) || c == ' ') ? value.Text : $"\"{value.Text}\"";
}

/// <summary>Holds when a condition holds for one row of a table: Kleene's <c>or</c> over the rows. An absent table has none.</summary>
/// <param name="Text">As it was written.</param>
/// <param name="Key">The table's key.</param>
/// <param name="Row">What is asked of each row, over the table's columns.</param>
public sealed record Has(string Text, KeyDefinition Key, Condition Row) : Condition(Text)
{
    /// <inheritdoc />
    public override IEnumerable<string> Keys => [Key.Name];

    /// <inheritdoc />
    public override string Written => $"{Key.Name} has ({Row.Written})";

    /// <inheritdoc />
    public override Answer Ask(IReadable machine, EvaluationContext context)
    {
        var reading = machine.Find(Key.Name);
        if (context.WhyNot(reading) is { } note)
            return new(Kleene.Unknown, [new(Text, Key.Name, Kleene.Unknown, reading, note)], null);
        if (reading!.State == ReadingState.Absent)
            return new(Kleene.No, [new(Text, Key.Name, Kleene.No, reading, null)], context.Until(reading));
        var answers = reading.Value!.Rows.Select(r => (Row: r, Answer: Row.Ask(new RowReadings(r, Key, reading), context))).ToArray();
        var value = answers.Length == 0 ? Kleene.No : answers.Max(a => a.Answer.Value);
        var deciding = value == Kleene.No ? [] : answers.Where(a => a.Answer.Value == value).Select(a => a.Row.Show()).ToArray();
        return new(
            value,
            [
                new(Text, Key.Name, value, reading, value == Kleene.Unknown ? "a column that matters could not be read" : null)
                {
                    Rows = deciding,
                },
            ],
            answers.Select(a => a.Answer.Until).Append(context.Until(reading)).Min()
        );
    }
}

/// <summary>What is asked of the raw reading itself; answered yes or no, never unknown.</summary>
public enum RawQuestion
{
    /// <summary>Whether there is a value or a certain absence.</summary>
    Known,

    /// <summary>Whether it was looked for and is not there.</summary>
    Absent,

    /// <summary>Whether it was seen longer ago than a given time, or never.</summary>
    OlderThan,
}

/// <summary>Asks about the reading itself, not its value.</summary>
public sealed record AsksRaw(string Text, KeyDefinition Key, RawQuestion Question, TimeSpan Age) : Condition(Text)
{
    /// <inheritdoc />
    public override IEnumerable<string> Keys => [Key.Name];

    /// <inheritdoc />
    public override string Written =>
        Question switch
        {
            RawQuestion.Known => $"{Key.Name} is known",
            RawQuestion.Absent => $"{Key.Name} is absent",
            _ => $"{Key.Name} older than {Units.Exact(Age.TotalSeconds, ValueKind.Duration)}",
        };

    /// <inheritdoc />
    public override Answer Ask(IReadable machine, EvaluationContext context)
    {
        var reading = machine.Find(Key.Name);
        var holds = Question switch
        {
            RawQuestion.Known => reading is { State: not ReadingState.Unreadable },
            RawQuestion.Absent => reading is { State: ReadingState.Absent },
            _ => reading is null || reading.Seen < context.Now - Age,
        };
        DateTimeOffset? until =
            Question == RawQuestion.OlderThan && !holds && reading!.Seen < DateTimeOffset.MaxValue - Age ? reading.Seen + Age : null;
        var value = holds ? Kleene.Yes : Kleene.No;
        return new(value, [new(Text, Key.Name, value, reading, null)], until);
    }
}
