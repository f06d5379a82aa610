using System.Collections.Immutable;
using GrandStair.Core.Conditions;

namespace GrandStair.Core.Catalogue;

/// <summary>What of a machine's contents a method brings across, least first.</summary>
public enum Preserves
{
    /// <summary>Nothing.</summary>
    None,

    /// <summary>People's data.</summary>
    Data,

    /// <summary>Programs, settings and data.</summary>
    Full,
}

/// <summary>What a method does with a machine.</summary>
public enum Way
{
    /// <summary>It is upgraded.</summary>
    Upgrade,

    /// <summary>Another machine takes its place.</summary>
    Replace,

    /// <summary>It is taken out of use.</summary>
    Retire,

    /// <summary>It stays on its release for a stated reason until a date.</summary>
    Stay,
}

/// <summary>When an upgrade takes the newest patches of its target.</summary>
public enum PatchTime
{
    /// <summary>While it runs: fewer restarts, and a longer outage that needs the line.</summary>
    During,

    /// <summary>Once it has been applied.</summary>
    After,
}

/// <summary>What a method needs besides the machine.</summary>
/// <param name="Media">The name of the media that it installs from; null where it needs none.</param>
/// <param name="Crew">The crew that it needs on site; null where it needs none.</param>
/// <param name="OwnerPresent">Whether the machine's owner has to be there.</param>
/// <param name="Stages">How much staging brings to the machine over its site's uplink, in bytes.</param>
public sealed record MethodNeeds(string? Media = null, string? Crew = null, bool OwnerPresent = false, double Stages = 0);

/// <summary>A way to do a hop.</summary>
public sealed record Method
{
    /// <summary>The method's name within its product.</summary>
    public required string Name { get; init; }

    /// <summary>What it does, for people.</summary>
    public required string Title { get; init; }

    /// <summary>The hops that it can do, by name.</summary>
    public required ImmutableArray<string> Hops { get; init; }

    /// <summary>What the method does with a machine. All but an upgrade end as an exemption, and have no steps.</summary>
    public Way Way { get; init; } = Way.Upgrade;

    /// <summary>What it needs besides the machine.</summary>
    public MethodNeeds Needs { get; init; } = new();

    /// <summary>The machines that it suits; null for all.</summary>
    public Condition? Suits { get; init; }

    /// <summary>What it brings across.</summary>
    public required Preserves Preserves { get; init; }

    /// <summary>What must or should hold for this method, besides the hop's own checks.</summary>
    public ImmutableArray<Check> Checks { get; init; } = [];

    /// <summary>When it can take patches, where a plan may choose; empty where it does so in its own way.</summary>
    public ImmutableArray<PatchTime> Patches { get; init; } = [];

    /// <summary>Its steps in order; those of one phase stand together.</summary>
    public required ImmutableArray<StepSpec> Steps { get; init; }

    /// <summary>Whether a second machine is upgraded, which then takes the first one's place.</summary>
    public bool GoesSideBySide => Steps.Any(s => s.OnSuccessor);

    /// <summary>How it is undone.</summary>
    public required Rollback Rollback { get; init; }

    /// <summary>How long it takes where every step takes as long as the method itself says.</summary>
    public MethodLengths Typical => LengthsBy(s => s.Typical);

    /// <summary>How long it takes where it is known how long each step does.</summary>
    public MethodLengths LengthsBy(Func<StepSpec, TimeSpan> lasts)
    {
        return new(
            Sum(Steps.Where(s => s.Phase is Phase.Protect or Phase.Apply or Phase.Verify)),
            Sum(Steps.SkipWhile(s => !s.PointOfNoReturn).Where(s => s.Phase is Phase.Apply or Phase.Verify)),
            Sum(Rollback.Steps)
        );

        TimeSpan Sum(IEnumerable<StepSpec> steps) => steps.Aggregate(TimeSpan.Zero, (sum, s) => sum + lasts(s));
    }
}

/// <summary>How long a method usually takes.</summary>
/// <param name="Slot">A slot: all steps from protect to verify.</param>
/// <param name="AfterPointOfNoReturn">From the point of no return to the verification.</param>
/// <param name="Rollback">Going back by its own steps; zero where there are none.</param>
public readonly record struct MethodLengths(TimeSpan Slot, TimeSpan AfterPointOfNoReturn, TimeSpan Rollback);

/// <summary>How a method is undone.</summary>
/// <param name="Words">What it is, for people; says so where there is none.</param>
/// <param name="Lasts">How long it can be done after the verification; zero where there is none.</param>
/// <param name="Steps">Its steps; empty where it is done by hand or not at all.</param>
public sealed record Rollback(string Words, TimeSpan Lasts, ImmutableArray<StepSpec> Steps)
{
    /// <summary>
    /// For how long after the verification it can be kept where somebody asks for it; zero where it cannot be kept longer.
    /// </summary>
    public TimeSpan AtMost { get; init; }

    /// <summary>The steps that delete what is kept for it, once its period is over; empty where nothing is kept.</summary>
    public ImmutableArray<StepSpec> Reclaim { get; init; } = [];
}
