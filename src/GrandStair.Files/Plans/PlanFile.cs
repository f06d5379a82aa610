using System.Text.RegularExpressions;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Files.Yaml;

namespace GrandStair.Files.Plans;

/// <summary>Reads plans written as YAML.</summary>
public static partial class PlanFile
{
    /// <summary>Parses a plan.</summary>
    /// <param name="text">The file's content.</param>
    /// <param name="keys">The known keys.</param>
    /// <param name="product">Finds a product of the catalogue by name; null checks the plan without the catalogue.</param>
    /// <param name="file">What to call the file in errors.</param>
    /// <exception cref="FileException">Something is wrong in it; all of it is reported, with line and column.</exception>
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
            LeastBuild = target.Optional("build"),
            But = [.. target.Maps("but").Select(ButOf)],
            Scope = map.Required("scope", keys),
            Preserves = map.Word("preserves", Preserves.Full),
            Methods = [.. map.Texts("methods")],
            Waves = [.. map.Maps("waves").Select(w => WaveOf(w, keys))],
            Windows = [.. map.Maps("windows").Select(WindowOf)],
            Freezes = [.. map.Maps("freezes").Select(FreezeOf)],
            Uplinks = [.. map.Maps("uplinks").Select(UplinkOf)],
            Crews = [.. map.Maps("crews").Select(CrewOf)],
            Limits = new(limits.Whole("all", Limits.Unlimited), limits.Whole("site", Limits.Unlimited)),
            Advance = new(advance.Share("verified"), advance.Whole("failures", 0, least: 0), advance.Duration("soak") ?? TimeSpan.Zero),
            Patches = map.Has("patches") ? map.Word<PatchTime>("patches") : null,
            StageAhead = map.Duration("stage-ahead") ?? TimeSpan.FromHours(24),
            Lead = map.Duration("lead"),
            CatchUp = map.Has("catch-up") ? map.Whole("catch-up", 0, least: 0) : null,
            Deadline = map.Date("deadline"),
            Approval = ApprovalOf(map),
            Owners = map.OptionalMap("owners") is { } owners ? OwnersOf(owners) : null,
            ChangeRecord = map.Optional("change-record"),
        };
        target.Done();
        advance.Done();
        limits.Done();
        map.Done();
        if (plan.Name.Length > 0 && !WellFormed().IsMatch(plan.Name))
            map.Wrong("plan", $"'{plan.Name}' is no name for a plan; expected lower-case words with hyphens, such as winter-crossing.");
        foreach (var twice in Twice(plan.Waves.Select(w => w.Name)))
            map.Wrong("waves", $"Two waves are named '{twice}'; a wave is known by its name.");
        foreach (var twice in Twice(plan.Crews.Select(c => c.Name)))
            map.Wrong("crews", $"Two crews are named '{twice}'; a crew is known by its name, and several may be of one kind.");
        foreach (var twice in Twice(plan.Waves.SelectMany(w => w.Machines)))
            map.Wrong("waves", $"Machine '{twice}' is listed twice; a machine is in one wave only.");
        foreach (var twice in Twice(plan.Uplinks.SelectMany(l => l.Sites)))
            map.Wrong("uplinks", $"Site '{twice}' has two uplinks; it can have one.");
        if (plan.Waves.IsEmpty)
            map.Wrong("waves", "A plan has at least one wave.");
        if (plan.Windows.IsEmpty)
            map.Wrong("windows", "A plan says at least one window in which machines may be touched.");
        if (plan.Methods.IsEmpty)
            map.Wrong("methods", "A plan names at least one method, in order of preference.");
        if (product is not null)
            Match(plan, product(plan.Product), map, target);
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

        foreach (
            var (field, version, build) in plan
                .But.Select(b => ("but", b.Release, b.LeastBuild))
                .Prepend(("release", plan.Release, plan.LeastBuild))
        )
        {
            var release = product.Releases.FirstOrDefault(r => r.Version == version);
            if (release is null)
                target.Wrong(
                    field,
                    $"{product.Name} has no release '{version}'; expected one of "
                        + $"{string.Join(", ", product.Releases.Select(r => r.Version))}."
                );
            if (release?.Status == ReleaseStatus.Withdrawn)
                target.Wrong(field, $"{release.Name} was withdrawn and is no target.");
            if (build is null || release is null)
                continue;
            var at = field == "but" ? field : "build";
            if (product.BuildKey is null)
                target.Wrong(
                    at,
                    $"{product.Name} says nowhere which build a machine runs ('build-key' in its catalogue file), so none can be asked for."
                );
            else if (!release.Builds.IsEmpty && release.Builds.All(b => b.Version != build))
                target.Wrong(
                    at,
                    $"{release.Name} has no build '{build}'; expected one of {string.Join(", ", release.Builds.Select(b => b.Version))}."
                );
        }

        MatchMethods(plan, product, map);
    }

    private static void MatchMethods(Plan plan, Product product, YamlMap map)
    {
        foreach (var method in plan.Methods.Where(m => product.Method(m) is null))
        {
            var near = Spelling.DidYouMean(method, product.Methods.Select(m => m.Name), "");
            map.Wrong("methods", $"{product.Name} has no method '{method}'{near}.");
        }

        foreach (
            var method in plan
                .Methods.Select(product.Method)
                .OfType<Method>()
                .Where(m => plan.Patches is { } time && m.Way == Way.Upgrade && !m.Patches.Contains(time))
        )
            map.Wrong(
                "patches",
                $"Method '{method.Name}' does not let a plan choose when patches are taken. Leave out 'patches', so that each method does "
                    + "so in its own way, or leave out the method."
            );
        foreach (
            var kind in plan
                .Methods.Select(product.Method)
                .Select(m => m?.Needs.Crew)
                .OfType<string>()
                .Distinct()
                .Where(k => plan.Crews.All(c => !c.Kind.Equals(k, StringComparison.OrdinalIgnoreCase)))
        )
        {
            var methods = plan.Methods.Where(m => product.Method(m)?.Needs.Crew == kind);
            map.Wrong(
                "methods",
                $"Method {string.Join(", ", methods)} needs the hands of a crew '{kind}', and 'crews' has none of that kind; add one "
                    + $"such as {{ name: {kind}, hands: 1, zone: Europe/London, weekly: [\"Mon-Fri 08:00-18:00\"] }}."
            );
        }
    }

    private static OtherTarget ButOf(YamlMap map)
    {
        var other = new OtherTarget(TargetSelectorOf(map), map.Text("release"), map.Optional("build"));
        if (other.For.IsEveryone)
            map.Wrong("release", "It says not who goes to that release; expected 'groups', 'sites' or 'machines'.");
        map.Done();
        return other;
    }

    private static WaveSpec WaveOf(YamlMap map, KeyRegistry keys)
    {
        var wave = new WaveSpec(map.Text("name"), map.Condition("members", keys), map.Has("count") ? map.Whole("count", 1) : null)
        {
            Machines = [.. map.Texts("machines")],
            Sample = map.Has("sample") ? map.Share("sample") : null,
            Cover = map.OptionalMap("cover") is { } cover ? CoverOf(cover, keys) : null,
            NeedsApproval = map.Flag("approval"),
            NotBefore = map.Moment("not-before"),
        };
        if (wave is { Cover: not null, Sample: not null })
            map.Wrong("sample", "A wave has either a 'sample' or a 'cover': a cover takes as few machines as it needs.");
        if (wave is { Cover: not null, Count: not null })
            map.Wrong("count", "A wave with a 'cover' has no 'count': it takes as few machines as cover everything.");
        map.Done();
        return wave;
    }

    private static CoverSpec CoverOf(YamlMap map, KeyRegistry keys)
    {
        var cover = new CoverSpec([.. map.Texts("keys")], map.Condition("prefer", keys));
        if (cover.Keys.IsEmpty)
            map.Wrong("keys", "A cover names at least one key, such as hardware.model or site.");
        foreach (var key in cover.Keys.Where(k => keys.Find(k) is null))
            map.Wrong("keys", $"There is no key '{key}'{(keys.Nearest(key) is { } near ? $"; did you mean '{near}'?" : ".")}");
        map.Done();
        return cover;
    }

    private static WindowSpec WindowOf(YamlMap map)
    {
        var window = new WindowSpec(TargetSelectorOf(map), RuleOf(map));
        map.Done();
        return window;
    }

    private static FreezeSpec FreezeOf(YamlMap map)
    {
        var freeze = new FreezeSpec(TargetSelectorOf(map), RuleOf(map), map.Text("why"));
        map.Done();
        return freeze;
    }

    private static UplinkSpec UplinkOf(YamlMap map)
    {
        if (map.Text("rate").Length == 0)
            return new([], 1, 1, null);
        var rate = map.Amount("rate", ValueKind.Rate) ?? 1;
        var share = map.Has("share") ? map.Share("share") : 1;
        if (share <= 0)
            map.Wrong("share", "'share' is 0; expected the share of the uplink that staging may use, such as 50 %.");
        var hasHours = map.Has("weekly") || map.Has("days") || map.Has("calendar");
        var line = new UplinkSpec([.. map.Texts("sites")], rate, share, hasHours || map.Has("zone") ? RuleOf(map) : null);
        if (line.Sites.IsEmpty)
            map.Wrong("sites", "An uplink names the site or the sites that have one like it.");
        map.Done();
        return line;
    }

    private static CrewSpec CrewOf(YamlMap map)
    {
        var name = map.Text("name");
        var crew = new CrewSpec(
            name,
            map.Optional("kind") ?? name,
            map.Whole("hands", 1),
            map.Has("per-day") ? map.Whole("per-day", 1) : null,
            [.. map.Texts("sites")],
            RuleOf(map)
        );
        map.Done();
        return crew;
    }

    private static ApprovalSpec ApprovalOf(YamlMap map)
    {
        if (!map.IsGroup("approval"))
            return new(map.Flag("approval"), []);
        var approval = map.Map("approval");
        var spec = new ApprovalSpec(true, [.. approval.Texts("by")]) { OfCalendars = approval.Flag("calendars") };
        approval.Done();
        return spec;
    }

    private static OwnersChoice OwnersOf(YamlMap map)
    {
        var owners = new OwnersChoice(map.Duration("within") ?? TimeSpan.Zero, map.Duration("notice") ?? TimeSpan.FromHours(24));
        if (owners.Within <= TimeSpan.Zero)
            map.Wrong(
                "within",
                "It says not how far from the time scheduled for it an owner may move a machine; expected a duration such as 10 d."
            );
        map.Done();
        return owners;
    }

    private static TargetSelector TargetSelectorOf(YamlMap map) =>
        new([.. map.Texts("sites")], [.. map.Texts("groups")], [.. map.Texts("machines")]);

    private static TimeRule RuleOf(YamlMap map)
    {
        var zone = map.Text("zone");
        if (zone.Length > 0 && !Windows.IsZone(zone))
            map.Wrong("zone", $"'{zone}' is no time zone; expected a name such as Europe/London.");
        var rule = new TimeRule(zone, [.. map.Each("weekly", WeeklyRule.Parse)])
        {
            Days = [.. map.Each("days", DaySpan.Parse)],
            Calendar = map.Optional("calendar"),
        };
        if (!map.Has("weekly") && !map.Has("days") && rule.Calendar is null)
            map.Wrong("weekly", "It says no time; expected 'weekly', 'days' or 'calendar'.");
        return rule;
    }

    private static IEnumerable<string> Twice(IEnumerable<string> names) =>
        names.GroupBy(n => n, StringComparer.OrdinalIgnoreCase).Where(g => g.Count() > 1).Select(g => g.Key);

    [GeneratedRegex("^[a-z][a-z0-9]*(-[a-z0-9]+)*$")]
    private static partial Regex WellFormed();
}
