using System.Collections.Immutable;

namespace GrandStair.Core.Access;

/// <summary>What accounts may do. An account has any number of roles; none includes another, save that everybody may look.</summary>
[Flags]
public enum Roles
{
    /// <summary>Nothing.</summary>
    None = 0,

    /// <summary>Looks at the fleet, plans and runs.</summary>
    Reader = 1,

    /// <summary>Looks at who did what.</summary>
    Auditor = 2,

    /// <summary>Brings in machines, makes plans, chooses methods, exemptions machines.</summary>
    Planner = 4,

    /// <summary>Takes responsibility: acknowledges, waives, lets changed scripts onto machines.</summary>
    Approver = 8,

    /// <summary>Starts plans, decides about runs, fixes machines.</summary>
    Operator = 16,

    /// <summary>Keeps accounts, secrets, host keys and sources.</summary>
    Admin = 32,
}

/// <summary>Roles as people write them.</summary>
public static class RoleNames
{
    /// <summary>Every role.</summary>
    public const Roles Every = Roles.Reader | Roles.Auditor | Roles.Planner | Roles.Approver | Roles.Operator | Roles.Admin;

    /// <summary>The roles one by one, by their names.</summary>
    public static ImmutableSortedDictionary<string, Roles> All { get; } =
        Enum.GetValues<Roles>().Where(r => r != Roles.None).ToImmutableSortedDictionary(Name, r => r, StringComparer.Ordinal);

    /// <summary>The names of some roles, in the order of what they may.</summary>
    public static ImmutableArray<string> Names(this Roles roles) =>
        [.. All.Where(r => roles.HasFlag(r.Value)).OrderBy(r => r.Value).Select(r => r.Key)];

    /// <summary>Reads the names of roles.</summary>
    /// <exception cref="FormatException">One is none; the message says which, and what was expected.</exception>
    public static Roles Parse(IEnumerable<string> names)
    {
        ArgumentNullException.ThrowIfNull(names);
        var roles = Roles.None;
        foreach (var name in names)
            roles |= All.TryGetValue(name.Trim(), out var role)
                ? role
                : throw new FormatException($"'{name}' is no role; expected some of {string.Join(", ", Every.Names())}.");
        return roles;
    }

    private static string Name(Roles role) => role.ToString().ToLowerInvariant();
}
