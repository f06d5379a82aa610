using System.Collections.Frozen;
using GrandStair.Core.Access;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Problems;
using GrandStair.Storage.Audit;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;

namespace GrandStair.Service.Access;

/// <summary>What one may not do, though one may see it.</summary>
/// <param name="message">What it would need, and whom to ask. It reveals nothing that the caller does not see.</param>
internal sealed class NotAllowedException(string message) : Exception(message);

/// <summary>
/// What every call needs: the one place that says so. A call that is not here does not come up with the service;
/// whoever calls needs one of the roles, and where it says so an account for all sites.
/// </summary>
internal static class CallRights
{
    private const Roles Reader = Roles.Reader,
        Auditor = Roles.Auditor,
        Planner = Roles.Planner,
        Approver = Roles.Approver,
        Operator = Roles.Operator,
        Admin = Roles.Admin;
    private static readonly Right Anybody = new(Roles.None);

    /// <summary>By the call's name in the OpenAPI document.</summary>
    public static FrozenDictionary<string, Right> Of { get; } =
        new Dictionary<string, Right>
        {
            // Reading: every account, within its sites.
            ["GetSession"] = Anybody,
            ["SignOut"] = Anybody,
            ["ListKeys"] = Anybody,
            ["CompleteCondition"] = Anybody,
            ["ListMachines"] = Anybody,
            ["GetMachine"] = Anybody,
            ["GetReadingHistory"] = Anybody,
            ["ListConflicts"] = Anybody,
            ["ListProducts"] = Anybody,
            ["GetReadiness"] = Anybody,
            ["ListReadinessMachines"] = Anybody,
            ["GetReadinessReport"] = Anybody,
            ["GetGate"] = Anybody,
            ["GetExposure"] = Anybody,
            ["ListFixes"] = Anybody,
            ["ListWaivers"] = Anybody,
            ["GetReferralPack"] = Anybody,
            ["ListPlans"] = Anybody,
            ["GetPlan"] = Anybody,
            ["ListMembers"] = Anybody,
            ["ListAcknowledgements"] = Anybody,
            ["GetOutcomes"] = Anybody,
            ["GetSchedule"] = Anybody,
            ["GetBoard"] = Anybody,
            ["GetSlots"] = Anybody,
            ["ListRevisions"] = Anybody,
            ["ListProposals"] = Anybody,
            ["ListRehearsals"] = Anybody,
            ["GetRehearsal"] = Anybody,
            ["GetForecast"] = Anybody,
            ["ListTimes"] = Anybody,
            ["TryTime"] = Anybody,
            ["ListShareLinks"] = Anybody,
            ["ListCalendars"] = Anybody,
            // What a calendar says names ships, crews and machines of any site.
            ["GetCalendar"] = new(Roles.None, AllSites: true),
            ["ListRuns"] = Anybody,
            ["GetRun"] = Anybody,
            ["GetOverview"] = Anybody,
            ["GetSettings"] = Anybody,
            ["ListDuties"] = Anybody,
            ["WatchChanges"] = Anybody,
            ["DescribeInterface"] = Anybody,
            // One's own password, tokens and sessions; those of others are an admin's, which the call itself sees to.
            ["ChangePassword"] = Anybody,
            ["ListTokens"] = Anybody,
            ["CreateToken"] = Anybody,
            ["EndToken"] = Anybody,
            ["ListSessions"] = Anybody,
            ["EndSession"] = Anybody,
            // The whole fleet.
            ["ImportFleet"] = new(Planner | Admin, AllSites: true),
            ["UndoImport"] = new(Planner | Admin, AllSites: true),
            ["RemoveMachines"] = new(Planner | Admin),
            ["RestoreMachine"] = new(Planner | Admin),
            ["ListImports"] = new(Roles.None, AllSites: true),
            ["ListSources"] = new(Roles.None, AllSites: true),
            ["ReadSource"] = new(Planner | Admin, AllSites: true),
            // Machines.
            ["ReadMachine"] = new(Planner | Operator),
            ["Recheck"] = new(Planner | Operator),
            ["FixCheck"] = new(Operator),
            ["WaiveCheck"] = new(Approver),
            ["EndWaiver"] = new(Approver),
            ["PinHostKey"] = new(Admin),
            ["ListHostKeys"] = Anybody,
            ["ListFirstUse"] = Anybody,
            ["ImportKnownHosts"] = new(Admin),
            ["TrustFirstUse"] = new(Admin),
            ["EndFirstUse"] = new(Admin),
            // What runs on machines.
            ["GetRunEvidence"] = new(Auditor | Approver | Operator | Admin),
            ["ListOutputs"] = Anybody,
            ["GetOutput"] = Anybody,
            ["DownloadOutput"] = Anybody,
            ["ListSavedFiles"] = Anybody,
            // Configuration often has passwords in it.
            ["GetSavedFiles"] = new(Operator | Admin),
            ["ListScriptUses"] = new(Auditor | Approver | Operator | Admin),
            ["ListCatalogueChanges"] = Anybody,
            ["ApproveCatalogue"] = new(Approver, AllSites: true),
            // Plans and runs.
            ["CreatePlan"] = new(Planner),
            ["ComparePlan"] = new(Planner),
            ["LoadPlan"] = new(Planner),
            ["LoadCalendar"] = new(Planner, AllSites: true),
            ["AskRehearsal"] = new(Planner | Approver),
            ["CancelRehearsal"] = new(Planner | Approver),
            ["MoveMachine"] = new(Planner),
            ["RescheduleMachine"] = new(Planner | Operator),
            ["MakeShareLink"] = new(Planner),
            ["EndShareLink"] = new(Planner | Admin),
            ["AcceptProposals"] = new(Planner),
            ["ApprovePlan"] = new(Approver),
            ["ChooseMethod"] = new(Planner),
            ["ExemptMachine"] = new(Planner),
            ["Acknowledge"] = new(Approver),
            ["StartPlan"] = new(Operator),
            ["DiscardPlan"] = new(Planner),
            ["HoldPlan"] = new(Planner | Approver | Operator),
            ["GoAgain"] = new(Operator),
            ["DecideRun"] = new(Operator),
            ["AnswerRun"] = new(Operator),
            ["KeepRollback"] = new(Operator),
            ["CategoriseRollbacks"] = new(Operator),
            ["ListFollowUps"] = Anybody,
            ["AddFollowUp"] = new(Operator),
            ["AssignFollowUps"] = new(Operator),
            ["CloseFollowUps"] = new(Operator),
            ["FixFollowUps"] = new(Operator),
            // Cases with the vendor's support.
            ["ListSupportCases"] = Anybody,
            ["GetSupportCase"] = Anybody,
            ["OpenSupportCase"] = new(Planner | Operator),
            ["NoteSupportCase"] = new(Planner | Operator),
            ["BookAppointment"] = new(Planner | Operator),
            ["CancelAppointment"] = new(Planner | Operator),
            ["CloseSupportCase"] = new(Planner | Operator),
            // Media.
            ["ListMedia"] = Anybody,
            ["GetMedia"] = Anybody,
            ["GetMediaUpload"] = new(Planner | Admin, AllSites: true),
            ["BeginMediaUpload"] = new(Planner | Admin, AllSites: true),
            ["SendMediaPart"] = new(Planner | Admin, AllSites: true),
            ["EndMediaUpload"] = new(Planner | Admin, AllSites: true),
            ["DownloadMedia"] = new(Planner | Admin, AllSites: true),
            ["SetRepository"] = new(Admin, AllSites: true),
            ["RemoveRepository"] = new(Admin, AllSites: true),
            ["RemoveMedia"] = new(Planner | Admin, AllSites: true),
            // Secrets.
            ["ListSecrets"] = new(Admin, AllSites: true),
            ["PutSecret"] = new(Admin, AllSites: true),
            ["RemoveSecret"] = new(Admin, AllSites: true),
            ["RotateSecrets"] = new(Admin, AllSites: true),
            // Accounts, the audit, and what holds for the whole service.
            ["ChangeSettings"] = new(Admin, AllSites: true),
            ["ListAccounts"] = new(Auditor | Admin, AllSites: true),
            ["AddAccount"] = new(Admin, AllSites: true),
            ["ChangeAccount"] = new(Admin, AllSites: true),
            ["SetPassword"] = new(Admin, AllSites: true),
            ["EndAccount"] = new(Admin, AllSites: true),
            ["ListAudit"] = new(Auditor),
            ["ExportAudit"] = new(Auditor, AllSites: true),
            ["VerifyAudit"] = new(Auditor, AllSites: true),
        }.ToFrozenDictionary(StringComparer.Ordinal);

    /// <summary>Lets every call of a group carry what it needs.</summary>
    /// <exception cref="InvalidOperationException">A call has no entry here, when the service starts.</exception>
    public static void NeedRights(this RouteGroupBuilder api) =>
        ((IEndpointConventionBuilder)api).Finally(endpoint =>
        {
            if (endpoint.Metadata.OfType<Microsoft.AspNetCore.Authorization.IAllowAnonymous>().Any())
                return;
            if (endpoint.Metadata.OfType<IEndpointNameMetadata>().LastOrDefault()?.EndpointName is not { } name)
                return;
            endpoint.Metadata.Add(
                Of.TryGetValue(name, out var right)
                    ? right
                    : throw new InvalidOperationException($"The call {name} says nowhere what it needs; put it into {nameof(CallRights)}.")
            );
        });

    /// <summary>Refuses calls that the caller has no right to, and records the attempt.</summary>
    public static void UseCallRights(this WebApplication app) =>
        app.Use(
            async (context, next) =>
            {
                if (
                    context.User is CallerPrincipal { Caller: var caller }
                    && context.GetEndpoint()?.Metadata.GetMetadata<Right>()?.Refuses(caller) is { } why
                )
                    await RefuseAsync(context, caller, why);
                else
                    await next(context);
            }
        );

    /// <summary>Refuses a call, and records the attempt.</summary>
    public static async Task RefuseAsync(HttpContext context, Caller caller, string why)
    {
        var name = context.GetEndpoint()?.Metadata.GetMetadata<IEndpointNameMetadata>()?.EndpointName ?? "";
        await context
            .RequestServices.GetRequiredService<AuditTable>()
            .AddAsync(
                context.RequestServices.GetRequiredService<DomainClock>().GetUtcNow(),
                caller.Actor,
                "refused",
                name,
                null,
                why,
                context.RequestAborted
            );
        await ProblemResults.WriteAsync(context, 403, "not-allowed", why);
    }

    /// <summary>Says in the OpenAPI document what each call needs.</summary>
    public static Task DescribeAsync(OpenApiOperation operation, OpenApiOperationTransformerContext context, CancellationToken stop)
    {
        if (context.Description.ActionDescriptor.EndpointMetadata.OfType<Right>().FirstOrDefault() is not { } right)
            return Task.CompletedTask;
        var roles = right.Any == Roles.None ? RoleNames.Every.Names() : right.Any.Names();
        operation.Description =
            $"Needs {(right.Any == Roles.None ? "an account" : $"the role {string.Join(" or ", roles)}")}"
            + $"{(right.AllSites ? ", for all sites" : "; it is held to the account's sites")}.";
        operation.Extensions ??= new Dictionary<string, IOpenApiExtension>();
        operation.Extensions["x-roles"] = new JsonNodeExtension(
            new System.Text.Json.Nodes.JsonArray([.. roles.Select(r => (System.Text.Json.Nodes.JsonNode)r)])
        );
        operation.Extensions["x-all-sites"] = new JsonNodeExtension(right.AllSites);
        return Task.CompletedTask;
    }
}
