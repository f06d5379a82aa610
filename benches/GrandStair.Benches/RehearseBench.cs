using System.Collections.Immutable;
using System.Diagnostics;
using System.Globalization;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;

namespace GrandStair.Benches;

/// <summary>
/// Rehearses fleets in three waves; the baseline is what one simulation of one machine takes in a fleet a tenth as large, in the same run.
/// </summary>
internal static class RehearseBench
{
    private const double Goal = 1.5;
    private static readonly TimeSpan MostFor10K = TimeSpan.FromSeconds(60);
    private static readonly DateTimeOffset From = new(2027, 3, 15, 8, 0, 0, TimeSpan.Zero);

    public static bool Run()
    {
        Rehearse(Case(200, 4), 8);
        // csharpier-ignore
        Console.WriteLine(
            $"{"machines",10} {"sites",6} {"draws",6} {"took",9} {"per simulation",12} {"memory",9}  half of the draws end by"
        );
        double first = 0,
            last = 0;
        var took = TimeSpan.Zero;
        foreach (var (machines, draws) in new[] { (1_000, 200), (10_000, 20), (10_000, 200) })
        {
            var @case = Case(machines, machines / 25);
            GC.Collect();
            var begun = Stopwatch.GetTimestamp();
            var forecast = Rehearse(@case, draws);
            took = Stopwatch.GetElapsedTime(begun);
            last = took.TotalMicroseconds / machines / draws;
            if (first == 0)
                first = last;
            var memory = Process.GetCurrentProcess().PeakWorkingSet64 / 1e6;
            // csharpier-ignore
            Console.WriteLine(
                $"{machines,10:N0} {machines / 25,6:N0} {draws,6} {took.TotalSeconds,7:0.0} s {last,9:0.0} µs {memory,6:0} MB  "
                    + $"{forecast.Verified.P50:yyyy-MM-dd HH:mm} ({forecast.NotVerified.P50:0} not verified)"
            );
        }

        if (took > MostFor10K)
            Console.WriteLine(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"10,000 machines took {took.TotalSeconds:0.0} s, longer than {MostFor10K.TotalSeconds} s"
                )
            );
        return Result.Tell("rehearse", last / first, Goal, lessIsBetter: true) && took <= MostFor10K;
    }

    private static Forecast Rehearse(RehearsalCase @case, int draws) =>
        Rehearsal.Run(@case, new(Measured()), new(draws, 7, TimeSpan.FromDays(4)), null, CancellationToken.None);

    private static RehearsalCase Case(int count, int sites)
    {
        var draw = new Random(count);
        string[] weeks = ["Mon-Fri 19:30-04:30", "Mon,Wed,Fri 20:00-05:00", "Tue,Thu,Sat 21:00-06:00", "Mon-Sun 23:00-05:00"];
        var names = Enumerable.Range(0, sites).Select(i => $"site-{i}").ToArray();
        var plan = SamplePlan.Bare with
        {
            Waves = [new("Pilot", null, null), new("Early", null, null), new("Rest", null, null)],
            Windows =
            [
                .. names.Select(
                    (n, i) => new WindowSpec(TargetSelector.At(n), new("Europe/London", [WeeklyRule.Parse(weeks[i % weeks.Length])]))
                ),
            ],
            Limits = new(Math.Max(8, sites * 3), 4),
            Crews =
            [
                .. names
                    .Where((_, i) => i % 8 == 1)
                    .Select(n => new CrewSpec(
                        $"crew-{n}",
                        "deck-it",
                        2,
                        null,
                        [n],
                        new("Europe/London", [WeeklyRule.Parse("Mon-Sun 18:00-08:00")])
                    )),
            ],
            Advance = new(0.9, count / 20, TimeSpan.FromDays(3)),
            Deadline = new(2027, 4, 30),
        };
        var machines = Enumerable
            .Range(0, count)
            .Select(i => new RehearsedMachine(
                new(new(i + 1), names[i % sites], TimeSpan.FromMinutes(58), TimeSpan.FromMinutes(46))
                {
                    Name = $"m{i + 1}",
                    Group = "office",
                    RollbackLasts = TimeSpan.FromMinutes(42),
                    Crew = i % sites % 8 == 1 && draw.Next(4) == 0 ? "deck-it" : null,
                    Cluster = draw.Next(50) == 0 ? $"cluster-{i % sites}-{draw.Next(4)}" : null,
                },
                i < count / 50 ? 0
                    : i < count / 4 ? 1
                    : 2,
                [Leg]
            )
            {
                Model = $"model-{draw.Next(8)}",
                Ready = draw.Next(20) > 0,
            });
        return new(plan, ImmutableDictionary<string, ICalendar>.Empty, [.. machines], [default, default, default], From);
    }

    /// <summary>As if a hundred machines had gone already.</summary>
    private static Measurements Measured()
    {
        var draw = new Random(3);
        return new(
            [
                .. Enumerable
                    .Range(0, 100)
                    .SelectMany(i =>
                        Leg.Steps.Select(s => new MeasuredStep(
                            new(Leg.Hop, Leg.Method, s.Name),
                            $"model-{i % 8}",
                            "site-0",
                            false,
                            draw.Next(30) == 0 ? OrderResult.Failed : OrderResult.Ok,
                            s.Typical * (0.7 + draw.NextDouble())
                        ))
                    ),
            ],
            [],
            []
        );
    }

    private static LegSpec Leg { get; } =
        new(
            "6-to-7",
            "image",
            [
                Step("clean", Phase.Stage, 4),
                Step("fetch", Phase.Stage, 25),
                Step("save", Phase.Protect, 5),
                Step("suspend", Phase.Protect, 1),
                Step("apply", Phase.Apply, 38) with
                {
                    PointOfNoReturn = true,
                    Attempts = 2,
                },
                Step("restart", Phase.Apply, 4),
                Step("look", Phase.Verify, 5),
            ],
            [Step("back", Phase.RollBack, 38), Step("restart-back", Phase.RollBack, 4)],
            TimeSpan.FromDays(10),
            TimeSpan.FromMinutes(46)
        );

    private static StepSpec Step(string name, Phase phase, int minutes) =>
        new(name, name, phase, StepKind.Script, name, TimeSpan.FromMinutes(minutes), TimeSpan.FromMinutes(minutes * 8));
}
