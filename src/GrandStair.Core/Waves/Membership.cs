using System.Collections.Immutable;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Waves;

/// <summary>How well a machine is suited to go first.</summary>
/// <param name="CanGo">Whether nothing is in its way.</param>
/// <param name="CanRollBack">Whether it can be brought back by its method's own steps.</param>
public readonly record struct Fitness(bool CanGo, bool CanRollBack);

/// <summary>A value that occurs in the scope and that a wave does not cover.</summary>
/// <param name="Key">The key.</param>
/// <param name="Value">The value.</param>
/// <param name="Machines">How many machines of the scope have it.</param>
/// <param name="Why">Why it is not covered.</param>
public sealed record Uncovered(string Key, string Value, int Machines, string Why);

/// <summary>What a wave covers.</summary>
/// <param name="Wave">The wave's name.</param>
/// <param name="Values">How many values of its keys occur in the scope.</param>
/// <param name="Uncovered">Those that it has no machine of.</param>
/// <param name="Unknown">How many machines have no known value under each key.</param>
public sealed record Coverage(string Wave, int Values, ImmutableArray<Uncovered> Uncovered, ImmutableSortedDictionary<string, int> Unknown)
{
    /// <summary>How many values it covers.</summary>
    public int Covered => Values - Uncovered.Length;
}

/// <summary>The membership of the waves.</summary>
/// <param name="Waves">The members of each wave, in the order of the waves.</param>
/// <param name="Undecided">Machines of which it is unknown whether they are in the scope or in a wave, with the reason.</param>
/// <param name="Coverages">What the waves cover that are to cover something.</param>
/// <param name="Missing">Machines that a wave lists by name and that are not in the scope.</param>
public sealed record Membership(
    ImmutableArray<ImmutableArray<Machine>> Waves,
    ImmutableArray<(Machine Machine, string Why)> Undecided,
    ImmutableArray<Coverage> Coverages,
    ImmutableArray<string> Missing
)
{
    /// <summary>Puts every machine of the scope into the first wave that it matches and that takes it.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="fleet">The fleet.</param>
    /// <param name="now">The moment it is asked, UTC.</param>
    /// <param name="fitness">How well a machine is suited to go first; asked only where a wave has to cover something.</param>
    public static Membership Of(Plan plan, IEnumerable<Machine> fleet, DateTimeOffset now, Func<Machine, Fitness> fitness)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(fitness);
        var undecided = ImmutableArray.CreateBuilder<(Machine, string)>();
        var left = new List<Machine>();
        foreach (var machine in fleet.OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase))
        {
            var inScope = plan.Scope.Ask(machine, new EvaluationContext(now));
            if (inScope.Value == Kleene.Yes)
                left.Add(machine);
            else if (inScope.Value == Kleene.Unknown)
                undecided.Add((machine, Tell("whether it is in the scope", inScope)));
        }

        IReadOnlyList<Machine> scope = [.. left];
        var names = scope.Select(m => m.Name).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var waves = ImmutableArray.CreateBuilder<ImmutableArray<Machine>>();
        var coverages = ImmutableArray.CreateBuilder<Coverage>();
        foreach (var wave in plan.Waves)
        {
            var may = new List<Machine>();
            foreach (var machine in left.ToArray())
            {
                var answer = wave.Members?.Ask(machine, new EvaluationContext(now));
                if (answer?.Value == Kleene.Unknown)
                {
                    // It must not slip into a later wave while it may belong to this one.
                    undecided.Add((machine, Tell($"whether it is in wave {wave.Name}", answer)));
                    left.Remove(machine);
                }
                else if (
                    answer?.Value != Kleene.No
                    && (wave.Machines.IsEmpty || wave.Machines.Contains(machine.Name, StringComparer.OrdinalIgnoreCase))
                )
                {
                    may.Add(machine);
                }
            }

            IReadOnlyList<Machine> members = wave.Sample is { } share ? Sample(may, share) : may;
            if (wave.Cover is { } cover)
            {
                (members, var coverage) = Covering(wave, cover, scope, may, now, fitness);
                coverages.Add(coverage);
            }

            if (wave.Count is { } count)
                members = [.. members.Take(count)];
            waves.Add([.. members]);
            var taken = members.Select(m => m.Id).ToHashSet();
            left.RemoveAll(m => taken.Contains(m.Id));
        }

        return new(
            waves.ToImmutable(),
            [.. undecided.OrderBy(u => u.Item1.Name, StringComparer.OrdinalIgnoreCase)],
            coverages.ToImmutable(),
            [.. plan.Waves.SelectMany(w => w.Machines).Where(m => !names.Contains(m))]
        );
    }

    /// <summary>
    /// The values that a machine has under a key: one, or each entry of a list and each named row of a table; null where it is unknown.
    /// </summary>
    public static IReadOnlyList<string>? Values(IReadable machine, string key)
    {
        ArgumentNullException.ThrowIfNull(machine);
        var reading = machine.Find(key);
        if (reading is null or { State: ReadingState.Unreadable })
            return null;
        if (reading.Value is not { } value)
            return [];
        return value.Kind switch
        {
            ValueKind.List =>
            [
                .. value
                    .Text.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                    .Distinct(StringComparer.OrdinalIgnoreCase),
            ],
            ValueKind.Table =>
            [
                .. value
                    .Rows.Select(r => r.Cells.GetValueOrDefault("name") ?? "")
                    .Where(n => n.Length > 0)
                    .Distinct(StringComparer.OrdinalIgnoreCase),
            ],
            _ => value.Text.Length == 0 ? [] : [value.Text],
        };
    }

    /// <summary>A share of some machines, drawn by their ids: a machine that comes or goes changes nothing for the others.</summary>
    private static Machine[] Sample(List<Machine> machines, double share)
    {
        var count = (int)Math.Ceiling(share * machines.Count);
        var drawn = machines.OrderBy(m => unchecked((ulong)m.Id.Value * 0x9E3779B97F4A7C15UL)).Take(count).Select(m => m.Id).ToHashSet();
        return [.. machines.Where(m => drawn.Contains(m.Id))];
    }

    private static (Machine[] Members, Coverage Coverage) Covering(
        WaveSpec wave,
        CoverSpec cover,
        IReadOnlyList<Machine> scope,
        List<Machine> may,
        DateTimeOffset now,
        Func<Machine, Fitness> fitness
    )
    {
        var numbers = new Dictionary<(string Key, string Value), int>(KeyedValue.Same);
        var machines = new List<int>();
        var unknown = ImmutableSortedDictionary.CreateBuilder<string, int>(StringComparer.Ordinal);
        foreach (var key in cover.Keys)
            unknown[key] = 0;
        foreach (var machine in scope)
        {
            foreach (var key in cover.Keys)
            {
                if (Values(machine, key) is not { } values)
                {
                    unknown[key]++;
                    continue;
                }

                foreach (var value in values)
                {
                    if (numbers.TryGetValue((key, value), out var number))
                        machines[number]++;
                    else
                    {
                        numbers[(key, value)] = machines.Count;
                        machines.Add(1);
                    }
                }
            }
        }

        var can = may.Select(m => (Machine: m, Fitness: fitness(m))).Where(m => m.Fitness.CanGo).ToArray();
        var chosen = Cover
            .Choose([.. can.Select(m => Has(m.Machine))], [.. can.Select(m => Dislike(m.Machine, m.Fitness))])
            .Select(i => can[i].Machine)
            .ToArray();
        var covered = chosen.SelectMany(Has).ToHashSet();
        var canGo = can.SelectMany(m => Has(m.Machine)).ToHashSet();
        var mayGo = may.SelectMany(Has).ToHashSet();
        var uncovered = numbers
            .Where(n => !covered.Contains(n.Value))
            .OrderByDescending(n => machines[n.Value])
            .ThenBy(n => n.Key.Key, StringComparer.Ordinal)
            .ThenBy(n => n.Key.Value, StringComparer.OrdinalIgnoreCase)
            .Select(n => new Uncovered(
                n.Key.Key,
                n.Key.Value,
                machines[n.Value],
                mayGo.Contains(n.Value) && !canGo.Contains(n.Value)
                    ? "no machine with it is ready to go"
                    : $"not allowed in wave {wave.Name} by its rule"
            ));
        return (chosen, new(wave.Name, numbers.Count, [.. uncovered], unknown.ToImmutable()));

        int[] Has(Machine machine) => [.. cover.Keys.SelectMany(k => (Values(machine, k) ?? []).Select(v => numbers[(k, v)]))];

        int Dislike(Machine machine, Fitness fit) =>
            (cover.Prefer?.Ask(machine, new EvaluationContext(now)).Value == Kleene.Yes ? 0 : 2) + (fit.CanRollBack ? 0 : 1);
    }

    private static string Tell(string what, Answer answer) =>
        $"unknown {what}: {string.Join(", ", answer.Leaves.Select(l => $"{l.Key} {l.Note}"))}";

    /// <summary>Compares values without regard to case.</summary>
    private sealed class KeyedValue : IEqualityComparer<(string Key, string Value)>
    {
        public static readonly KeyedValue Same = new();

        public bool Equals((string Key, string Value) x, (string Key, string Value) y) =>
            x.Key == y.Key && x.Value.Equals(y.Value, StringComparison.OrdinalIgnoreCase);

        public int GetHashCode((string Key, string Value) obj) =>
            HashCode.Combine(obj.Key, StringComparer.OrdinalIgnoreCase.GetHashCode(obj.Value));
    }
}
