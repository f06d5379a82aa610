using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Secrets;

namespace GrandStair.Service.Secrets;

/// <summary>Secrets: put, replaced, taken away, encrypted again; never shown.</summary>
internal static class SecretEndpoints
{
    public static void MapSecrets(this RouteGroupBuilder api)
    {
        api.MapGet("/secrets", async (SecretTable table, CancellationToken stop) =>
                (await table.AllAsync(stop))
                    .Select(s => new SecretView(s.Name, s.Created, s.CreatedBy, s.Changed, s.ChangedBy, s.LastUsed))
                    .ToArray()
            )
            .WithName("ListSecrets");
        api.MapPut(
                "/secrets/{name}",
                async (string name, SecretCommand command, SecretStore desk, ClaimsPrincipal caller, CancellationToken stop) =>
                {
                    await desk.PutAsync(name, command.Value, caller.Actor(), stop);
                    return Results.NoContent();
                }
            )
            .WithName("PutSecret")
            .Produces(204)
            .ProducesProblem(409);
        api.MapPost(
                "/secrets/{name}/remove",
                async (
                    string name,
                    Because because,
                    SecretTable table,
                    DomainClock clock,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                    await table.RemoveAsync(name, caller.Actor(), RequestFields.Reason(because.Reason), clock.GetUtcNow(), stop)
                        ? Results.NoContent()
                        : throw RefusedException.Unknown(
                            "unknown-secret",
                            $"There is no secret '{name}'. 'gstair secret list' shows those that there are."
                        )
            )
            .WithName("RemoveSecret")
            .Produces(204)
            .ProducesProblem(404);
        api.MapPost("/secrets/rotate", async (SecretStore desk, ClaimsPrincipal caller, CancellationToken stop) =>
                new RotationView(await desk.RotateAsync(caller.Actor(), stop))
            )
            .WithName("RotateSecrets");
    }
}
