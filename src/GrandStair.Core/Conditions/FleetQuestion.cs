using System.Numerics;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Runtime.Intrinsics;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Conditions;

/// <summary>What a condition says of every machine of a fleet.</summary>
/// <param name="Values">The answer by row of the fleet.</param>
/// <param name="Until">When one of them may change by readings growing older alone; null where none will. UTC.</param>
public sealed record FleetAnswer(Kleene[] Values, DateTimeOffset? Until);

/// <summary>
/// Asks conditions of a whole fleet by its columns. The answers are the same as <see cref="Condition.Ask"/> gives machine by machine;
/// why is asked there.
/// </summary>
public static class FleetQuestion
{
    private const byte No = (byte)Kleene.No;
    private const byte Unknown = (byte)Kleene.Unknown;
    private const byte Yes = (byte)Kleene.Yes;

    /// <summary>By eight bits, the same as eight bytes of 0 or 1.</summary>
    private static readonly ulong[] Spread =
    [
        .. Enumerable
            .Range(0, 256)
            .Select(bits => Enumerable.Range(0, 8).Aggregate(0UL, (bytes, i) => bytes | ((ulong)((bits >> i) & 1) << (i * 8)))),
    ];

    /// <summary>Asks every machine.</summary>
    /// <param name="condition">What is asked.</param>
    /// <param name="fleet">The fleet.</param>
    /// <param name="context">How readings are looked at.</param>
    /// <param name="supposed">What is supposed of all machines under some keys, in place of their own readings; null for nothing.</param>
    public static FleetAnswer Ask(Condition condition, FleetColumns fleet, EvaluationContext context, IReadable? supposed = null)
    {
        ArgumentNullException.ThrowIfNull(fleet);
        var until = long.MaxValue;
        var values = Ask(condition, fleet, context, supposed, ref until);
        return new(MemoryMarshal.Cast<byte, Kleene>(values).ToArray(), until == long.MaxValue ? null : new(until, TimeSpan.Zero));
    }

    internal static byte[] Ask(Condition condition, FleetColumns fleet, EvaluationContext context, IReadable? supposed, ref long until)
    {
        switch (condition)
        {
            case All all:
                return Join(all.Parts, fleet, context, supposed, Vector.Min, Math.Min, ref until);
            case Any any:
                return Join(any.Parts, fleet, context, supposed, Vector.Max, Math.Max, ref until);
            case Not not:
                var values = Ask(not.Part, fleet, context, supposed, ref until);
                for (var i = 0; i < values.Length; i++)
                    values[i] = (byte)(Yes - values[i]);
                return values;
            default:
                return Leaf(condition, fleet, context, supposed, ref until);
        }
    }

    private static byte[] Join(
        IReadOnlyList<Condition> parts,
        FleetColumns fleet,
        EvaluationContext context,
        IReadable? supposed,
        Func<Vector<byte>, Vector<byte>, Vector<byte>> join,
        Func<byte, byte, byte> joinOne,
        ref long until
    )
    {
        var values = Ask(parts[0], fleet, context, supposed, ref until);
        foreach (var part in parts.Skip(1))
        {
            var others = Ask(part, fleet, context, supposed, ref until);
            var i = 0;
            for (; i <= values.Length - Vector<byte>.Count; i += Vector<byte>.Count)
                join(new(values, i), new(others, i)).CopyTo(values, i);
            for (; i < values.Length; i++)
                values[i] = joinOne(values[i], others[i]);
        }

        return values;
    }

    private static byte[] Leaf(Condition condition, FleetColumns fleet, EvaluationContext context, IReadable? supposed, ref long until)
    {
        var key = condition.Keys.First();
        var values = new byte[fleet.Count];
        if (supposed?.Find(key) is not null)
        {
            var answer = condition.Ask(supposed, context);
            Lower(ref until, answer.Until);
            Array.Fill(values, (byte)answer.Value);
            return values;
        }

        if (fleet.Find(key) is not { } column)
        {
            Array.Fill(
                values,
                condition is AsksRaw raw
                    ? raw.Question == RawQuestion.OlderThan
                        ? Yes
                        : No
                    : Unknown
            );
            return values;
        }

        switch (condition)
        {
            case AsksRaw raw:
                Raw(raw, column, context, values, ref until);
                break;
            case Has has:
                Coded(column, TableAnswers(has, column, context, ref until), context, values, ref until);
                break;
            case Compares compares when column.Amount.Length > 0:
                Amounts(compares, column, context, values, ref until);
                break;
            case Compares compares:
                Coded(column, [.. column.Values.Select(v => compares.Holds(v, context.Now) ? Yes : No)], context, values, ref until);
                break;
            default:
                throw new InvalidOperationException($"Unknown condition {condition.GetType().Name}.");
        }

        return values;
    }

    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void Raw(AsksRaw raw, FleetColumn column, EvaluationContext context, byte[] values, ref long until)
    {
        var state = column.State;
        var seen = column.Seen;
        var limit = context.Now.UtcTicks - raw.Age.Ticks;
        var soonest = long.MaxValue;
        for (var i = 0; i < values.Length; i++)
        {
            var s = i < state.Length ? state[i] : FleetColumn.Never;
            var holds = raw.Question switch
            {
                RawQuestion.Known => s is (byte)(ReadingState.Value + 1) or (byte)(ReadingState.Absent + 1),
                RawQuestion.Absent => s == (byte)(ReadingState.Absent + 1),
                _ => s == FleetColumn.Never || seen[i] < limit,
            };
            values[i] = holds ? Yes : No;
            if (raw.Question == RawQuestion.OlderThan && !holds && seen[i] < soonest)
                soonest = seen[i];
        }

        Lower(ref until, soonest, raw.Age);
    }

    /// <summary>One answer for each distinct row, and from these one for each distinct table.</summary>
    private static byte[] TableAnswers(Has has, FleetColumn column, EvaluationContext context, ref long until)
    {
        // When the table itself was seen is seen to where each machine's own reading is.
        var reading = Reading.Of(has.Key.Name, ReadingValue.Of([]), context.Now, context.Now, "");
        var rows = new List<byte>();
        foreach (var row in column.DistinctRows)
        {
            var answer = has.Row.Ask(new RowReadings(row, has.Key, reading), context with { MaxAge = null });
            Lower(ref until, answer.Until);
            rows.Add((byte)answer.Value);
        }

        return [.. column.Tables.Select(t => t.Length == 0 ? No : t.Max(r => rows[r]))];
    }

    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void Coded(FleetColumn column, byte[] answers, EvaluationContext context, byte[] values, ref long until)
    {
        var state = column.State;
        var code = column.Code;
        for (var i = 0; i < values.Length; i++)
        {
            var s = i < state.Length ? state[i] : FleetColumn.Never;
            values[i] =
                s == (byte)(ReadingState.Value + 1) ? answers[code[i]]
                : s == (byte)(ReadingState.Absent + 1) ? No
                : Unknown;
        }

        Stale(column, context, values, ref until);
    }

    private static void Amounts(Compares compares, FleetColumn column, EvaluationContext context, byte[] values, ref long until)
    {
        Array.Fill(values, Unknown);
        var (inside, outside) = compares.IsNegated ? (No, Yes) : (Yes, No);
        // One byte for each state and for whether the amount lies inside, so that the loop has no branches.
        var answers = Packed(Unknown, Unknown, outside, inside, No, No, Unknown, Unknown);
        var state = column.State;
        var amount = column.Amount;
        var ranges = compares.Ranges(context.Now);
        var length = Math.Min(values.Length, Math.Min(state.Length, amount.Length));
        if (ranges.Length == 1)
            InRange(state[..length], amount[..length], ranges[0].Low, ranges[0].High, answers, values);
        else
            InRanges(state[..length], amount[..length], ranges, answers, values);
        // Rows beyond the amounts have none: never seen, absent or unreadable.
        for (var i = length; i < Math.Min(values.Length, state.Length); i++)
            values[i] = (byte)(answers >> (state[i] * 16));

        foreach (var ago in compares.With.Select(l => l.Ago).OfType<TimeSpan>())
            Turns(column, ago, context, ref until);
        Stale(column, context, values, ref until);
    }

    private static ulong Packed(params ReadOnlySpan<byte> bytes)
    {
        var packed = 0UL;
        for (var i = 0; i < bytes.Length; i++)
            packed |= (ulong)bytes[i] << (i * 8);
        return packed;
    }

    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void InRange(
        ReadOnlySpan<byte> state,
        ReadOnlySpan<double> amount,
        double low,
        double high,
        ulong answers,
        Span<byte> values
    )
    {
        var i = 0;
        // Eight amounts at a time; each one's place in the table of answers is twice its state, and one more where it fits.
        var (least, most, table) = (Vector512.Create(low), Vector512.Create(high), Vector128.Create(answers, 0).AsByte());
        for (; i <= state.Length - Vector512<double>.Count; i += Vector512<double>.Count)
        {
            var eight = Vector512.Create(amount.Slice(i, Vector512<double>.Count));
            var fits = Spread[
                (int)(Vector512.GreaterThanOrEqual(eight, least) & Vector512.LessThanOrEqual(eight, most)).ExtractMostSignificantBits()
            ];
            var places = (MemoryMarshal.Read<ulong>(state[i..]) << 1) + fits;
            MemoryMarshal.Write(values[i..], Vector128.Shuffle(table, Vector128.Create(places, 0).AsByte()).AsUInt64().ToScalar());
        }

        for (; i < state.Length; i++)
        {
            var fits = amount[i] >= low & amount[i] <= high ? 8 : 0;
            values[i] = (byte)(answers >> ((state[i] * 16) + fits));
        }
    }

    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void InRanges(
        ReadOnlySpan<byte> state,
        ReadOnlySpan<double> amount,
        (double Low, double High)[] ranges,
        ulong answers,
        Span<byte> values
    )
    {
        for (var i = 0; i < state.Length; i++)
        {
            var fits = 0;
            foreach (var (low, high) in ranges)
                fits |= amount[i] >= low & amount[i] <= high ? 8 : 0;
            values[i] = (byte)(answers >> ((state[i] * 16) + fits));
        }
    }

    /// <summary>When a moment will be longer ago than it may be.</summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void Turns(FleetColumn column, TimeSpan ago, EvaluationContext context, ref long until)
    {
        var state = column.State;
        var seen = column.Seen;
        var amount = column.Amount;
        var limit = context.MaxAge is { } age ? context.Now.UtcTicks - age.Ticks : long.MinValue;
        // Of all moments that still turn the least turns first; so does the least of those that turn a second later.
        var just = (context.Now - ago - DateTimeOffset.UnixEpoch).TotalSeconds;
        var (soonest, later) = (double.PositiveInfinity, double.PositiveInfinity);
        for (var i = 0; i < amount.Length; i++)
        {
            if (state[i] != (byte)(ReadingState.Value + 1) || seen[i] < limit)
                continue;
            var at = amount[i];
            if (at > just)
                soonest = Math.Min(soonest, at);
            else if (at + 1 > just)
                later = Math.Min(later, at);
        }

        if (!double.IsPositiveInfinity(soonest))
            Lower(ref until, Compares.TurnOf(soonest, ago, context.Now));
        if (!double.IsPositiveInfinity(later))
            Lower(ref until, Compares.TurnOf(later, ago, context.Now));
    }

    /// <summary>What is older than this use allows is unknown.</summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void Stale(FleetColumn column, EvaluationContext context, byte[] values, ref long until)
    {
        if (context.MaxAge is not { } age)
            return;
        var limit = context.Now.UtcTicks - age.Ticks;
        var soonest = long.MaxValue;
        var length = Math.Min(values.Length, column.Seen.Length);
        var state = column.State[..length];
        var seen = column.Seen[..length];
        var told = values.AsSpan(0, length);
        for (var i = 0; i < seen.Length; i++)
        {
            var at = seen[i];
            if (at < limit)
                told[i] = Unknown;
            else if (at < soonest && state[i] is (byte)(ReadingState.Value + 1) or (byte)(ReadingState.Absent + 1))
                soonest = at;
        }

        Lower(ref until, soonest, age);
    }

    private static void Lower(ref long until, long soonest, TimeSpan age)
    {
        if (soonest < DateTimeOffset.MaxValue.Ticks - age.Ticks)
            until = Math.Min(until, soonest + age.Ticks);
    }

    private static void Lower(ref long until, DateTimeOffset? other)
    {
        if (other is { } time)
            until = Math.Min(until, time.UtcTicks);
    }
}
