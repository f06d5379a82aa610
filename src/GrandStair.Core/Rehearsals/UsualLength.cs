namespace GrandStair.Core.Rehearsals;

/// <summary>How long a step usually takes on machines of a model.</summary>
/// <param name="Middle">Half of them end within this time.</param>
/// <param name="Longest">95 of 100 end within this time; one that takes longer is worth a look.</param>
/// <param name="Measured">From how many steps that ended well that was learnt; with none it is what the method says.</param>
public readonly record struct UsualLength(TimeSpan Middle, TimeSpan Longest, int Measured);
