using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Durations;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>How long steps usually take, learnt from all runs of their product.</summary>
internal sealed class UsualLengths(CatalogueCache catalogues, MeasuredRuns measured)
{
    /// <summary>What is usual for the steps of some runs.</summary>
    public async Task<StepLengths> OfAsync(IEnumerable<StoredRun> runs, CancellationToken stop)
    {
        var learnt = new Dictionary<string, Experience>();
        foreach (var hash in runs.Select(r => r.State.CatalogueHash).Distinct())
            learnt[hash] = await measured.ExperienceAsync(await catalogues.ByHashAsync(hash, stop), stop);
        return new(learnt);
    }
}

/// <summary>What was learnt of the steps of some runs.</summary>
internal sealed class StepLengths(IReadOnlyDictionary<string, Experience> learnt)
{
    /// <summary>How long a step of a run's current leg usually takes on its machine.</summary>
    public UsualLength Of(RunState run, StepSpec step, Machine machine) =>
        learnt[run.CatalogueHash].UsualLength(run.CurrentLeg.Hop, run.CurrentLeg.Method, step, MeasuredRuns.ModelOf(machine));
}
