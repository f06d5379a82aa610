using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Service.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Service.Readiness;

/// <summary>Whether machines may go to a target, and exactly why not.</summary>
internal static class ReadinessEndpoints
{
    public static void MapReadiness(this RouteGroupBuilder api)
    {
        api.MapGet("/readiness", ShowAsync).WithName("GetReadiness").ProducesProblem(400).ProducesProblem(404);
        api.MapGet("/readiness/machines", MachinesAsync).WithName("ListReadinessMachines").ProducesProblem(400).ProducesProblem(404);
        api.MapGet("/machines/{name}/gate", GateAsync).WithName("GetGate").ProducesProblem(404);
    }

    /// <summary>Counts every check over a scope.</summary>
    public static ReadinessView Show(Target target, string scope, IReadOnlyList<(Machine Machine, Assessment Assessment)> judged)
    {
        var going = judged.Where(j => !j.Assessment.Route.Arrived).ToArray();
        var gates = going.Where(j => j.Assessment.Gate is not null).ToArray();
        var checks = gates.SelectMany(j => j.Assessment.Gate!.Checks.Select(c => (Gate: j.Assessment.Gate!, Result: c))).GroupBy(c => c.Result.Check.Name)
            .Select(g => Count([.. g]))
            .OrderByDescending(c => c.Opens).ThenByDescending(c => c.Unmet + c.Untold).ThenBy(c => c.Title, StringComparer.Ordinal);
        var reasons = going.Where(j => j.Assessment.Gate is null).CountBy(j => j.Assessment.Why!).OrderByDescending(r => r.Value).Select(r => new ReasonCount(r.Key, r.Value));
        var versions = judged.Select(j => j.Machine.Find(target.Product.VersionKey)?.Seen).Where(s => s is not null).ToArray();
        return new(
            target.Name,
            scope,
            judged.Count,
            judged.Count - going.Length,
            going.Count(j => j.Assessment.State == GateState.Open),
            going.Count(j => j.Assessment.State == GateState.Undecided),
            going.Count(j => j.Assessment.State == GateState.Shut),
            going.Count(j => j.Assessment.CannotBeMended),
            going.Count(j => j.Machine.Disagreements.Any()),
            versions.Length == 0 ? null : versions.Min(),
            [.. checks],
            [.. reasons]);
    }

    private static CheckCount Count((Gate Gate, CheckResult Result)[] all)
    {
        var check = all[0].Result.Check;
        int Of(CheckState state) => all.Count(c => c.Result.State == state);
        var opens = all.Count(c => c.Gate.InTheWay.ToArray() is [var only] && only.Check.Name == check.Name);
        return new(check.Name, check.Title, RunMachine.Name(check.Need), Of(CheckState.Met), Of(CheckState.Unmet), Of(CheckState.Untold), Of(CheckState.Deferred), Of(CheckState.NotApplicable), Show(check.Fix), opens);
    }

    private static FixView Show(Fix fix) => new(RunMachine.Name(fix.By), fix.Words, fix.Takes?.TotalMinutes);

    private static async Task<ReadinessView> ShowAsync(string? product, string? release, string? plan, string? scope, Shelf shelf, FleetCache fleet, PlanTable plans, PlanDesk desk, DomainClock clock, CancellationToken stop)
    {
        var target = await Target.OfAsync(product, release, plan, shelf, desk, stop);
        return Show(target, target.Scope(scope), await JudgeAsync(target, scope, plan, shelf, fleet, plans, clock, stop));
    }

    private static async Task<Page<ReadinessRow>> MachinesAsync(
        string? product, string? release, string? plan, string? scope, string? check, string? state, string? gate, int? limit, string? cursor, Shelf shelf, FleetCache fleet, PlanTable plans, PlanDesk desk, DomainClock clock, CancellationToken stop)
    {
        var target = await Target.OfAsync(product, release, plan, shelf, desk, stop);
        var now = clock.GetUtcNow();
        var rows = (await JudgeAsync(target, scope, plan, shelf, fleet, plans, clock, stop))
            .Where(j => !j.Assessment.Route.Arrived || gate == "arrived")
            .Where(j => gate is null || (gate == "arrived" ? j.Assessment.Route.Arrived : RunMachine.Name(j.Assessment.State) == gate))
            .Select(j => (j.Machine, j.Assessment, Result: check is null ? null : j.Assessment.Gate?.Checks.FirstOrDefault(c => c.Check.Name == check)))
            .Where(j => check is null || j.Result is not null)
            .Where(j => state is null || (j.Result is not null && state.Split(',').Contains(RunMachine.Name(j.Result.State))))
            .ToArray();
        return rows.Page(limit, cursor, j => new ReadinessRow(
            j.Machine.Id.ToString(), j.Machine.Name, j.Machine.Site, RunMachine.Name(j.Assessment.State), j.Assessment.Why, j.Assessment.Choice?.Method?.Name,
            j.Result is null ? null : RunMachine.Name(j.Result.State), j.Result is null ? [] : Seen(j.Result, now)));
    }

    /// <summary>With a plan, its members; with a scope, those that match it too.</summary>
    private static async Task<IReadOnlyList<(Machine Machine, Assessment Assessment)>> JudgeAsync(
        Target target, string? scope, string? plan, Shelf shelf, FleetCache fleet, PlanTable plans, DomainClock clock, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var machines = await fleet.MatchingAsync(scope, shelf, now, stop);
        if (plan is not null)
        {
            var members = (await plans.MembersAsync(plan, stop)).Where(m => m.Excuse is null).Select(m => m.Machine).ToHashSet();
            machines = [.. machines.Where(m => members.Contains(m.Id))];
        }

        return [.. machines.Where(m => target.Product.Is.Ask(m, new Use(now)).Value == Kleene.Yes).Select(m => (m, target.Assess(m, now)))];
    }

    private static async Task<GateView> GateAsync(string name, string? product, string? release, string? plan, Shelf shelf, FleetCache fleet, PlanDesk desk, PlanTable plans, DomainClock clock, CancellationToken stop)
    {
        var machine = await fleet.MachineAsync(name, stop);
        // Where nothing is said, the question is about the plan that the machine is in, or else the product that it runs.
        if (product is null && plan is null) plan = (await plans.OfMachineAsync(machine.Id, stop)).LastOrDefault()?.Plan;
        if (product is null && plan is null)
        {
            product = shelf.Products.Values.FirstOrDefault(p => p.Is.Ask(machine, new Use(clock.GetUtcNow())).Value == Kleene.Yes)?.Name
                ?? throw new CommandException("unknown-product", $"It is not known which product {machine.Name} runs. Read it with 'gstair machine read {machine.Name}', or import its os.product.");
        }

        var target = await Target.OfAsync(product, release, plan, shelf, desk, stop);
        var now = clock.GetUtcNow();
        var a = target.Assess(machine, now);
        return new(
            machine.Name,
            target.Name,
            RunMachine.Name(a.State),
            a.Route.Arrived,
            a.Why,
            [.. a.Route.Hops.Select(h => h.Name)],
            a.Choice?.Method?.Name,
            a.Choice?.Method is { } method ? RunMachine.Name(method.Carries) : null,
            [.. (a.Choice?.Against ?? []).Select(x => new AgainstView(x.Method, x.Why))],
            [.. (a.Gate?.Checks ?? []).Select(c => new CheckView(c.Check.Name, c.Check.Title, RunMachine.Name(c.Check.Need), RunMachine.Name(c.State), Seen(c, now), c.Check.Wants.Text, Show(c.Check.Fix)))],
            a.Gate?.Until);
    }

    private static SeenView[] Seen(CheckResult result, DateTimeOffset now) => [.. result.Seen.Select(l => new SeenView(
        l.Text, l.Key, l.Reading?.Show() ?? "never seen", l.Reading is { Source: not "fleet" } r ? Math.Max(0, (now - r.Seen).TotalSeconds) : null, l.Reading?.Source, l.Note))];
}

/// <summary>What readiness is asked for.</summary>
internal sealed record Target(Product Product, Release Release, IReadOnlyList<string> Methods, Carries Carries, string? PlanScope)
{
    public string Name => Release.Name;

    public string Scope(string? filter) => filter ?? PlanScope ?? Product.Is.Text;

    public Assessment Assess(Machine machine, DateTimeOffset now) => Assessment.Of(Product, Release, Methods, Carries, machine, Moment.Planning, now);

    /// <summary>The target of a plan; or a product's release, by default its recommended one, with all its methods.</summary>
    public static async Task<Target> OfAsync(string? product, string? release, string? plan, Shelf shelf, PlanDesk desk, CancellationToken stop)
    {
        if (plan is not null)
        {
            var (body, pinned) = await shelf.ReadPlanAsync(await desk.FindAsync(plan, stop), stop);
            return new(pinned, pinned.Releases.Single(r => r.Version == body.Release), body.Methods, body.Carries, body.Scope.Text);
        }

        var names = shelf.Products.Keys.ToArray();
        if (product is null || !shelf.Products.TryGetValue(product, out var found))
        {
            var near = product is null ? null : Spelling.Nearest(product, names);
            throw new CommandException("unknown-product", $"{(product is null ? "Say which product" : $"There is no product '{product}'")}{(near is null ? $"; expected one of {string.Join(", ", names)}." : $"; did you mean '{near}'?")}");
        }

        var target = release is null
            ? found.Releases.LastOrDefault(r => r.Status == ReleaseStatus.Recommended) ?? found.Releases[^1]
            : found.Releases.FirstOrDefault(r => r.Version == release || r.Name.Equals(release, StringComparison.OrdinalIgnoreCase))
                ?? throw new CommandException("unknown-release", $"{found.Name} has no release '{release}'; expected one of {string.Join(", ", found.Releases.Select(r => r.Version))}.");
        return new(found, target, [.. found.Methods.Select(m => m.Name)], Carries.Whole, null);
    }
}
