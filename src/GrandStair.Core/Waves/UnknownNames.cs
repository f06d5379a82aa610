using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Waves;

/// <summary>
/// Names in a plan that mean nothing in the fleet: a site, group or machine that there is not, a crew that no method of the plan needs.
/// What stands behind such a name has no effect, which a misspelt freeze would hide until machines are upgraded in it.
/// </summary>
public static class UnknownNames
{
    /// <summary>A sentence for each such name: where it is used, why it has no effect, and the nearest known name.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="product">Its product.</param>
    /// <param name="machines">The machines that may be named.</param>
    public static IReadOnlyList<string> In(Plan plan, Product product, IReadOnlyCollection<Machine> machines)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(machines);
        var sites = Names(machines.Select(m => m.Site));
        var groups = Names(machines.Select(m => m.Group));
        var names = Names(machines.Select(m => m.Name));
        var kinds = Names(plan.Methods.Select(m => product.Method(m)?.Needs.Crew ?? ""));
        IEnumerable<string> Of(string where, TargetSelector whom) =>
            [
                .. Unknown(where, "site", whom.Sites, sites, "it has no machines"),
                .. Unknown(where, "group", whom.Groups, groups, "no machine is in it"),
                .. Unknown(where, "machine", whom.Machines, names, "there is none"),
            ];
        return
        [
            .. plan.Windows.SelectMany((w, i) => Of($"windows[{i + 1}]", w.For)),
            .. plan.Freezes.SelectMany((c, i) => Of($"freezes[{i + 1}]", c.For)),
            .. plan.But.SelectMany((b, i) => Of($"target.but[{i + 1}]", b.For)),
            .. plan.Uplinks.SelectMany((l, i) => Unknown($"uplinks[{i + 1}]", "site", l.Sites, sites, "it has no machines")),
            .. plan.Crews.SelectMany(c => Unknown($"crews.{c.Name}", "site", c.Sites, sites, "it has no machines")),
            .. plan.Crews.SelectMany(c => Unknown($"crews.{c.Name}", "kind", [c.Kind], kinds, "no method of the plan needs it")),
        ];
    }

    private static HashSet<string> Names(IEnumerable<string> names) =>
        names.Where(n => n.Length > 0).ToHashSet(StringComparer.OrdinalIgnoreCase);

    private static IEnumerable<string> Unknown(string where, string what, IEnumerable<string> named, HashSet<string> known, string why) =>
        named.Where(n => !known.Contains(n)).Select(n => $"{where}: {what} '{n}' has no effect, {why}{Spelling.DidYouMean(n, known, ".")}");
}
