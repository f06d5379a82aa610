using System.Collections.Concurrent;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Rehearsals;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Rehearsals;

/// <summary>What the runs of a product have shown so far; each log is read again only when it has grown.</summary>
public sealed class MeasuredRuns(RunLog runs, PlanTable plans, Shelf shelf, FleetCache fleet)
{
    /// <summary>The key under which a machine's model is read.</summary>
    public const string Model = "hardware.model";

    private readonly ConcurrentDictionary<long, (int Events, Measurements Shown)> _known = new();

    /// <summary>What all runs of a product have shown, of whichever plan.</summary>
    public async Task<Measurements> OfAsync(Product product, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(product);
        var machines = await fleet.AllAsync(stop);
        var shown = new List<Measurements>();
        foreach (var plan in await plans.AllAsync(stop))
        {
            if ((await shelf.ByHashAsync(plan.CatalogueHash, stop)).Name != product.Name) continue;
            var begun = plan.Waves.ToDictionary(w => w.Number, w => w.Opened);
            shown.Add(Measurements.None with { Mendings = [.. (await plans.MembersAsync(plan.Name, stop)).Select(m => m.Readied - begun.GetValueOrDefault(m.Wave)).OfType<TimeSpan>().Where(after => after > TimeSpan.Zero)] });
            foreach (var (run, machine, events) in await runs.LengthsAsync(plan.Name, stop))
            {
                if (!_known.TryGetValue(run, out var known) || known.Events != events)
                {
                    var of = machines[machine];
                    _known[run] = known = (events, Measurements.Of((await runs.EventsAsync(run, stop)).Select(e => e.Event), of.TextOf(Model) ?? "", of.Site));
                }

                shown.Add(known.Shown);
            }
        }

        return Measurements.Together(shown);
    }
}
