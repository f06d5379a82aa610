namespace GrandStair.Core.Rehearsals;

/// <summary>How a case is rehearsed.</summary>
/// <param name="Draws">How often, at least 1.</param>
/// <param name="Seed">The seed of the draws: the same seed gives the same forecast.</param>
/// <param name="Fixing">How long after its wave begins a machine that is not ready is usually made ready; null where none is.</param>
public sealed record RehearsalSettings(int Draws, ulong Seed, TimeSpan? Fixing)
{
    /// <summary>What is taken where nothing is said.</summary>
    public static RehearsalSettings Usual { get; } = new(200, 1, TimeSpan.FromDays(4));

    /// <summary>How many processors it may use; 0 for all.</summary>
    public int Processors { get; init; }
}

/// <summary>Rehearses whole plans in simulated time, often enough to tell how far the end may be off.</summary>
public static class Rehearsal
{
    /// <summary>How many machines that may be late are listed by name.</summary>
    public const int MostLate = 200;

    /// <summary>In how many steps the verified share is given.</summary>
    private const int Steps = 40;

    /// <summary>Rehearses a case.</summary>
    /// <param name="case">What is rehearsed.</param>
    /// <param name="experience">What machines and people are like, as far as it was measured.</param>
    /// <param name="settings">How often, and from which seed.</param>
    /// <param name="progress">Called after each draw with the number that are done, from several threads at once. Null for none.</param>
    /// <param name="stop">Ends it.</param>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    public static Forecast Run(
        RehearsalCase @case,
        Experience experience,
        RehearsalSettings settings,
        Action<int>? progress,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(@case);
        ArgumentNullException.ThrowIfNull(experience);
        ArgumentNullException.ThrowIfNull(settings);
        var prepared = new Prepared(@case);
        var sums = new ForecastSums(prepared, settings.Draws, Steps);
        var done = 0;
        var options = new ParallelOptions
        {
            CancellationToken = stop,
            MaxDegreeOfParallelism = settings.Processors > 0 ? settings.Processors : Environment.ProcessorCount,
        };
        try
        {
            Parallel.For(0, settings.Draws, options, draw =>
            {
                var simulation = new PlanSimulation(prepared, experience.Draw(settings.Seed, draw, settings.Fixing));
                simulation.Run(stop);
                sums.Add(draw, simulation.Result);
                progress?.Invoke(Interlocked.Increment(ref done));
            });
        }
        catch (AggregateException several) when (several.InnerExceptions.All(e => e is OperationCanceledException))
        {
            throw new OperationCanceledException(stop);
        }

        return sums.Tell(settings);
    }

    /// <summary>Simulates a case once with a given world model.</summary>
    /// <returns>When each machine was verified, in the order of the case, UTC; null where it was not.</returns>
    public static IReadOnlyList<DateTimeOffset?> Once(RehearsalCase @case, IWorldModel outside, CancellationToken stop)
    {
        var simulation = new PlanSimulation(new(@case), outside);
        simulation.Run(stop);
        return simulation.Result.Verified;
    }
}
