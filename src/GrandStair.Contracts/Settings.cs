namespace GrandStair.Contracts;

/// <summary>What holds for the whole service.</summary>
/// <param name="EveryPlanApproved">Whether every plan needs an approval, whatever its own text says.</param>
/// <param name="MediaHosts">The hosts from which the service may download media.</param>
public sealed record SettingsView(bool EveryPlanApproved, IReadOnlyList<string> MediaHosts);

/// <summary>Changes what holds for the whole service. What is null stays as it is.</summary>
/// <param name="EveryPlanApproved">Whether every plan needs an approval, whatever its own text says. Plans that have started without one
/// are put on hold.</param>
/// <param name="MediaHosts">The hosts from which the service may download media, each alone (any port) or as <c>name:port</c>; none for
/// no downloads.</param>
/// <param name="Reason">Why; recorded in the audit log.</param>
public sealed record SettingsCommand(bool? EveryPlanApproved, IReadOnlyList<string>? MediaHosts, string Reason);
