using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Durations;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>
/// How long steps usually take, learnt from all runs of their product. Nobody waits for that: until more is learnt, what was learnt
/// last counts, and at first what the methods say.
/// </summary>
internal sealed class UsualLengths(
    CatalogueCache catalogues,
    MeasuredRuns measured,
    IHostApplicationLifetime service,
    ILogger<UsualLengths> log
)
{
    private static readonly Experience Nothing = new(Measurements.None);

    private readonly Dictionary<string, Task> _learning = [];

    /// <summary>What is usual for the steps of some runs.</summary>
    public async Task<StepLengths> OfAsync(IEnumerable<StoredRun> runs, CancellationToken stop)
    {
        var learnt = new Dictionary<string, Experience>();
        foreach (var hash in runs.Select(r => r.State.CatalogueHash).Distinct())
        {
            var product = await catalogues.ByHashAsync(hash, stop);
            learnt[hash] = measured.LastLearnt(product) ?? Nothing;
            Learn(product);
        }

        return new(learnt);
    }

    /// <summary>Begins to learn, unless that is being done.</summary>
    private void Learn(Product product)
    {
        lock (_learning)
            if (!_learning.TryGetValue(product.Hash, out var learning) || learning.IsCompleted)
                _learning[product.Hash] = Task.Run(() => LearnAsync(product, service.ApplicationStopping));
    }

    private async Task LearnAsync(Product product, CancellationToken stop)
    {
        try
        {
            await measured.ExperienceAsync(product, stop);
        }
        catch (OperationCanceledException)
        {
            // The service ends.
        }
        catch (StoreException error)
        {
            log.LogWarning(
                error,
                "How long steps of {Product} usually take could not be learnt; the next request tries again",
                product.Name
            );
        }
    }
}

/// <summary>What was learnt of the steps of some runs.</summary>
internal sealed class StepLengths(IReadOnlyDictionary<string, Experience> learnt)
{
    /// <summary>How long a step of a run's current leg usually takes on its machine.</summary>
    public UsualLength Of(RunState run, StepSpec step, Machine machine) =>
        learnt[run.CatalogueHash].UsualLength(run.CurrentLeg.Hop, run.CurrentLeg.Method, step, MeasuredRuns.ModelOf(machine));
}
