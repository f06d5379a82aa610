using System.Collections.Immutable;

namespace GrandStair.Core.Scheduling;

/// <summary>The effect of beginning a machine at a certain time.</summary>
/// <param name="Slot">The slot that it would have; null where something is in the way.</param>
/// <param name="InTheWay">All that is in the way, each in a few words; empty where nothing is.</param>
public sealed record SlotTrial(Slot? Slot, ImmutableArray<string> InTheWay)
{
    /// <summary>Times that are offered begin at full multiples of this where they can.</summary>
    private static readonly TimeSpan Round = TimeSpan.FromMinutes(15);

    /// <summary>Tries a time, to the minute, among slots that stay as they are.</summary>
    /// <param name="case">The one machine that wants a slot, and the slots that stay.</param>
    /// <param name="start">When it is to begin, UTC.</param>
    public static SlotTrial At(ScheduleCase @case, DateTimeOffset start) => new Trying(@case).At(start);

    /// <summary>
    /// The times that are free between two moments, the earliest first, each at least <paramref name="apart"/> after the one before.
    /// </summary>
    /// <param name="case">The one machine that wants a slot, and the slots that stay.</param>
    /// <param name="from">The earliest begin, UTC.</param>
    /// <param name="to">The latest begin, UTC.</param>
    /// <param name="apart">How far apart times are.</param>
    /// <param name="most">How many are returned at most.</param>
    public static ImmutableArray<Slot> Times(ScheduleCase @case, DateTimeOffset from, DateTimeOffset to, TimeSpan apart, int most)
    {
        var trying = new Trying(@case);
        var times = ImmutableArray.CreateBuilder<Slot>();
        while (times.Count < most && trying.Next(from) is { } next && next <= to)
        {
            // People make appointments for 21:15, not for 21:07.
            var later = new DateTimeOffset((next.Ticks + Round.Ticks - 1) / Round.Ticks * Round.Ticks, TimeSpan.Zero);
            var slot = (later <= to ? trying.At(later).Slot : null) ?? trying.At(next).Slot;
            if (slot is not null)
                times.Add(slot);
            from = (slot?.Start ?? next) + apart;
        }

        return times.ToImmutable();
    }

    private sealed class Trying
    {
        private readonly ScheduleProblem _problem;
        private readonly Board _board;
        private readonly Job _job;
        private readonly SlotRequest _asked;
        private readonly IReadOnlyList<TakenSlot> _taken;

        public Trying(ScheduleCase @case)
        {
            ArgumentNullException.ThrowIfNull(@case);
            _asked = @case.Requests.Single();
            // What it depends on is reported by name below.
            _problem = new(@case with { Requests = [_asked with { Stands = null, After = [] }] });
            _board = new(_problem);
            _job = _problem.Jobs[0];
            _taken = @case.Taken;
        }

        public SlotTrial At(DateTimeOffset start)
        {
            var at = _problem.MinuteAfter(start);
            ImmutableArray<string> inTheWay = [.. _board.InTheWay(_job, at), .. Order(at)];
            return inTheWay.IsEmpty ? new(_board.SlotAt(_job, at), inTheWay) : new(null, inTheWay);
        }

        /// <summary>
        /// The first moment from one on at which all but the order of machines and the uplink leave room; null where there is none.
        /// </summary>
        public DateTimeOffset? Next(DateTimeOffset from) =>
            _board.NextRoom(_job, _problem.MinuteAfter(from)) is var at and >= 0 ? _problem.At(at) : null;

        private IEnumerable<string> Order(int at)
        {
            var (start, end) = (_problem.At(at), _problem.At(at + _job.Lasts));
            foreach (var before in _asked.After.Where(a => _taken.All(t => t.Of.Machine != a.Machine)))
                yield return $"it depends on {before.Name}, which has no slot";
            foreach (var (of, slot) in _taken)
            {
                if (_asked.After.Any(a => a.Machine == of.Machine) && slot.End > start)
                    yield return $"it goes after {of.Name}, whose slot ends {slot.End:yyyy-MM-dd HH:mm} UTC";
                if (of.After.Any(a => a.Machine == _asked.Machine) && slot.Start < end)
                    yield return $"{of.Name} goes after it, and begins {slot.Start:yyyy-MM-dd HH:mm} UTC";
            }
        }
    }
}
