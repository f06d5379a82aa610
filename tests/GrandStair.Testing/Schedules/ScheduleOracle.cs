using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using NodaTime;

namespace GrandStair.Testing.Schedules;

/// <summary>A slot that a machine was given.</summary>
/// <param name="Of">What was asked for.</param>
/// <param name="Slot">The slot.</param>
/// <param name="IsNew">Whether it was given by what is checked; another only takes room.</param>
public sealed record GivenSlot(SlotRequest Of, Slot Slot, bool IsNew = true);

/// <summary>A plan with the slots of its machines.</summary>
public sealed record GivenPlan(Plan Plan, IReadOnlyList<GivenSlot> Slots);

/// <summary>Finds out what slots break, from the plans' texts and the clock on the wall alone, apart from how slots are placed.</summary>
public static class ScheduleOracle
{
    /// <summary>What the slots of some plans break together, a sentence each; empty where they break nothing.</summary>
    /// <param name="plans">The plans. They share sites, uplinks, crews and clusters; where they say different numbers, the lower one counts
    /// while both have machines there.</param>
    /// <param name="from">Since when slots can begin.</param>
    public static IEnumerable<string> Broken(IReadOnlyList<GivenPlan> plans, DateTimeOffset from)
    {
        ArgumentNullException.ThrowIfNull(plans);
        return plans
            .SelectMany(p => p.Slots.Where(s => s.IsNew).SelectMany(s => BrokenAlone(p.Plan, s.Of, s.Slot, from)))
            .Concat(BrokenOrder(plans))
            .Concat(BrokenLimits(plans))
            .Concat(BrokenDays(plans))
            .Concat(BrokenUplinks(plans));
    }

    private static IEnumerable<string> BrokenAlone(Plan plan, SlotRequest of, Slot slot, DateTimeOffset from)
    {
        if (slot.Start < from || slot.Start < (of.NotBefore ?? from))
            yield return $"{of.Name} begins too early";
        if (slot.End - slot.Start != of.Lasts)
            yield return $"{of.Name} does not last as long as it has to";
        for (var t = slot.Start; t < slot.End + of.RollbackLasts; t = t.AddMinutes(1))
        {
            if (!IsOpen(plan, of, t))
                yield return $"{of.Name} runs at {t:u}, when it may not be touched";
        }

        if (!IsOpen(plan, of, slot.LatestTurn + of.AfterPointOfNoReturn + of.RollbackLasts - TimeSpan.FromMinutes(1)))
            yield return $"{of.Name} may turn too late";
        if ((of.Crew is null) != (slot.Crew is null))
            yield return $"{of.Name} has no crew, or one that it does not need";
        if (slot.Crew is not { } crew)
            yield break;
        var spec = plan.Crews.Single(c => c.Name == crew);
        if (spec.Kind != of.Crew || (!spec.Sites.IsEmpty && !spec.Sites.Contains(of.Site)))
            yield return $"crew {crew} does not serve {of.Name}";
        for (var t = slot.Start; t < slot.End; t = t.AddMinutes(1))
        {
            if (!InWeek(spec.When, t))
                yield return $"crew {crew} does not work at {t:u}";
        }
    }

    private static IEnumerable<string> BrokenOrder(IReadOnlyList<GivenPlan> plans)
    {
        var all = plans.SelectMany(p => p.Slots).ToArray();
        var ends = all.ToDictionary(s => s.Of.Machine, s => s.Slot.End);
        foreach (var (of, slot, _) in all.Where(s => s.IsNew))
        {
            foreach (var before in of.After)
            {
                if (!ends.TryGetValue(before.Machine, out var end))
                    yield return $"{of.Name} goes before {before.Name}, which has no slot";
                else if (end > slot.Start)
                    yield return $"{of.Name} goes before {before.Name}";
            }
        }
    }

    private static IEnumerable<string> BrokenLimits(IReadOnlyList<GivenPlan> plans)
    {
        var all = plans.SelectMany(p => p.Slots.Select(s => (p.Plan, s.Of, s.Slot))).ToArray();
        // There are never more at once than at a moment at which one begins.
        foreach (var moment in all.Select(s => s.Slot.Start).Distinct())
        {
            var now = all.Where(s => s.Slot.Start <= moment && moment < s.Slot.End).ToArray();
            foreach (var plan in now.GroupBy(s => s.Plan.Name).Where(p => p.Count() > p.First().Plan.Limits.All))
                yield return $"{plan.Count()} of {plan.Key} at once at {moment:u}";
            foreach (var site in now.GroupBy(s => s.Of.Site).Where(g => g.Count() > g.Min(s => s.Plan.Limits.Site)))
                yield return $"{site.Count()} at once at {site.Key} at {moment:u}";
            foreach (var cluster in now.Where(s => s.Of.Cluster is not null).GroupBy(s => s.Of.Cluster).Where(g => g.Count() > 1))
                yield return $"{cluster.Count()} of cluster {cluster.Key} at once at {moment:u}";
            foreach (
                var crew in now.Where(s => s.Slot.Crew is not null)
                    .GroupBy(s => s.Slot.Crew!)
                    .Where(g => g.Count() > g.Min(s => CrewOf(s.Plan, g.Key).Hands))
            )
                yield return $"crew {crew.Key} has {crew.Count()} at once at {moment:u}";
        }
    }

    private static IEnumerable<string> BrokenDays(IReadOnlyList<GivenPlan> plans) =>
        plans
            .SelectMany(p => p.Slots.Where(s => s.Slot.Crew is not null).Select(s => (Crew: CrewOf(p.Plan, s.Slot.Crew!), s.Slot)))
            .GroupBy(s => (s.Crew.Name, Local(s.Crew.When.Zone, s.Slot.Start).Date))
            .Where(day => day.Count() > (day.Min(s => s.Crew.PerDay) ?? int.MaxValue))
            .Select(day => $"crew {day.Key.Name} has {day.Count()} appointments on {day.Key.Date:yyyy-MM-dd}");

    /// <summary>An uplink stages one machine at a time, from when a slot says, in its hours, and is through when the slot begins.</summary>
    private static IEnumerable<string> BrokenUplinks(IReadOnlyList<GivenPlan> plans)
    {
        var staged = new List<(string Site, string Name, DateTimeOffset From, DateTimeOffset To)>();
        foreach (var (plan, slots) in plans)
        {
            foreach (var (of, slot, isNew) in slots.Where(s => s.Of.Stages > 0))
            {
                if (plan.Uplinks.FirstOrDefault(l => l.Sites.Contains(of.Site)) is not { } uplink)
                    continue;
                if (slot.StageFrom is not { } from)
                {
                    if (isNew)
                        yield return $"{of.Name} is not staged";
                    continue;
                }

                var through = Through(uplink, of.Stages, from, slot.Start);
                if (through is null)
                    yield return $"{of.Name} is staged from {from:u} and not through at {slot.Start:u}";
                staged.Add((of.Site, of.Name, from, through ?? slot.Start));
            }
        }

        foreach (var site in staged.GroupBy(s => s.Site))
        {
            var inOrder = site.OrderBy(s => s.From).ToArray();
            foreach (var (first, second) in inOrder.Zip(inOrder.Skip(1)).Where(s => s.Second.From < s.First.To - TimeSpan.FromSeconds(1)))
                yield return $"{first.Name} and {second.Name} are staged at once at {site.Key}: one until {first.To:u}, the other from "
                    + $"{second.From:u}";
        }
    }

    /// <summary>When so many bytes are through that begin at a moment, minute by minute; null where that is after another moment.</summary>
    private static DateTimeOffset? Through(UplinkSpec uplink, double bytes, DateTimeOffset from, DateTimeOffset by)
    {
        var t = from;
        while (t <= by)
        {
            // Hours change at full minutes.
            var next = new DateTimeOffset(
                (t.Ticks / TimeSpan.TicksPerMinute * TimeSpan.TicksPerMinute) + TimeSpan.TicksPerMinute,
                TimeSpan.Zero
            );
            var able = uplink.Hours is null || InWeek(uplink.Hours, t) ? (next - t).TotalMinutes * uplink.BytesPerMinute : 0;
            if (able >= bytes - 1)
                return t + TimeSpan.FromMinutes(bytes / uplink.BytesPerMinute) is var end && end <= by + TimeSpan.FromSeconds(1)
                    ? end
                    : null;
            bytes -= able;
            t = next;
        }

        return null;
    }

    private static CrewSpec CrewOf(Plan plan, string name) => plan.Crews.Single(c => c.Name == name);

    private static bool IsOpen(Plan plan, SlotRequest of, DateTimeOffset t)
    {
        var windows = plan.Windows.Where(w => w.For.Groups.Contains(of.Group)).ToArray();
        if (windows.Length == 0)
            windows = [.. plan.Windows.Where(w => w.For.Sites.Contains(of.Site))];
        if (windows.Length == 0)
            windows = [.. plan.Windows.Where(w => w.For.IsEveryone)];
        var closed = plan.Freezes.Where(c => c.For.IsEveryone || c.For.Sites.Contains(of.Site) || c.For.Groups.Contains(of.Group));
        return windows.Any(w => InWeek(w.When, t))
            && !closed.Any(c =>
                InWeek(c.When, t)
                || c.When.Days.Any(d => DateOnly.FromDateTime(Local(c.When.Zone, t)) is var day && day >= d.First && day <= d.Last)
            );
    }

    private static DateTime Local(string zone, DateTimeOffset t) =>
        Instant.FromDateTimeOffset(t).InZone(DateTimeZoneProviders.Tzdb[zone]).LocalDateTime.ToDateTimeUnspecified();

    private static bool InWeek(TimeRule rule, DateTimeOffset t)
    {
        var local = Local(rule.Zone, t);
        var time = TimeOnly.FromDateTime(local);
        return rule.Weekly.Any(r =>
            r.To > r.From
                ? r.Days.Contains(local.DayOfWeek) && time >= r.From && time < r.To
                : (r.Days.Contains(local.DayOfWeek) && time >= r.From) || (r.Days.Contains(local.AddDays(-1).DayOfWeek) && time < r.To)
        );
    }
}
