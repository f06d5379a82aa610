using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Conditions;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Fleet;
using GrandStair.Service.Access;
using GrandStair.Service.HostKeys;
using GrandStair.Service.Requests;
using GrandStair.Service.Runs;
using GrandStair.Storage.Fleet;

namespace GrandStair.Service.Fleet;

/// <summary>The fleet and its machines.</summary>
internal static class FleetEndpoints
{
    private const int MostValues = 50;
    private const int MostRemoved = 1000;
    private const int MostNamed = 5;

    public static void MapFleet(this RouteGroupBuilder api)
    {
        api.MapGet("/machines", ListAsync).WithName("ListMachines");
        api.MapGet("/machines/{name}", ShowAsync).WithName("GetMachine").ProducesProblem(404);
        api.MapPost("/fleet/removals", RemoveAsync).WithName("RemoveMachines").ProducesProblem(404).ProducesProblem(409);
        api.MapPost("/machines/{name}/restore", RestoreAsync).WithName("RestoreMachine").ProducesProblem(404).ProducesProblem(409);
        api.MapPost("/machines/{name}/readings", ReadAsync).WithName("ReadMachine").ProducesProblem(404).ProducesProblem(502);
        api.MapPut("/machines/{name}/host-key", PinAsync).WithName("PinHostKey").ProducesProblem(409).ProducesProblem(404);
        api.MapGet("/keys", (CatalogueCache catalogues) =>
                catalogues
                    .Keys.All.Select(k => new KeyView(
                        k.Name,
                        RunMachine.Name(k.Kind),
                        k.Meaning,
                        [.. k.Columns.Select(c => new ColumnView(c.Name, RunMachine.Name(c.Kind), c.Meaning))]
                    ))
                    .ToArray()
            )
            .WithName("ListKeys");
        api.MapGet("/conditions/completion", CompleteAsync).WithName("CompleteCondition");
        api.MapGet("/machines/{name}/readings/{key}", HistoryAsync).WithName("GetReadingHistory").ProducesProblem(404);
        api.MapGet("/conflicts", ConflictsAsync).WithName("ListConflicts");
    }

    private static async Task<Page<MachineRow>> ListAsync(
        string? filter,
        int? limit,
        string? cursor,
        CatalogueCache catalogues,
        ScopedFleet fleet,
        ScopedPlans plans,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var (matching, undecided) = await fleet.MatchingAsync(filter, catalogues, clock.GetUtcNow(), stop);
        var places = await PlacesAsync(plans, stop);
        return matching.Page(limit, cursor, m => Row(m, places.GetValueOrDefault(m.Id))) with { Undecided = undecided };
    }

    /// <summary>The place of every machine in the newest plan that it is in.</summary>
    private static async Task<Dictionary<MachineId, (Member Member, string Wave)>> PlacesAsync(ScopedPlans plans, CancellationToken stop)
    {
        var places = new Dictionary<MachineId, (Member, string)>();
        foreach (var plan in await plans.AllAsync(stop))
        {
            foreach (var member in await plans.MembersAsync(plan.Name, stop))
                places[member.Machine] = (member, plan.Waves[member.Wave - 1].Name);
        }
        return places;
    }

    private static MachineRow Row(Machine m, (Member Member, string Wave) place) =>
        new(
            m.Id.ToString(),
            m.Name,
            m.Site,
            m.Group,
            m.Owner,
            m.Tags,
            m.TextOf("os.product"),
            m.TextOf("os.build") ?? m.TextOf("os.version"),
            m.TextOf("os.edition"),
            m.TextOf("hardware.model"),
            m.LastSeen,
            m.Conflicts.Count(),
            place.Member?.Plan,
            place.Wave,
            place.Member is { } member ? RunMachine.Name(member.Status) : null
        );

    private static async Task<MachineView> ShowAsync(
        string name,
        ScopedFleet fleet,
        ScopedPlans plans,
        RunRows runs,
        DomainClock clock,
        CancellationToken stop
    ) => await ViewAsync(await fleet.EverKnownAsync(name, stop), plans, runs, clock, stop);

    private static async Task<MachineView> ViewAsync(
        Machine machine,
        ScopedPlans plans,
        RunRows runs,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var now = clock.GetUtcNow();
        var all = (await plans.AllAsync(stop)).ToDictionary(p => p.Name);
        var places = await plans.OfMachineAsync(machine, stop);
        var newest = places.OrderBy(p => all[p.Plan].Created).LastOrDefault();
        var connection = machine.Connection;
        return new(
            Row(machine, newest is null ? default : (newest, all[newest.Plan].Waves[newest.Wave - 1].Name)),
            machine.IsSilent(now),
            new(
                connection.Kind,
                connection.Address,
                connection.Port,
                connection.User,
                connection.HostKey is { } key ? HostKey.Show(key) : null,
                connection.HostKeyFrom,
                connection.Key
            ),
            [.. machine.Current.Select(r => Show(r, now))],
            [.. machine.Conflicts.Select(r => Show(r, now))],
            [
                .. places.Select(p => new PlaceView(
                    p.Plan,
                    all[p.Plan].Waves[p.Wave - 1].Name,
                    RunMachine.Name(p.Status),
                    p.Why,
                    p.Method,
                    p.Slot?.Start,
                    p.Slot?.End,
                    p.Run is { } run ? $"r{run}" : null
                )),
            ],
            await runs.OfMachineAsync(machine, stop)
        )
        {
            Removed = machine.Removed is { } removed ? new(removed.At, removed.By, removed.Reason) : null,
            Pair = PairOf(machine),
        };
    }

    private static PairView? PairOf(Machine machine)
    {
        if (machine.TextOf(Successors.ReplacedBy) is { } by)
            return new(by, "replaced");
        if (machine.TextOf(Successors.Replaces) is { } other)
            return new(other, machine.Find(Successors.StandsBy) is null ? "took-over" : "stands-by");
        return machine.TextOf(Successors.Successor) is { } next ? new(next, "to-be-replaced") : null;
    }

    private static async Task<IReadOnlyList<ReadingView>> HistoryAsync(
        string name,
        string key,
        ScopedFleet fleet,
        FleetTable table,
        CatalogueCache catalogues,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var machine = await fleet.EverKnownAsync(name, stop);
        if (catalogues.Keys.Find(key) is not { } definition)
            throw UnknownKey(key, catalogues);
        var now = clock.GetUtcNow();
        return
        [
            .. (await fleet.SeenAsync(await table.HistoryAsync(machine.Id, key, stop), stop)).Select(r =>
                Show(r.Value is { } text ? r with { Value = definition.Parse(text.Text, out _) ?? text } : r, now)
            ),
        ];
    }

    private static async Task<CompletionView> CompleteAsync(
        string? text,
        CatalogueCache catalogues,
        ScopedFleet fleet,
        CancellationToken stop
    )
    {
        var place = ConditionCompletion.Of(text ?? "", catalogues.Keys);
        var values = place.WantsValues ? await fleet.ValuesAsync(place.Key!.Name, place.Typed.Trim('"'), MostValues, stop) : [];
        return new(
            place.From,
            RunMachine.Name(place.Coming),
            [.. place.Offers(catalogues.Keys, values).Select(o => new OfferedView(o.Text, o.Hint))]
        );
    }

    private static RefusedException UnknownKey(string key, CatalogueCache catalogues) =>
        RefusedException.Unknown(
            "unknown-key",
            catalogues.Keys.Nearest(key) is { } near
                ? $"There is no key '{key}'; did you mean '{near}'?"
                : $"There is no key '{key}'. 'gstair catalogue keys' lists those that exist."
        );

    private static async Task<Page<ConflictView>> ConflictsAsync(
        string? filter,
        int? limit,
        string? cursor,
        CatalogueCache catalogues,
        ScopedFleet fleet,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var now = clock.GetUtcNow();
        var (matching, _) = await fleet.MatchingAsync(filter, catalogues, now, stop);
        double Age(Reading r) => Math.Max(0, (now - r.Seen).TotalSeconds);
        var all = matching.SelectMany(m => m.Conflicts.Select(other => (Machine: m, Other: other, Counts: m.Find(other.Key)!))).ToArray();
        return all.Page(limit, cursor, d => new ConflictView(
            d.Machine.Name,
            d.Machine.Site,
            d.Other.Key,
            d.Counts.Show(),
            d.Counts.Source,
            Age(d.Counts),
            d.Other.Show(),
            d.Other.Source,
            Age(d.Other)
        ));
    }

    private static ReadingView Show(Reading r, DateTimeOffset now) =>
        new(r.Key, RunMachine.Name(r.State), r.Show(), r.Seen, r.Received, Math.Max(0, (now - r.Seen).TotalSeconds), r.Source, r.Clamped);

    private static async Task<MachineView> ReadAsync(
        string name,
        ScopedFleet fleet,
        MachineReader reader,
        ScopedPlans plans,
        RunRows runs,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var machine = await reader.ReadAsync(await fleet.MachineAsync(name, stop), caller.Actor(), stop);
        return await ViewAsync(machine, plans, runs, clock, stop);
    }

    private static async Task<ConnectionView> PinAsync(
        string name,
        HostKeyCommand command,
        ScopedFleet fleet,
        FleetTable table,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var machine = await fleet.MachineAsync(name, stop);
        if (!HostKey.IsKey(command.HostKey))
            throw RefusedException.Invalid("host-key", "That is no host key; expected one as in known_hosts, such as 'ssh-ed25519 AAAA…'.");
        if (string.IsNullOrWhiteSpace(command.Reason))
            throw RefusedException.Invalid("no-reason", "Say why the key is pinned again, with --reason.");
        await table.PinHostKeyAsync(machine.Id, command.HostKey.Trim(), "person", command.Reason, caller.Actor(), clock.GetUtcNow(), stop);
        return new(
            machine.Connection.Kind,
            machine.Connection.Address,
            machine.Connection.Port,
            machine.Connection.User,
            HostKey.Show(command.HostKey),
            "person",
            machine.Connection.Key
        );
    }

    private static async Task<RemovedView> RemoveAsync(
        RemoveCommand command,
        ScopedFleet fleet,
        RemovalTable removals,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var reason = RequestFields.Reason(command.Reason);
        if (command.Machines is not { Count: > 0 })
            throw RefusedException.Invalid("no-machines", "It names no machine to remove; expected 'machines', a list of names or ids.");
        if (command.Machines.Count > MostRemoved)
            throw RefusedException.Conflict(
                "too-many",
                $"It names {command.Machines.Count} machines to remove; expected at most {MostRemoved} at a time."
            );
        var machines = new Dictionary<MachineId, Machine>();
        foreach (var name in command.Machines)
        {
            var machine = await fleet.MachineAsync(name, stop);
            machines[machine.Id] = machine;
        }

        var running = await removals.RemoveAsync([.. machines.Keys], reason, caller.Actor(), clock.GetUtcNow(), stop);
        return running.Count == 0
            ? new(machines.Count)
            : throw RefusedException.Conflict(
                "machine-running",
                $"Nothing was removed: "
                    + $"{string.Join(", ", running.Take(MostNamed).Select(r => $"{machines[r.Machine].Name} has run r{r.Run}"))}"
                    + $"{(running.Count > MostNamed ? $" and {running.Count - MostNamed} more have one" : "")} "
                    + $"that is not over. Cancel it first, or leave {(running.Count == 1 ? "that machine" : "those machines")} out."
            );
    }

    private static async Task<MachineView> RestoreAsync(
        string name,
        Because because,
        ScopedFleet fleet,
        RemovalTable removals,
        ScopedPlans plans,
        RunRows runs,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var machine = await fleet.EverKnownAsync(name, stop);
        if (machine.IsInFleet)
            throw RefusedException.Conflict("machine-present", $"{machine.Name} belongs to the fleet; there is nothing to restore.");
        if (!await removals.RestoreAsync(machine.Id, RequestFields.Reason(because.Reason), caller.Actor(), clock.GetUtcNow(), stop))
            throw RefusedException.Conflict(
                "name-taken",
                $"Another machine is named {machine.Name} by now. Rename or remove that one first."
            );
        return await ViewAsync(await fleet.MachineAsync(machine.Id.ToString(), stop), plans, runs, clock, stop);
    }
}
