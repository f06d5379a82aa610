using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Engine.Plans;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Media;
using GrandStair.Storage.Plans;

namespace GrandStair.Service.Settings;

/// <summary>What holds for the whole service.</summary>
internal static class SettingEndpoints
{
    public static void MapSettings(this RouteGroupBuilder api)
    {
        api.MapGet("/settings", ShowAsync).WithName("GetSettings");
        api.MapPut("/settings", ChangeAsync).WithName("ChangeSettings").ProducesProblem(400).ProducesProblem(409);
    }

    private static async Task<SettingsView> ShowAsync(ApprovalTable approvals, MediaHostTable hosts, CancellationToken stop) =>
        new(await approvals.AsksForEveryPlanAsync(stop), (await hosts.ReadAsync(stop)).Names);

    private static async Task<SettingsView> ChangeAsync(
        SettingsCommand command,
        ApprovalTable table,
        MediaHostTable hosts,
        PlanApprovals approvals,
        ClaimsPrincipal caller,
        TimeProvider clock,
        CancellationToken stop
    )
    {
        var reason = RequestFields.Reason(command.Reason);
        if (command.MediaHosts is { } names)
            await hosts.SetAsync(MediaHosts.Parse(names), reason, caller.Actor(), clock.GetUtcNow(), stop);
        if (command.EveryPlanApproved is { } every)
        {
            await table.AskForEveryPlanAsync(every, reason, caller.Actor(), clock.GetUtcNow(), stop);
            await approvals.HoldUnapprovedAsync("every plan needs an approval now", caller.Actor(), stop);
        }

        return await ShowAsync(table, hosts, stop);
    }
}
