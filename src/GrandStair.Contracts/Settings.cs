namespace GrandStair.Contracts;

/// <summary>What holds for the whole service.</summary>
/// <param name="EveryPlanApproved">Whether every plan needs an approval, whatever its own text says.</param>
public sealed record SettingsView(bool EveryPlanApproved);

/// <summary>Changes what holds for the whole service.</summary>
/// <param name="EveryPlanApproved">Whether every plan needs an approval, whatever its own text says. Plans that have started without one
/// are put on hold.</param>
/// <param name="Reason">Why; recorded in the audit log.</param>
public sealed record SettingsCommand(bool EveryPlanApproved, string Reason);
