using System.Security.Cryptography;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Problems;
using GrandStair.Service.Requests;
using GrandStair.Service.Secrets;
using GrandStair.Storage.Media;
using GrandStair.Storage.Runs;
using Microsoft.Net.Http.Headers;

namespace GrandStair.Service.Orders;

/// <summary>What machines fetch and leave for an order. They show the order's token, and have no account.</summary>
internal static class OrderFileEndpoints
{
    private const string Saved = "/run-files/{run}/{leg}/{step}";

    public static void MapOrderFiles(this WebApplication app)
    {
        // With ranges (RFC 9110) and a digest (RFC 9530).
        app.MapMethods("/media/{sha256}", ["GET", "HEAD"], MediaAsync).AllowAnonymous().Lasts().ExcludeFromDescription();
        app.MapPut(Saved, SaveAsync)
            .WithMetadata(new Microsoft.AspNetCore.Mvc.RequestSizeLimitAttribute(SavedFiles.Largest))
            .AllowAnonymous()
            .ExcludeFromDescription();
        app.MapGet(Saved, RestoreAsync).AllowAnonymous().ExcludeFromDescription();
    }

    private static async Task<IResult> MediaAsync(
        string sha256,
        HttpContext context,
        MediaTable table,
        MediaFolder folder,
        OrderLinks links,
        CancellationToken stop
    )
    {
        if (await links.OrderOfAsync(context.Request, stop) is null)
            return NoOrder();
        if (await table.FindAsync(sha256, stop) is not { Quarantined: null } media || !File.Exists(folder.PathOf(sha256)))
            return Results.Problem(ProblemResults.Of(404, "unknown-media", $"The service does not have the file {sha256} any more."));
        context.Response.Headers["Repr-Digest"] = $"sha-256=:{Convert.ToBase64String(Convert.FromHexString(sha256))}:";
        DirectFileBody.Use(context);
        return Results.File(
            folder.PathOf(sha256),
            "application/octet-stream",
            media.File,
            media.Added,
            new EntityTagHeaderValue($"\"{sha256}\""),
            enableRangeProcessing: true
        );
    }

    private static async Task<IResult> SaveAsync(
        string? sha256,
        HttpContext context,
        SavedFileStore store,
        OrderLinks links,
        DomainClock clock,
        CancellationToken stop
    )
    {
        if (await links.OrderOfAsync(context.Request, stop) is not { } order)
            return NoOrder();
        using var content = new MemoryStream();
        await new BoundedStream(context.Request.Body, SavedFiles.Largest).CopyToAsync(content, stop);
        var archive = content.ToArray();
        var hash = Convert.ToHexStringLower(SHA256.HashData(archive));
        if (hash != sha256)
            return Results.Problem(
                ProblemResults.Of(
                    422,
                    "checksum",
                    $"What arrived has the SHA-256 {hash}; expected {sha256}. Nothing was stored; send it again."
                )
            );
        await store.PutAsync(order.Run, new(order.Leg, order.Step, clock.GetUtcNow(), archive.Length, hash), archive, stop);
        return Results.NoContent();
    }

    private static async Task<IResult> RestoreAsync(
        int leg,
        string step,
        HttpContext context,
        SavedFileStore store,
        OrderLinks links,
        CancellationToken stop
    ) =>
        await links.OrderOfAsync(context.Request, stop) is { } order
            ? Results.Bytes(await store.ReadAsync(order.Run, leg, step, stop), "application/gzip")
            : NoOrder();

    private static IResult NoOrder() =>
        Results.Problem(ProblemResults.Of(403, "no-order", "Only a machine with an outstanding order for it can call this."));
}
