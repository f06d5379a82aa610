using System.Collections.Concurrent;
using System.Diagnostics;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Durations;

/// <summary>What the runs of a product have shown so far; each log is read again only when it has grown.</summary>
public sealed class MeasuredRuns(RunLog runs, PlanTable plans, CatalogueCache catalogues, FleetCache fleet, Feed feed, DomainClock clock)
{
    /// <summary>The model of a machine; empty where it is not known.</summary>
    public static string ModelOf(Machine machine) => machine.TextOf("hardware.model") ?? "";

    // It grows slowly, and is asked for often.
    private static readonly WorkShare Learning = new(TimeSpan.FromSeconds(1));

    /// <summary>
    /// How long it is from one time to the next where time moves in steps: what is learnt then does not depend on the processor.
    /// </summary>
    private static readonly TimeSpan LearningSteps = TimeSpan.FromHours(2);

    private readonly ConcurrentDictionary<long, (int Events, Measurements Shown)> _known = new();
    private readonly ConcurrentDictionary<string, Lesson> _learnt = new();

    /// <summary>What was learnt of a product's methods last, without waiting for anything; null where nothing was yet.</summary>
    public Experience? LastLearnt(Product product)
    {
        ArgumentNullException.ThrowIfNull(product);
        return _learnt.TryGetValue(product.Hash, out var last) ? last.Learnt : null;
    }

    /// <summary>What was learnt of a product's methods from all its runs.</summary>
    public async Task<Experience> ExperienceAsync(Product product, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(product);
        var known = _learnt.TryGetValue(product.Hash, out var before);
        var (begun, now) = (Stopwatch.GetTimestamp(), clock.GetUtcNow());
        if (known && (clock.Stepped is null ? begun < before.Due : now < before.At + LearningSteps))
            return before.Learnt;
        var position = await feed.NewestAsync(stop);
        var learnt = known && before.Position == position ? before.Learnt : new(await OfAsync(product, stop));
        _learnt[product.Hash] = new(learnt, position, now, Learning.NextAfter(begun));
        return learnt;
    }

    /// <summary>What was learnt of a product.</summary>
    /// <param name="Learnt">It.</param>
    /// <param name="Position">The newest change in the feed that it takes account of.</param>
    /// <param name="At">When it was learnt, UTC.</param>
    /// <param name="Due">From when on it is learnt again, as a timestamp.</param>
    private readonly record struct Lesson(Experience Learnt, long Position, DateTimeOffset At, long Due);

    /// <summary>What all runs of a product have shown, of whichever plan.</summary>
    private async Task<Measurements> OfAsync(Product product, CancellationToken stop)
    {
        var machines = await fleet.AllAsync(stop);
        var shown = new List<Measurements>();
        foreach (var plan in await plans.AllAsync(stop))
        {
            if ((await catalogues.ByHashAsync(plan.CatalogueHash, stop)).Name != product.Name)
                continue;
            var begun = plan.Waves.ToDictionary(w => w.Number, w => w.Opened);
            // Nobody hurries before a wave begins; and what was not in the way by then counts from when it was.
            var fixings = (await plans.MembersAsync(plan.Name, stop))
                .Where(m => m.Lapsed is not null)
                .Select(m => m.Readied - (m.Lapsed > begun.GetValueOrDefault(m.Wave) ? m.Lapsed : begun.GetValueOrDefault(m.Wave)));
            shown.Add(Measurements.None with { Fixings = [.. fixings.OfType<TimeSpan>().Where(after => after > TimeSpan.Zero)] });
            foreach (var (run, machine, events) in await runs.LengthsAsync(plan.Name, stop))
            {
                if (!_known.TryGetValue(run, out var known) || known.Events != events)
                {
                    _known[run] = known = (
                        events,
                        Measurements.Of(
                            (await runs.EventsAsync(run, stop)).Select(e => e.Event),
                            ModelOf(machines[machine]),
                            machines[machine].Site
                        )
                    );
                }

                shown.Add(known.Shown);
            }
        }

        return Measurements.Together(shown);
    }
}
