using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Waves;

/// <summary>What a planner wants: which machines go to which release, how, when, and how many at once.</summary>
public sealed record Plan
{
    /// <summary>The plan's name: lower-case words with hyphens.</summary>
    public required string Name { get; init; }

    /// <summary>The product to upgrade.</summary>
    public required string Product { get; init; }

    /// <summary>The release to go to.</summary>
    public required string Release { get; init; }

    /// <summary>The machines that it is about.</summary>
    public required Condition Scope { get; init; }

    /// <summary>How much has to be carried across.</summary>
    public Carries Carries { get; init; } = Carries.Whole;

    /// <summary>The methods in order of preference.</summary>
    public required ImmutableArray<string> Methods { get; init; }

    /// <summary>The waves in order; the first is the pilot.</summary>
    public required ImmutableArray<WaveSpec> Waves { get; init; }

    /// <summary>When which sites may be touched.</summary>
    public required ImmutableArray<WindowSpec> Windows { get; init; }

    /// <summary>How many may run at once.</summary>
    public required Limits Limits { get; init; }

    /// <summary>What must hold before the next wave begins.</summary>
    public required AdvanceRule Advance { get; init; }

    /// <summary>How long before its slot a machine is staged at the earliest.</summary>
    public TimeSpan StageAhead { get; init; } = TimeSpan.FromHours(24);

    /// <summary>How long after its wave begins, or it becomes ready, a machine's slot may begin at the earliest; null for what its staging takes.</summary>
    public TimeSpan? Lead { get; init; }

    /// <summary>The last day by which all should be proved; null where there is none.</summary>
    public DateOnly? Deadline { get; init; }
}

/// <summary>Which machines go together.</summary>
/// <param name="Name">The wave's name.</param>
/// <param name="Members">Who belongs to it; null for all that no earlier wave took.</param>
/// <param name="Count">How many at most, first by name; null for all that match.</param>
public sealed record WaveSpec(string Name, Condition? Members, int? Count);

/// <summary>How many may run at once.</summary>
/// <param name="All">In the whole plan.</param>
/// <param name="Site">At one site.</param>
public sealed record Limits(int All, int Site);

/// <summary>Who is in which wave.</summary>
/// <param name="Waves">The members of each wave, in the order of the waves.</param>
/// <param name="Undecided">Machines of which it cannot be told whether they are in the scope or in a wave, with what could not be told.</param>
public sealed record Membership(ImmutableArray<ImmutableArray<Machine>> Waves, ImmutableArray<(Machine Machine, string Why)> Undecided)
{
    /// <summary>Puts every machine of the scope into the first wave that it matches.</summary>
    public static Membership Of(Plan plan, IEnumerable<Machine> fleet, DateTimeOffset now)
    {
        var waves = plan.Waves.Select(_ => ImmutableArray.CreateBuilder<Machine>()).ToArray();
        var undecided = ImmutableArray.CreateBuilder<(Machine, string)>();
        foreach (var machine in fleet.OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase))
        {
            var inScope = plan.Scope.Ask(machine, new Use(now));
            if (inScope.Value == Kleene.No) continue;
            if (inScope.Value == Kleene.CannotTell)
            {
                undecided.Add((machine, Tell("whether it is in the scope", inScope)));
                continue;
            }

            for (var i = 0; i < waves.Length; i++)
            {
                var spec = plan.Waves[i];
                if (spec.Count is { } count && waves[i].Count >= count) continue;
                var answer = spec.Members?.Ask(machine, new Use(now));
                if (answer?.Value == Kleene.No) continue;
                if (answer?.Value == Kleene.CannotTell) undecided.Add((machine, Tell($"whether it is in wave {spec.Name}", answer)));
                else waves[i].Add(machine);
                break;
            }
        }

        return new([.. waves.Select(w => w.ToImmutable())], undecided.ToImmutable());
    }

    private static string Tell(string what, Answer answer) =>
        $"cannot tell {what}: {string.Join(", ", answer.Leaves.Select(l => $"{l.Key} {l.Note}"))}";
}
