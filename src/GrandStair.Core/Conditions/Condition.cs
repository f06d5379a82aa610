using System.Collections.Immutable;
using System.Text.RegularExpressions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Conditions;

/// <summary>A sentence over a machine's readings, answered yes, no or cannot tell. Made by <see cref="ConditionParser"/>.</summary>
public abstract record Condition(string Text)
{
    /// <summary>Asks a machine.</summary>
    public abstract Answer Ask(Machine machine, Use use);

    /// <summary>The keys that it looks at, each once.</summary>
    public abstract IEnumerable<string> Keys { get; }

    /// <inheritdoc />
    public sealed override string ToString() => Text;
}

/// <summary>Holds when every part holds.</summary>
public sealed record All(string Text, ImmutableArray<Condition> Parts) : Condition(Text)
{
    /// <inheritdoc />
    public override Answer Ask(Machine machine, Use use) => Joined.Of(Parts, machine, use, answers => answers.Min(a => a.Value), Kleene.Yes);

    /// <inheritdoc />
    public override IEnumerable<string> Keys => Parts.SelectMany(p => p.Keys).Distinct();
}

/// <summary>Holds when one part holds.</summary>
public sealed record Any(string Text, ImmutableArray<Condition> Parts) : Condition(Text)
{
    /// <inheritdoc />
    public override Answer Ask(Machine machine, Use use) => Joined.Of(Parts, machine, use, answers => answers.Max(a => a.Value), Kleene.No);

    /// <inheritdoc />
    public override IEnumerable<string> Keys => Parts.SelectMany(p => p.Keys).Distinct();
}

/// <summary>Holds when the part does not; cannot tell stays cannot tell.</summary>
public sealed record Not(string Text, Condition Part) : Condition(Text)
{
    /// <inheritdoc />
    public override Answer Ask(Machine machine, Use use)
    {
        var answer = Part.Ask(machine, use);
        return answer with { Value = (Kleene)(Kleene.Yes - answer.Value) };
    }

    /// <inheritdoc />
    public override IEnumerable<string> Keys => Part.Keys;
}

internal static class Joined
{
    /// <summary>Joins the answers and keeps the leaves of those parts that decided: all where all had to agree, else those of the deciding value.</summary>
    public static Answer Of(ImmutableArray<Condition> parts, Machine machine, Use use, Func<Answer[], Kleene> join, Kleene unanimous)
    {
        var answers = parts.Select(p => p.Ask(machine, use)).ToArray();
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

    /// <summary>Matches a pattern in which <c>*</c> is any text and <c>?</c> one sign.</summary>
    Like,
}

/// <summary>What a value is compared with: a value, or so long before now.</summary>
/// <param name="Text">As it was written.</param>
/// <param name="Value">The value; null where <paramref name="Ago"/> is given.</param>
/// <param name="Ago">How long before now, for dates and instants.</param>
public sealed record Literal(string Text, ReadingValue? Value, TimeSpan? Ago = null);

/// <summary>Compares the value under a key. With <c>absent</c> the answer is no; without a reading that will do it cannot be told.</summary>
public sealed record Compares(string Text, KeyDefinition Key, Comparison How, ImmutableArray<Literal> With) : Condition(Text)
{
    private readonly Regex? _pattern = How == Comparison.Like ? Glob(With[0].Text) : null;

    /// <inheritdoc />
    public override IEnumerable<string> Keys => [Key.Name];

    /// <inheritdoc />
    public override Answer Ask(Machine machine, Use use)
    {
        var reading = machine.Find(Key.Name);
        if (WhyNot(reading, use) is { } note) return new(Kleene.CannotTell, [new(Text, Key.Name, Kleene.CannotTell, reading, note)], null);
        var holds = reading!.State == ReadingState.Value && Holds(reading.Value!, use.Now);
        var value = holds ? Kleene.Yes : Kleene.No;
        return new(value, [new(Text, Key.Name, value, reading, null)], UntilOf(reading, use));
    }

    private static string? WhyNot(Reading? reading, Use use)
    {
        if (reading is null) return "never seen";
        if (reading.State == ReadingState.Unreadable) return $"unreadable: {reading.Why}";
        if (use.MaxAge is { } age && reading.Seen < use.Now - age)
            return $"seen {Units.Show((use.Now - reading.Seen).TotalSeconds, ValueKind.Duration)} ago, must not be older than {Units.Show(age.TotalSeconds, ValueKind.Duration)}";
        return null;
    }

    private DateTimeOffset? UntilOf(Reading reading, Use use)
    {
        DateTimeOffset? until = use.MaxAge is { } age && reading.Seen < DateTimeOffset.MaxValue - age ? reading.Seen + age : null;
        foreach (var ago in With.Where(l => l.Ago is not null && reading.Value is not null).Select(l => l.Ago!.Value))
        {
            var turns = DateTimeOffset.FromUnixTimeSeconds((long)reading.Value!.Amount) + ago;
            if (turns > use.Now && (until is null || turns < until)) until = turns;
        }

        return until;
    }

    private bool Holds(ReadingValue value, DateTimeOffset now) => How switch
    {
        Comparison.Equal => IsEqual(value, With[0], now),
        Comparison.NotEqual => !IsEqual(value, With[0], now),
        Comparison.Less => Order(value, With[0], now) < 0,
        Comparison.AtMost => Order(value, With[0], now) <= 0,
        Comparison.Greater => Order(value, With[0], now) > 0,
        Comparison.AtLeast => Order(value, With[0], now) >= 0,
        Comparison.In => With.Any(l => IsEqual(value, l, now)),
        Comparison.Between => Order(value, With[0], now) >= 0 && Order(value, With[1], now) <= 0,
        Comparison.Like => value.Kind == ValueKind.List ? value.Items.Any(_pattern!.IsMatch) : _pattern!.IsMatch(value.Text),
        _ => throw new InvalidOperationException($"Unknown comparison {How}."),
    };

    private static bool IsEqual(ReadingValue value, Literal literal, DateTimeOffset now) => value.Kind switch
    {
        ValueKind.Text => string.Equals(value.Text, literal.Value!.Text, StringComparison.OrdinalIgnoreCase),
        ValueKind.List => value.Items.Contains(literal.Value!.Text, StringComparer.OrdinalIgnoreCase),
        _ => Order(value, literal, now) == 0,
    };

    private static int Order(ReadingValue value, Literal literal, DateTimeOffset now)
    {
        if (literal.Ago is { } ago) return value.Amount.CompareTo((now - ago).ToUnixTimeSeconds());
        return value.Kind == ValueKind.Version
            ? VersionOrder.Instance.Compare(value.Text, literal.Value!.Text)
            : value.Amount.CompareTo(literal.Value!.Amount);
    }

    private static Regex Glob(string pattern) => new(
        "^" + Regex.Escape(pattern).Replace("\\*", ".*", StringComparison.Ordinal).Replace("\\?", ".", StringComparison.Ordinal) + "$",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant | RegexOptions.Singleline | RegexOptions.NonBacktracking);
}

/// <summary>What is asked of the raw reading itself; answered yes or no, never cannot tell.</summary>
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
    public override Answer Ask(Machine machine, Use use)
    {
        var reading = machine.Find(Key.Name);
        var holds = Question switch
        {
            RawQuestion.Known => reading is { State: not ReadingState.Unreadable },
            RawQuestion.Absent => reading is { State: ReadingState.Absent },
            _ => reading is null || reading.Seen < use.Now - Age,
        };
        DateTimeOffset? until = Question == RawQuestion.OlderThan && !holds && reading!.Seen < DateTimeOffset.MaxValue - Age ? reading.Seen + Age : null;
        var value = holds ? Kleene.Yes : Kleene.No;
        return new(value, [new(Text, Key.Name, value, reading, null)], until);
    }
}
