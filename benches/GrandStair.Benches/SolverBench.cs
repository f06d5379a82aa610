using System.Collections.Immutable;
using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using Google.OrTools.Sat;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Benches;

/// <summary>
/// Places small fleets, against the ends that a general constraint solver found for the same ones in 30 s. Its answers are kept beside this
/// file; <c>./bench solver anew</c> asks for those that are missing.
/// </summary>
internal static class SolverBench
{
    private const int Instances = 200;
    private const double MostMedian = 1.02;
    private const double MostWorst = 1.08;
    private const double SolverSeconds = 30;
    private static readonly DateTimeOffset From = new(2027, 3, 25, 8, 0, 0, TimeSpan.Zero);
    private static readonly TimeSpan Span = TimeSpan.FromDays(40);

    public static bool Run()
    {
        var answers = JsonSerializer.Deserialize<SortedDictionary<int, Answer>>(File.ReadAllText(AnswersFile))!;
        var ratios = new List<(int Instance, double Ratio)>();
        var took = TimeSpan.Zero;
        foreach (var instance in answers.Keys)
        {
            var @case = Case(instance);
            var begun = Stopwatch.GetTimestamp();
            var schedule = SlotPlacer.Place(@case);
            took += Stopwatch.GetElapsedTime(begun);
            if (schedule.All.Any(p => p.Slot is null))
                throw new InvalidOperationException($"In instance {instance} somebody found no place.");
            ratios.Add((instance, (schedule.End!.Value - From).TotalMinutes / answers[instance].End));
        }

        var sorted = ratios.Select(r => r.Ratio).Order().ToArray();
        var (median, worst) = (sorted[sorted.Length / 2], sorted[^1]);
        if (answers.Count < Instances)
            Console.WriteLine(
                $"The solver was asked for {answers.Count} of {Instances} instances so far; './bench solver anew' asks for the others."
            );
        Console.WriteLine(
            $"{answers.Count} instances of 10 to 60 machines; the solver verified {answers.Values.Count(a => a.Verified)} of its ends "
                + $"to be the earliest there are, within {SolverSeconds:0} s each"
        );
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"our end over the solver's: median {median:0.000} (goal {MostMedian:0.00}), 90 % "
                    + $"{sorted[sorted.Length * 9 / 10]:0.000}, worst {worst:0.000} (goal {MostWorst:0.00}, instance "
                    + $"{ratios.MaxBy(r => r.Ratio).Instance}); ours took {took.TotalMilliseconds / answers.Count:0} ms each"
            )
        );
        return Result.Tell("solver", Math.Max(median / MostMedian, worst / MostWorst), 1, lessIsBetter: true);
    }

    /// <summary>Asks the solver for the answers that are not kept yet; without the file for all of them.</summary>
    public static bool Anew()
    {
        var answers = File.Exists(AnswersFile)
            ? JsonSerializer.Deserialize<SortedDictionary<int, Answer>>(File.ReadAllText(AnswersFile))!
            : [];
        foreach (var instance in Enumerable.Range(0, Instances).Where(i => !answers.ContainsKey(i)))
        {
            answers[instance] = Solve(Case(instance));
            Console.WriteLine($"{instance}: {answers[instance]}");
            File.WriteAllText(AnswersFile, JsonSerializer.Serialize(answers).Replace("},\"", "},\n\"", StringComparison.Ordinal) + "\n");
        }

        return true;
    }

    private static string AnswersFile => Path.Combine(Path.GetDirectoryName(ThisFile())!, "solver-answers.json");

    private static string ThisFile([System.Runtime.CompilerServices.CallerFilePath] string path = "") => path;

    private static ScheduleCase Case(int instance)
    {
        var draw = new Random(1000 + instance);
        string[] zones = ["Europe/London", "America/St_Johns", "Pacific/Auckland", "UTC"];
        string[] weeks =
        [
            "Mon-Fri 19:30-04:30",
            "Mon,Wed,Fri 20:00-01:00",
            "Sat,Sun 06:00-20:00",
            "Tue,Thu,Sat 21:00-03:00",
            "Mon-Sun 23:00-05:00",
        ];
        var sites = Enumerable.Range(0, 1 + draw.Next(5)).Select(i => $"site-{i}").ToArray();
        var rules = sites
            .Select(_ => new TimeRule(zones[draw.Next(zones.Length)], [WeeklyRule.Parse(weeks[draw.Next(weeks.Length)])]))
            .ToArray();
        var plan = SamplePlan.Bare with
        {
            Windows = [.. sites.Zip(rules, (s, r) => new WindowSpec(TargetSelector.At(s), r))],
            Freezes =
                draw.Next(2) == 0
                    ? []
                    :
                    [
                        new(
                            TargetSelector.Everyone,
                            new("Europe/London", []) { Days = [DaySpan.Parse("2027-03-27..2027-03-28")] },
                            "holidays"
                        ),
                    ],
            Limits = new(1 + draw.Next(6), 1 + draw.Next(3)),
            Crews =
            [
                .. Enumerable
                    .Range(0, 1 + draw.Next(2))
                    .Select(i => new CrewSpec(
                        $"crew-{i}",
                        "deck-it",
                        1,
                        null,
                        [],
                        new("UTC", [WeeklyRule.Parse(i == 0 ? "Mon-Sun 00:00-00:00" : "Mon-Fri 18:00-06:00")])
                    )),
            ],
        };
        var requests = Enumerable
            .Range(0, 10 + draw.Next(51))
            .Select(i =>
            {
                var minutes = 20 + draw.Next(160);
                return new SlotRequest(
                    new(i + 1),
                    sites[draw.Next(sites.Length)],
                    TimeSpan.FromMinutes(minutes),
                    TimeSpan.FromMinutes(minutes / 2)
                )
                {
                    Name = $"m{i + 1:00}",
                    RollbackLasts = TimeSpan.FromMinutes(draw.Next(40)),
                    Crew = draw.Next(5) == 0 ? "deck-it" : null,
                    Cluster = draw.Next(8) == 0 ? $"pair-{draw.Next(3)}" : null,
                };
            });
        return new(plan, ImmutableDictionary<string, ICalendar>.Empty, [.. requests], [], From);
    }

    /// <summary>The same case as a model of intervals: each begins where its windows let it, and each limit is a resource.</summary>
    private static Answer Solve(ScheduleCase @case)
    {
        var model = new CpModel();
        var windows = new Core.Waves.Windows(@case.Plan, @case.Calendars, From, From + Span);
        var horizon = (long)Span.TotalMinutes;
        var end = model.NewIntVar(0, horizon, "end");
        var jobs = @case
            .Requests.Select(r =>
            {
                var lasts = (long)r.Lasts.TotalMinutes;
                var start = model.NewIntVarFromDomain(
                    Starts(windows.Of(r.Site, r.Group, r.Name), lasts + (long)r.RollbackLasts.TotalMinutes),
                    r.Name
                );
                model.Add(start + lasts <= end);
                return (Request: r, Start: start, Lasts: lasts, Interval: model.NewFixedSizeIntervalVar(start, lasts, r.Name));
            })
            .ToArray();
        Limit(jobs.Select(j => j.Interval), @case.Plan.Limits.All);
        foreach (var site in jobs.GroupBy(j => j.Request.Site))
            Limit(site.Select(j => j.Interval), @case.Plan.Limits.Site);
        foreach (var cluster in jobs.Where(j => j.Request.Cluster is not null).GroupBy(j => j.Request.Cluster))
            model.AddNoOverlap(cluster.Select(j => j.Interval));
        var booked = @case.Plan.Crews.ToDictionary(c => c.Name, _ => new List<IntervalVar>());
        foreach (var job in jobs.Where(j => j.Request.Crew is not null))
        {
            var chosen = new List<ILiteral>();
            foreach (var crew in @case.Plan.Crews)
            {
                var with = model.NewBoolVar($"{job.Request.Name} with {crew.Name}");
                model
                    .AddLinearExpressionInDomain(job.Start, Starts(crew.When.Joined(From, From + Span, @case.Calendars), job.Lasts))
                    .OnlyEnforceIf(with);
                booked[crew.Name]
                    .Add(model.NewOptionalFixedSizeIntervalVar(job.Start, job.Lasts, with, $"{job.Request.Name} by {crew.Name}"));
                chosen.Add(with);
            }

            model.AddExactlyOne(chosen);
        }

        foreach (var crew in @case.Plan.Crews)
            Limit(booked[crew.Name], crew.Hands);
        model.Minimize(end);
        var solver = new CpSolver
        {
            StringParameters = string.Create(
                CultureInfo.InvariantCulture,
                $"max_time_in_seconds:{SolverSeconds} num_workers:2 random_seed:1"
            ),
        };
        var status = solver.Solve(model);
        return status is CpSolverStatus.Optimal or CpSolverStatus.Feasible
            ? new((int)solver.Value(end), status == CpSolverStatus.Optimal)
            : throw new InvalidOperationException($"The solver found nothing: {status}");

        void Limit(IEnumerable<IntervalVar> intervals, int most)
        {
            var cumulative = model.AddCumulative(most);
            foreach (var interval in intervals)
                cumulative.AddDemand(interval, 1);
        }
    }

    private static Google.OrTools.Util.Domain Starts(IEnumerable<Stretch> open, long needs) =>
        Google.OrTools.Util.Domain.FromIntervals([
            .. open.Select(s =>
                    new[]
                    {
                        Math.Max(0, (long)Math.Ceiling((s.From - From).TotalMinutes)),
                        (long)Math.Floor((s.To - From).TotalMinutes) - needs,
                    }
                )
                .Where(s => s[0] <= s[1]),
        ]);

    private sealed record Answer(int End, bool Verified);
}
