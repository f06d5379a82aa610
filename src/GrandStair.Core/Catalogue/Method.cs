using System.Collections.Immutable;
using GrandStair.Core.Conditions;
using GrandStair.Core.Runs;

namespace GrandStair.Core.Catalogue;

/// <summary>What of a machine's contents a method brings across, least first.</summary>
public enum Carries
{
    /// <summary>Nothing.</summary>
    Blank,

    /// <summary>People's data.</summary>
    Data,

    /// <summary>Programs, settings and data.</summary>
    Whole,
}

/// <summary>A way to do a hop.</summary>
public sealed record Method
{
    /// <summary>The method's name within its product.</summary>
    public required string Name { get; init; }

    /// <summary>What it does, for people.</summary>
    public required string Title { get; init; }

    /// <summary>The hops that it can do, by name.</summary>
    public required ImmutableArray<string> Hops { get; init; }

    /// <summary>The machines that it suits; null for all.</summary>
    public Condition? Suits { get; init; }

    /// <summary>What it brings across.</summary>
    public required Carries Carries { get; init; }

    /// <summary>What must or should hold for this method, besides the hop's own checks.</summary>
    public ImmutableArray<Check> Checks { get; init; } = [];

    /// <summary>Its steps in order; those of one phase stand together.</summary>
    public required ImmutableArray<StepSpec> Steps { get; init; }

    /// <summary>How it is undone.</summary>
    public required Rollback Rollback { get; init; }

    /// <summary>How long a slot usually lasts: the typical durations of all steps from guard to prove.</summary>
    public TimeSpan SlotLasts => Sum(Steps.Where(s => s.Phase is Phase.Guard or Phase.Apply or Phase.Prove));

    /// <summary>How long it usually takes from the turning point to the proof.</summary>
    public TimeSpan AfterTurningPoint => Sum(Steps.SkipWhile(s => !s.TurningPoint).Where(s => s.Phase is Phase.Apply or Phase.Prove));

    private static TimeSpan Sum(IEnumerable<StepSpec> steps) => steps.Aggregate(TimeSpan.Zero, (sum, s) => sum + s.Typical);
}

/// <summary>How a method is undone.</summary>
/// <param name="Words">What it is, for people; says so where there is none.</param>
/// <param name="Lasts">How long it can be done after the proof; zero where there is none.</param>
/// <param name="Steps">Its steps; empty where it is done by hand or not at all.</param>
public sealed record Rollback(string Words, TimeSpan Lasts, ImmutableArray<StepSpec> Steps);
