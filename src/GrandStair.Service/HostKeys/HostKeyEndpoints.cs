using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Files.HostKeys;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Fleet;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.HostKeys;

/// <summary>The host keys by which machines are known again: listed, compared with a known_hosts file, and pinned from it.</summary>
internal static class HostKeyEndpoints
{
    private const long MostBytes = 16L << 20;

    public static void MapHostKeys(this RouteGroupBuilder api)
    {
        api.MapGet("/host-keys", ListAsync).WithName("ListHostKeys");
        api.MapPost("/host-keys/known-hosts", ImportAsync)
            .Accepts<string>("text/plain")
            .WithMetadata(new RequestSizeLimitAttribute(MostBytes + 1))
            .WithName("ImportKnownHosts")
            .ProducesProblem(409);
        api.MapGet("/host-keys/first-use", async (FirstUseTable table, ScopedFleet fleet, CancellationToken stop) =>
                (await table.AllAsync(stop))
                    .Where(f => fleet.Sites.Holds(f.Site))
                    .Select(f => new FirstUseView(f.Site, f.Reason, f.By, f.Since))
                    .ToArray()
            )
            .WithName("ListFirstUse");
        api.MapPut(
                "/host-keys/first-use/{site}",
                (
                    string site,
                    Because because,
                    FirstUseTable table,
                    ScopedFleet fleet,
                    DomainClock clock,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) => PutAsync(site, true, because, table, fleet, clock, caller, stop)
            )
            .WithName("TrustFirstUse")
            .Produces(204)
            .ProducesProblem(404);
        api.MapPost(
                "/host-keys/first-use/{site}/end",
                (
                    string site,
                    Because because,
                    FirstUseTable table,
                    ScopedFleet fleet,
                    DomainClock clock,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) => PutAsync(site, false, because, table, fleet, clock, caller, stop)
            )
            .WithName("EndFirstUse")
            .Produces(204)
            .ProducesProblem(404);
    }

    private static async Task<Page<HostKeyView>> ListAsync(
        string? filter,
        string? from,
        int? limit,
        string? cursor,
        CatalogueCache catalogues,
        ScopedFleet fleet,
        DomainClock clock,
        CancellationToken stop
    )
    {
        var (matching, _) = await fleet.MatchingAsync(filter, catalogues, clock.GetUtcNow(), stop);
        var machines = matching
            .Where(m =>
                m.Connection.Kind == "ssh"
                && (from is null || from == (m.Connection.HostKey is null ? "none" : m.Connection.HostKeyFrom ?? "import"))
            )
            .ToArray();
        return machines.Page(limit, cursor, m => new HostKeyView(
            m.Name,
            m.Site,
            m.Connection.Address,
            m.Connection.Port,
            m.Connection.HostKey is { } key ? HostKey.Show(key) : null,
            m.Connection.HostKey is null ? null : m.Connection.HostKeyFrom ?? "import"
        ));
    }

    private static async Task<IReadOnlyList<KnownHostView>> ImportAsync(
        HttpRequest request,
        bool? dry,
        string? reason,
        ScopedFleet fleet,
        FleetTable table,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (hosts, problems) = KnownHosts.Parse(await BoundedStream.ReadTextAsync(request, MostBytes, stop), "known_hosts");
        if (dry != true)
            RequestFields.Reason(reason);
        var machines = (await fleet.AllAsync(stop)).Values.Where(m => m.IsInFleet && m.Connection.Kind == "ssh").ToArray();
        var views = problems.Select(p => new KnownHostView(p.Line, "not-understood", null, p.Message, null)).ToList();
        var pinned = new HashSet<MachineId>();
        foreach (var host in hosts.OrderBy(h => KnownHosts.Rank(h.Kind)).ThenBy(h => h.Line))
        {
            var found = machines.Where(m => host.IsFor(m.Connection.Address, m.Connection.Port)).ToArray();
            if (found.Length == 0)
                views.Add(new(host.Line, "no-machine", null, HostKey.Show(host.Key), null));
            foreach (var machine in found)
            {
                var outcome = Outcome(machine, host, pinned.Contains(machine.Id));
                views.Add(
                    new(
                        host.Line,
                        outcome,
                        machine.Name,
                        HostKey.Show(host.Key),
                        machine.Connection.HostKey is { } stands ? HostKey.Show(stands) : null
                    )
                );
                if (outcome != "pinned" || !pinned.Add(machine.Id) || dry == true)
                    continue;
                await table.PinHostKeyAsync(machine.Id, host.Key, "known-hosts", reason!.Trim(), caller.Actor(), clock.GetUtcNow(), stop);
            }
        }

        return [.. views.OrderBy(v => v.Line).ThenBy(v => v.Machine, StringComparer.Ordinal)];
    }

    /// <summary>A key that differs is never replaced by a file; a person does that, machine by machine, with a reason.</summary>
    private static string Outcome(Machine machine, KnownHost host, bool pinnedNow)
    {
        if (pinnedNow)
            return "another-kind";
        if (machine.Connection.HostKey is not { } stands)
            return "pinned";
        if (!stands.StartsWith(host.Kind + " ", StringComparison.Ordinal))
            return "another-kind";
        return stands.Split(' ')[1] == host.Data ? "same" : "differs";
    }

    private static async Task<IResult> PutAsync(
        string site,
        bool trusts,
        Because because,
        FirstUseTable table,
        ScopedFleet fleet,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        // A site is where a machine is; for a mistyped one nothing would ever come of it.
        var known = (await fleet.AllAsync(stop))
            .Values.Where(m => m.IsInFleet)
            .Select(m => m.Site)
            .Where(s => s.Length > 0)
            .Distinct(StringComparer.OrdinalIgnoreCase)
            .ToArray();
        var name = known.FirstOrDefault(s => s.Equals(site, StringComparison.OrdinalIgnoreCase))
            ?? throw RefusedException.Unknown(
                "unknown-site",
                $"There is no machine at a site '{site}'{Spelling.DidYouMean(site, known, ".")}"
            );
        await table.PutAsync(name, trusts, RequestFields.Reason(because.Reason), caller.Actor(), clock.GetUtcNow(), stop);
        return Results.NoContent();
    }
}
