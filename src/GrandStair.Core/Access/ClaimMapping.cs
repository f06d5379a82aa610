using System.Collections.Immutable;

namespace GrandStair.Core.Access;

/// <summary>How what a sign-in provider says of somebody becomes an account.</summary>
/// <param name="Provider">The provider's name, before the account's: <c>staff/planner</c>.</param>
/// <param name="NameClaim">The claim that holds a person's name.</param>
/// <param name="ProgramClaim">The claim that holds a program's name, which is looked at where there is no person's.</param>
/// <param name="RolesClaim">The claim whose values stand for roles.</param>
/// <param name="RolesOf">The roles that each value stands for.</param>
/// <param name="SitesClaim">The claim whose values are sites; null where everybody who signs in so may see all of them.</param>
/// <param name="AllSites">The value that stands for all sites; null where none does.</param>
public sealed record ClaimMapping(
    string Provider,
    string NameClaim,
    string ProgramClaim,
    string RolesClaim,
    ImmutableDictionary<string, Roles> RolesOf,
    string? SitesClaim,
    string? AllSites
)
{
    private const int LongestName = 80;

    /// <summary>Maps claims to an account.</summary>
    /// <param name="claims">The claims, each type as often as it has values.</param>
    /// <param name="why">Why there is no account; empty where there is one.</param>
    /// <returns>The account's name, kind, roles and sites; null where the claims make none.</returns>
    public (string Name, AccountKind Kind, Roles Roles, SiteScope Sites)? Of(
        IReadOnlyCollection<(string Type, string Value)> claims,
        out string why
    )
    {
        ArgumentNullException.ThrowIfNull(claims);
        string? First(string type) => claims.Where(c => c.Type == type).Select(c => c.Value).FirstOrDefault(v => v.Length > 0);
        var person = First(NameClaim);
        if ((person ?? First(ProgramClaim)) is not { } name)
        {
            why = $"{Provider} says neither '{NameClaim}' nor '{ProgramClaim}' of whoever calls.";
            return null;
        }

        if (name.Length > LongestName || !name.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.' or '_' or '@'))
        {
            why = $"{Provider} gives a name that is none of ours: expected up to {LongestName} letters, digits and the signs - . _ @.";
            return null;
        }

        var roles = claims.Where(c => c.Type == RolesClaim).Aggregate(Roles.None, (sum, c) => sum | RolesOf.GetValueOrDefault(c.Value));
        var values = SitesClaim is null
            ? []
            : claims
                .Where(c => c.Type == SitesClaim)
                .Select(c => c.Value.Trim())
                .Where(v => v.Length is > 0 and <= 100 && v != "*")
                .ToArray();
        // Only the value that was agreed on means all sites; an asterisk in a claim does not.
        var sites = SitesClaim is null || (AllSites is not null && values.Contains(AllSites)) ? SiteScope.All : SiteScope.Of(values);
        why = "";
        return ($"{Provider}/{name.ToLowerInvariant()}", person is null ? AccountKind.Program : AccountKind.Person, roles, sites);
    }
}
