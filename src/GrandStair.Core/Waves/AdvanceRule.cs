namespace GrandStair.Core.Waves;

/// <summary>What must hold before the next wave begins.</summary>
/// <param name="Verified">The share of the ready machines that must be verified, 0 to 1.</param>
/// <param name="Failures">How many machines may be parked or have stopped without success.</param>
/// <param name="Soak">How long that share must have been verified.</param>
public sealed record AdvanceRule(double Verified, int Failures, TimeSpan Soak);
