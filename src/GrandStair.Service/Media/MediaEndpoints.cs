using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Media;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;

namespace GrandStair.Service.Media;

/// <summary>Installation files: what there is, and uploads that continue after a cut.</summary>
internal static class MediaEndpoints
{
    /// <summary>The largest part of an upload, in bytes.</summary>
    private const long LargestPart = 64 << 20;
    private const int LongestName = 200;
    private const int MostRuns = 50;

    public static void MapMedia(this RouteGroupBuilder api)
    {
        api.MapGet("/media", ListAsync).WithName("ListMedia");
        api.MapGet("/media/{name}", async (string name, MediaStore store, CancellationToken stop) =>
                Row(await store.FindAsync(name, stop), await store.NeedingAsync(stop))
            )
            .WithName("GetMedia")
            .ProducesProblem(404);
        api.MapPost(
                "/media/{name}/remove",
                async (string name, Because because, MediaStore store, ClaimsPrincipal caller, CancellationToken stop) =>
                {
                    await store.RemoveAsync(name, RequestFields.Reason(because.Reason), caller.Actor(), stop);
                    return Results.NoContent();
                }
            )
            .WithName("RemoveMedia")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/media-uploads", BeginAsync).WithName("BeginMediaUpload").ProducesProblem(409).ProducesProblem(422);
        api.MapGet("/media-uploads/{id}", async (string id, MediaStore store, CancellationToken stop) =>
                View(await store.UploadAsync(id, stop))
            )
            .WithName("GetMediaUpload")
            .ProducesProblem(404);
        api.MapPut("/media-uploads/{id}", AppendAsync)
            .Accepts<Stream>("application/octet-stream")
            .WithName("SendMediaPart")
            .WithMetadata(new Microsoft.AspNetCore.Mvc.RequestSizeLimitAttribute(LargestPart))
            .Lasts()
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/media-uploads/{id}/end", async (string id, MediaStore store, CancellationToken stop) =>
            {
                await store.EndUploadAsync(id, stop);
                return Results.NoContent();
            })
            .WithName("EndMediaUpload")
            .Produces(204)
            .ProducesProblem(404);
    }

    private static async Task<MediaListView> ListAsync(MediaStore store, CancellationToken stop)
    {
        var needing = await store.NeedingAsync(stop);
        return new()
        {
            Files = [.. (await store.ListAsync(stop)).Select(e => Row(e, needing))],
            Uploads = [.. (await store.UploadsAsync(stop)).Select(View)],
            Free = store.Free,
        };
    }

    private static MediaRow Row(MediaEntry entry, ILookup<string, long> needing) =>
        new()
        {
            Sha256 = entry.Sha256,
            File = entry.File,
            Size = entry.Size,
            State = RunMachine.Name(entry.State),
            Added = entry.Stored?.Added,
            AddedBy = entry.Stored?.AddedBy,
            Why = entry.Stored?.Quarantined,
            Uses =
            [
                .. entry.Uses.Select(u => new MediaUseView
                {
                    Product = u.Product,
                    Media = u.Media,
                    For = u.For,
                }),
            ],
            OpenRuns = needing[entry.Sha256].Count(),
            Runs = [.. needing[entry.Sha256].Take(MostRuns).Select(r => $"r{r}")],
        };

    private static async Task<MediaUploadView> BeginAsync(
        MediaUploadCommand command,
        MediaStore store,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        if (command.File is not { Length: > 0 and <= LongestName } file || !MediaVariant.IsFileName(file))
            throw RefusedException.Invalid(
                "media-file",
                $"'{command.File}' is no file name for media; expected letters, digits, '.', '-' and '_', no '.' in front. Rename the file."
            );
        if (command.Size <= 0)
            throw RefusedException.Invalid("media-size", $"The size of {file} is {command.Size}; expected its size in bytes, above 0.");
        var sha256 = command.Sha256?.ToLowerInvariant();
        return sha256 is not null && !MediaVariant.IsSha256(sha256)
            ? throw RefusedException.Invalid(
                "media-checksum",
                $"'{command.Sha256}' is no SHA-256; expected the 64 hexadecimal digits that 'sha256sum {file}' prints."
            )
            : View(await store.BeginAsync(file, command.Size, sha256, caller.Actor(), stop));
    }

    private static async Task<MediaUploadView> AppendAsync(
        string id,
        long? offset,
        HttpRequest request,
        MediaStore store,
        ClaimsPrincipal caller,
        CancellationToken stop
    ) =>
        View(
            await store.AppendAsync(
                id,
                offset
                    ?? throw RefusedException.Invalid("media-offset", "The part says with 'offset' at which byte of the file it begins."),
                request.Body,
                caller.Actor(),
                stop
            )
        );

    private static MediaUploadView View(UploadStatus status) =>
        new()
        {
            Id = status.Upload.Id,
            File = status.Upload.File,
            Size = status.Upload.Size,
            Received = status.Received,
            Begun = status.Upload.Begun,
            BegunBy = status.Upload.BegunBy,
            State = status.Ended is { } ended ? RunMachine.Name(MediaStore.StateOf(ended)) : "receiving",
            Sha256 = status.Ended?.Sha256 ?? status.Upload.Sha256,
            Why = status.Ended?.Quarantined,
        };
}
