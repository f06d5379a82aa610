using System.Collections.Immutable;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Waves;

/// <summary>A machine that wants a slot.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Site">Its site.</param>
/// <param name="Lasts">How long the slot usually lasts.</param>
/// <param name="AfterTurningPoint">How much of that comes after the turning point.</param>
public sealed record SlotRequest(MachineId Machine, string Site, TimeSpan Lasts, TimeSpan AfterTurningPoint);

/// <summary>A slot, or why there is none.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Slot">Its slot; null where none was found.</param>
/// <param name="Why">What kept it out; null where there is a slot.</param>
public sealed record Placed(MachineId Machine, Slot? Slot, string? Why);

/// <summary>Gives machines their slots by list scheduling: in the given order, each the earliest time that its windows and the limits leave.</summary>
public static class SlotPlacer
{
    /// <summary>How far ahead slots are looked for.</summary>
    public static readonly TimeSpan Horizon = TimeSpan.FromDays(120);

    /// <summary>Slots begin at full multiples of this.</summary>
    public static readonly TimeSpan Grain = TimeSpan.FromMinutes(1);

    /// <summary>Places the requests in their order.</summary>
    /// <param name="plan">The plan with its windows and limits.</param>
    /// <param name="requests">Who wants a slot; the earlier takes the earlier time.</param>
    /// <param name="taken">Slots that stand already, with their sites.</param>
    /// <param name="from">No slot begins before this, UTC.</param>
    public static ImmutableArray<Placed> Place(Plan plan, IEnumerable<SlotRequest> requests, IEnumerable<(string Site, Slot Slot)> taken, DateTimeOffset from)
    {
        ArgumentNullException.ThrowIfNull(plan);
        var all = taken.ToList();
        var windows = new Dictionary<string, ImmutableArray<Stretch>>(StringComparer.OrdinalIgnoreCase);
        var placed = ImmutableArray.CreateBuilder<Placed>();
        foreach (var request in requests)
        {
            if (!windows.TryGetValue(request.Site, out var open))
                windows[request.Site] = open = Windows.Of(plan, request.Site, from, from + Horizon);
            var found = PlaceOne(plan, request, open, all, from);
            placed.Add(found);
            if (found.Slot is { } slot) all.Add((request.Site, slot));
        }

        return placed.ToImmutable();
    }

    private static Placed PlaceOne(Plan plan, SlotRequest request, ImmutableArray<Stretch> open, List<(string Site, Slot Slot)> taken, DateTimeOffset from)
    {
        if (open.IsEmpty) return new(request.Machine, null, $"no window of site '{request.Site}' within {Horizon.TotalDays:0} days");
        var longest = open.Max(w => w.To - w.From);
        if (longest < request.Lasts)
            return new(request.Machine, null, $"it takes {request.Lasts.TotalMinutes:0} min, and the longest window of site '{request.Site}' is {longest.TotalMinutes:0} min");

        foreach (var window in open)
        {
            var earliest = RoundUp(window.From > from ? window.From : from);
            var latest = window.To - request.Lasts;
            // A better start than the earliest can only be where something else ends.
            var starts = taken.Select(t => RoundUp(t.Slot.End)).Where(e => e > earliest && e <= latest).Prepend(earliest).Where(s => s <= latest).Distinct().Order();
            foreach (var start in starts)
            {
                if (!Fits(plan.Limits, request, start, taken)) continue;
                return new(request.Machine, new(start, start + request.Lasts, window.To - request.AfterTurningPoint), null);
            }
        }

        return new(request.Machine, null, $"the limits ({plan.Limits.All} at once, {plan.Limits.Site} at one site) leave no room within {Horizon.TotalDays:0} days");
    }

    private static bool Fits(Limits limits, SlotRequest request, DateTimeOffset start, List<(string Site, Slot Slot)> taken)
    {
        var end = start + request.Lasts;
        var overlapping = taken.Where(t => t.Slot.Start < end && t.Slot.End > start).ToArray();
        // The number under way changes only where a slot begins.
        foreach (var moment in overlapping.Select(t => t.Slot.Start).Where(s => s > start).Append(start))
        {
            var now = overlapping.Where(t => t.Slot.Start <= moment && t.Slot.End > moment).ToArray();
            if (now.Length >= limits.All) return false;
            if (now.Count(t => t.Site.Equals(request.Site, StringComparison.OrdinalIgnoreCase)) >= limits.Site) return false;
        }

        return true;
    }

    private static DateTimeOffset RoundUp(DateTimeOffset time)
    {
        var over = time.Ticks % Grain.Ticks;
        return over == 0 ? time : time + (Grain - TimeSpan.FromTicks(over));
    }
}
