using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Engine.Plans;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Plans;

namespace GrandStair.Service.Settings;

/// <summary>What holds for the whole service.</summary>
internal static class SettingEndpoints
{
    public static void MapSettings(this RouteGroupBuilder api)
    {
        api.MapGet("/settings", async (ApprovalTable table, CancellationToken stop) =>
                new SettingsView(await table.AsksForEveryPlanAsync(stop))
            )
            .WithName("GetSettings");
        api.MapPut(
                "/settings",
                async (
                    SettingsCommand command,
                    ApprovalTable table,
                    PlanApprovals approvals,
                    ClaimsPrincipal caller,
                    TimeProvider clock,
                    CancellationToken stop
                ) =>
                {
                    await table.AskForEveryPlanAsync(
                        command.EveryPlanApproved,
                        RequestFields.Reason(command.Reason),
                        caller.Actor(),
                        clock.GetUtcNow(),
                        stop
                    );
                    await approvals.HoldUnapprovedAsync("every plan needs an approval now", caller.Actor(), stop);
                    return new SettingsView(command.EveryPlanApproved);
                }
            )
            .WithName("ChangeSettings")
            .ProducesProblem(409);
    }
}
