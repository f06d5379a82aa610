using System.Diagnostics;
using System.Globalization;
using Google.OrTools.Sat;
using GrandStair.Core.Waves;

namespace GrandStair.Benches;

/// <summary>
/// Chooses pilots that cover every model, site and application, against the smallest that a general constraint solver finds for the same
/// fleets.
/// </summary>
internal static class PilotBench
{
    private const int Instances = 50;
    private const double Goal = 1.10;

    public static bool Run()
    {
        var worst = 0.0;
        int ours = 0,
            theirs = 0,
            verified = 0;
        var (took, solver) = (TimeSpan.Zero, TimeSpan.Zero);
        foreach (var instance in Enumerable.Range(0, Instances))
        {
            var fleet = Fleet(instance);
            var begun = Stopwatch.GetTimestamp();
            var chosen = Cover.Choose(fleet, new int[fleet.Length]).Length;
            took += Stopwatch.GetElapsedTime(begun);
            begun = Stopwatch.GetTimestamp();
            var (smallest, isVerified) = Solve(fleet);
            solver += Stopwatch.GetElapsedTime(begun);
            (ours, theirs, verified) = (ours + chosen, theirs + smallest, verified + (isVerified ? 1 : 0));
            worst = Math.Max(worst, (double)chosen / smallest);
        }

        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{Instances} fleets of 200 to 2,000 machines; {verified} of the solver's covers are verified to be the smallest"
            )
        );
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"machines in the pilots: ours {ours}, the solver's {theirs}; took {took.TotalMilliseconds / Instances:0} ms each, the "
                    + $"solver {solver.TotalMilliseconds / Instances:0} ms"
            )
        );
        return Result.Tell("pilot", worst, Goal, lessIsBetter: true);
    }

    /// <summary>What each machine has of models, sites, editions and applications: some common, many rare.</summary>
    private static int[][] Fleet(int instance)
    {
        var draw = new Random(instance);
        var (models, sites, apps) = (5 + draw.Next(20), 5 + draw.Next(40), 10 + draw.Next(60));
        int Skewed(int count) => (int)(count * Math.Pow(draw.NextDouble(), 2.5));
        return
        [
            .. Enumerable
                .Range(0, 200 + draw.Next(1800))
                .Select(_ =>
                    Enumerable
                        .Range(0, 2 + draw.Next(7))
                        .Select(_ => models + sites + Skewed(apps))
                        .Append(Skewed(models))
                        .Append(models + Skewed(sites))
                        .Distinct()
                        .ToArray()
                ),
        ];
    }

    private static (int Size, bool Verified) Solve(int[][] fleet)
    {
        var model = new CpModel();
        var taken = fleet.Select((_, i) => model.NewBoolVar($"m{i}")).ToArray();
        foreach (var value in fleet.SelectMany((has, i) => has.Select(v => (v, i))).GroupBy(x => x.v))
            model.AddBoolOr(value.Select(x => taken[x.i]));
        model.Minimize(LinearExpr.Sum(taken));
        var solver = new CpSolver { StringParameters = "max_time_in_seconds:10 num_workers:2 random_seed:1" };
        var status = solver.Solve(model);
        return ((int)Math.Round(solver.ObjectiveValue), status == CpSolverStatus.Optimal);
    }
}
