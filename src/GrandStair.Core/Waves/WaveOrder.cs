using System.Collections.Immutable;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Waves;

/// <summary>A machine that has to be upgraded before another.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Name">Its name.</param>
public readonly record struct Predecessor(MachineId Machine, string Name);

/// <summary>A machine that goes in a later wave than it was chosen for, because of what it depends on.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="From">The number of the wave that it was chosen for.</param>
/// <param name="To">The number of the wave that it goes in.</param>
/// <param name="On">What it depends on, which goes in that wave.</param>
public sealed record Deferred(MachineId Machine, int From, int To, Predecessor On);

/// <summary>The order of waves: no machine goes in an earlier wave than one that it depends on.</summary>
public static class WaveOrder
{
    /// <summary>Who has to go later than in the wave that chose it.</summary>
    /// <param name="waves">By machine the number of its wave.</param>
    /// <param name="on">What a machine depends on; what is in no wave has no part in this.</param>
    /// <param name="stays">Whether a machine stays where it is, since it has begun or a person put it there.</param>
    public static ImmutableArray<Deferred> Defer(
        IReadOnlyDictionary<MachineId, int> waves,
        Func<MachineId, Predecessor?> on,
        Func<MachineId, bool> stays
    )
    {
        ArgumentNullException.ThrowIfNull(waves);
        ArgumentNullException.ThrowIfNull(on);
        ArgumentNullException.ThrowIfNull(stays);
        var deferred = ImmutableArray.CreateBuilder<Deferred>();
        foreach (var (machine, wave) in waves.Where(w => !stays(w.Key)).OrderBy(w => w.Key.Value))
        {
            // Machines can depend on one another in a chain, and by mistake in a circle.
            var (latest, seen) = (new Deferred(machine, wave, wave, default), new HashSet<MachineId> { machine });
            for (
                var next = on(machine);
                next is { } predecessor && waves.TryGetValue(predecessor.Machine, out var before) && seen.Add(predecessor.Machine);
                next = on(predecessor.Machine)
            )
            {
                if (before > latest.To)
                    latest = latest with { To = before, On = predecessor };
            }

            if (latest.To > wave)
                deferred.Add(latest);
        }

        return deferred.ToImmutable();
    }
}
