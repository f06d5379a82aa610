using System.Text.RegularExpressions;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Files.Yaml;

namespace GrandStair.Files.Plans;

/// <summary>Reads plans written as YAML.</summary>
public static partial class PlanFile
{
    /// <summary>Understands a plan.</summary>
    /// <param name="text">The file's content.</param>
    /// <param name="keys">The known keys.</param>
    /// <param name="product">Finds a product of the catalogue by name; null checks the plan without the catalogue.</param>
    /// <param name="file">What to call the file in errors.</param>
    /// <exception cref="FileException">Something is wrong in it; all of it is told, with line and column.</exception>
    public static Plan Parse(string text, KeyRegistry keys, Func<string, Product?>? product, string file)
    {
        var problems = new Problems(file);
        var map = YamlMap.Read(text, problems);
        var target = map.Map("target");
        var advance = map.Map("advance");
        var limits = map.Map("limits");
        var plan = new Plan
        {
            Name = map.Text("plan"),
            Product = target.Text("product"),
            Release = target.Text("release"),
            Scope = map.Required("scope", keys),
            Carries = map.Word("carries", Carries.Whole),
            Methods = [.. map.Texts("methods")],
            Waves = [.. map.Maps("waves").Select(w => WaveOf(w, keys))],
            Windows = [.. map.Maps("windows").Select(WindowOf)],
            Limits = new(limits.Whole("all", 1), limits.Whole("site", int.MaxValue)),
            Advance = new(advance.Share("proved"), advance.Whole("failures", 0, least: 0), advance.Duration("soak") ?? TimeSpan.Zero),
            StageAhead = map.Duration("stage-ahead") ?? TimeSpan.FromHours(24),
            Lead = map.Duration("lead"),
            Deadline = map.Date("deadline"),
        };
        target.Done();
        advance.Done();
        limits.Done();
        map.Done();
        if (plan.Name.Length > 0 && !WellFormed().IsMatch(plan.Name)) map.Wrong("plan", $"'{plan.Name}' is no name for a plan; expected lower-case words with hyphens, such as winter-crossing.");
        if (plan.Waves.IsEmpty) map.Wrong("waves", "A plan has at least one wave.");
        if (plan.Windows.IsEmpty) map.Wrong("windows", "A plan says at least one window in which machines may be touched.");
        if (plan.Methods.IsEmpty) map.Wrong("methods", "A plan names at least one method, in order of preference.");
        if (product is not null) Match(plan, product(plan.Product), map, target);
        problems.ThrowIfAny();
        return plan;
    }

    private static void Match(Plan plan, Product? product, YamlMap map, YamlMap target)
    {
        if (product is null)
        {
            target.Wrong("product", $"The catalogue has no product '{plan.Product}'.");
            return;
        }

        var release = product.Releases.FirstOrDefault(r => r.Version == plan.Release);
        if (release is null) target.Wrong("release", $"{product.Name} has no release '{plan.Release}'; expected one of {string.Join(", ", product.Releases.Select(r => r.Version))}.");
        if (release?.Status == ReleaseStatus.Withdrawn) target.Wrong("release", $"{release.Name} was withdrawn and is no target.");
        foreach (var method in plan.Methods.Where(m => product.Method(m) is null))
        {
            var near = Spelling.Nearest(method, product.Methods.Select(m => m.Name));
            map.Wrong("methods", $"{product.Name} has no method '{method}'{(near is null ? "" : $"; did you mean '{near}'?")}.");
        }
    }

    private static WaveSpec WaveOf(YamlMap map, KeyRegistry keys)
    {
        var wave = new WaveSpec(map.Text("name"), map.Condition("members", keys), map.Has("count") ? map.Whole("count", 1) : null);
        map.Done();
        return wave;
    }

    private static WindowSpec WindowOf(YamlMap map)
    {
        var rules = new List<WeeklyRule>();
        foreach (var rule in map.Texts("weekly"))
        {
            try
            {
                rules.Add(WeeklyRule.Parse(rule));
            }
            catch (FormatException error)
            {
                map.Wrong("weekly", error.Message);
            }
        }

        var zone = map.Text("zone");
        if (zone.Length > 0 && !Windows.IsZone(zone)) map.Wrong("zone", $"'{zone}' is no time zone; expected a name such as Europe/London.");
        var window = new WindowSpec([.. map.Texts("sites")], zone, [.. rules]);
        map.Done();
        return window;
    }

    [GeneratedRegex("^[a-z][a-z0-9]*(-[a-z0-9]+)*$")]
    private static partial Regex WellFormed();
}
