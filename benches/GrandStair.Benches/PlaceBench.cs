using System.Collections.Immutable;
using System.Diagnostics;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Testing.Schedules;

namespace GrandStair.Benches;

/// <summary>
/// Places a fleet over hundreds of sites with windows, freezes, limits, uplinks, crews and clusters; the baseline is a bound before which
/// no schedule at all can end.
/// </summary>
internal static class PlaceBench
{
    private const double Goal = 1.05;
    private static readonly TimeSpan MostFor100K = TimeSpan.FromSeconds(5);
    private static readonly DateTimeOffset From = new(2027, 3, 15, 8, 0, 0, TimeSpan.Zero);

    public static bool Run()
    {
        // csharpier-ignore
        Console.WriteLine(
            $"{"machines",10} {"sites",6} {"placed",9} {"took",9} {"per machine",12} {"end, days",10} {"bound, days",12} "
                + $"{"ratio",7}  what takes so long"
        );
        var ratio = 0.0;
        var within = true;
        SlotPlacer.Place(Case(200, 4));
        foreach (var count in new[] { 1_000, 10_000, 100_000 })
        {
            var @case = Case(count, Math.Max(4, count / 250));
            var begun = Stopwatch.GetTimestamp();
            var schedule = SlotPlacer.Place(@case);
            var took = Stopwatch.GetElapsedTime(begun);
            var placed = schedule.All.Count(p => p.Slot is not null);
            var (end, bound) = (schedule.End!.Value - From, schedule.Bound!.End - From);
            ratio = Math.Max(ratio, end / bound);
            within = placed == count && (count < 100_000 || took < MostFor100K);
            // csharpier-ignore
            Console.WriteLine(
                $"{count,10:N0} {count / 250,6:N0} {placed,9:N0} {took.TotalSeconds,7:0.00} s "
                    + $"{took.TotalMicroseconds / count,9:0} µs {end.TotalDays,10:0.00} {bound.TotalDays,12:0.00} "
                    + $"{end / bound,7:0.000}  {schedule.Bound.Why}"
            );
        }

        if (!within)
            Console.WriteLine($"100,000 machines took longer than {MostFor100K.TotalSeconds} s, or some found no place");
        return Result.Tell("place", ratio, Goal, lessIsBetter: true) && within;
    }

    /// <summary>
    /// Checks the slots of 200 pairs of plans that share sites, uplinks, crews and clusters, and what is advised to 500 late plans; the
    /// ratio is the share of what is wrong.
    /// </summary>
    public static bool Check()
    {
        const int Pairs = 200;
        var (bad, slots) = (0, 0);
        foreach (var seed in Enumerable.Range(1, Pairs))
        {
            var (broken, count) = SharedSchedules.Check(seed);
            slots += count;
            if (broken.Count == 0)
                continue;
            bad++;
            Console.WriteLine($"seed {seed}: {string.Join("; ", broken)}");
        }

        const int LatePlans = 500;
        var (wrong, advised) = (0, 0);
        foreach (var seed in Enumerable.Range(1, LatePlans))
        {
            var (found, count) = SharedSchedules.CheckAdvice(seed);
            advised += count;
            wrong += found.Count;
            foreach (var one in found)
                Console.WriteLine($"late plan {seed}: {one}");
        }

        Console.WriteLine($"{LatePlans} late plans, {advised:N0} changes advised, {wrong} not true or not the least");
        bad += wrong;
        Console.WriteLine($"{Pairs} pairs of plans, {slots:N0} slots checked at every minute, {bad - wrong} pairs with something broken");
        return Result.Tell("place", (double)bad / (Pairs + LatePlans), 0, lessIsBetter: true);
    }

    private static ScheduleCase Case(int count, int sites)
    {
        var draw = new Random(count);
        string[] zones = ["Europe/London", "Europe/Oslo", "America/St_Johns", "Pacific/Auckland", "Asia/Kolkata"];
        string[] weeks =
        [
            "Mon-Fri 19:30-04:30",
            "Mon,Wed,Fri 20:00-05:00",
            "Sat,Sun 06:00-20:00",
            "Tue,Thu,Sat 21:00-06:00",
            "Mon-Sun 23:00-05:00",
        ];
        var names = Enumerable.Range(0, sites).Select(i => $"site-{i}").ToArray();
        var rules = names
            .Select(_ => new TimeRule(zones[draw.Next(zones.Length)], [WeeklyRule.Parse(weeks[draw.Next(weeks.Length)])]))
            .ToArray();
        var plan = SamplePlan.Bare with
        {
            Windows = [.. names.Zip(rules, (n, r) => new WindowSpec(TargetSelector.At(n), r))],
            Freezes =
            [
                new(TargetSelector.Everyone, new("Europe/London", []) { Days = [DaySpan.Parse("2027-03-26..2027-03-29")] }, "holidays"),
                new(
                    TargetSelector.At([.. names.Take(sites / 10)]),
                    new("Europe/London", []) { Days = [DaySpan.Parse("2027-04-07")] },
                    "stocktaking"
                ),
            ],
            Limits = new(Math.Max(8, sites * 3), 6),
            Uplinks =
            [
                .. names
                    .Where((_, i) => i % 10 == 3)
                    .Select(n => new UplinkSpec([n], 40e6, 0.5, new("Europe/London", [WeeklyRule.Parse("Mon-Sun 20:00-06:00")]))),
            ],
            Crews =
            [
                .. names
                    .Where((_, i) => i % 8 == 1)
                    .Select((n, i) => new CrewSpec($"crew-{n}", "deck-it", 2, null, [n], rules[Array.IndexOf(names, n)])),
            ],
        };
        var requests = Enumerable
            .Range(0, count)
            .Select(i =>
            {
                var site = i % sites;
                var minutes = 35 + (draw.Next(5) * 20);
                return new SlotRequest(new(i + 1), names[site], TimeSpan.FromMinutes(minutes), TimeSpan.FromMinutes(minutes / 2))
                {
                    Name = $"m{i + 1}",
                    Group = "office",
                    RollbackLasts = TimeSpan.FromMinutes(25),
                    Stages = 4.2e9,
                    Crew = site % 8 == 1 && draw.Next(4) == 0 ? "deck-it" : null,
                    Cluster = draw.Next(50) == 0 ? $"cluster-{site}-{draw.Next(4)}" : null,
                };
            });
        return new(plan, ImmutableDictionary<string, ICalendar>.Empty, [.. requests], [], From);
    }
}
