using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>Finds when a machine may be touched next by the windows and freezes of a plan.</summary>
public sealed class NextWindow(CatalogueCache catalogues, CalendarCache calendars, PlanTable plans, TimeProvider clock)
{
    private static readonly TimeSpan Span = TimeSpan.FromDays(60);

    /// <summary>The first moment from now on at which something fits into a window of a machine, UTC.</summary>
    /// <param name="plan">The plan whose windows count.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="lasts">How long it takes.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such plan, or no window within 60 days is long enough.</exception>
    public async Task<DateTimeOffset> FindAsync(string plan, Machine machine, TimeSpan lasts, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(machine);
        var stored = await plans.FindAsync(plan, stop) ?? throw PlanCommands.Unknown(plan, []);
        var (read, _) = await catalogues.ReadPlanAsync(stored, stop);
        var (known, _) = await calendars.AllAsync(stop);
        var now = clock.GetUtcNow();
        foreach (var open in new Windows(read, known, now, now + Span).Of(machine.Site, machine.Group, machine.Name))
        {
            var from = open.From > now ? open.From : now;
            if (from + lasts <= open.To)
                return from;
        }

        throw RefusedException.Conflict(
            "no-window",
            $"No window of {machine.Name} in the next {Span.TotalDays:0} days has {Units.Show(lasts.TotalSeconds, ValueKind.Duration)} "
                + $"for it. Widen its windows in plan '{plan}', or say that it is to begin at once."
        );
    }
}
