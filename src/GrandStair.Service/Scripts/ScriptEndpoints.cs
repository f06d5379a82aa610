using GrandStair.Contracts;
using GrandStair.Service.Access;
using GrandStair.Storage.Scripts;

namespace GrandStair.Service.Scripts;

/// <summary>The history of scripts run on machines.</summary>
internal static class ScriptEndpoints
{
    public static void MapScripts(this RouteGroupBuilder api) =>
        api.MapGet("/scripts/uses", ListAsync).WithName("ListScriptUses").ProducesProblem(404);

    private static async Task<Page<ScriptUseView>> ListAsync(
        string? machine,
        string? hash,
        string? script,
        int? limit,
        string? cursor,
        ScriptTable scripts,
        ScopedFleet fleet,
        CancellationToken stop
    )
    {
        var of = machine is null ? null : await fleet.MachineAsync(machine, stop);
        var all = await fleet.AllAsync(stop);
        var uses = (await scripts.ListAsync(of?.Id, hash, script, stop)).Where(u => all.ContainsKey(u.Machine)).ToArray();
        return uses.Page(limit, cursor, u => new ScriptUseView(
            all[u.Machine].Name,
            u.Sent.Product,
            u.Sent.Script,
            u.Sent.Hash,
            u.Purpose,
            u.For,
            u.First,
            u.Last,
            u.LastOrder,
            u.Times
        ));
    }
}
