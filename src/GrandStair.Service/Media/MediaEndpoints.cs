using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Media;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Media;

namespace GrandStair.Service.Media;

/// <summary>Installation files: what there is, uploads and downloads that continue after a cut, and repositories of sites.</summary>
internal static class MediaEndpoints
{
    /// <summary>The largest part of an upload, in bytes.</summary>
    private const long LargestPart = 64 << 20;
    private const int LongestName = 200;

    public static void MapMedia(this RouteGroupBuilder api)
    {
        api.MapGet("/media", (MediaRows rows, CancellationToken stop) => rows.AllAsync(stop)).WithName("ListMedia");
        api.MapGet("/media/{name}", (string name, MediaRows rows, CancellationToken stop) => rows.OneAsync(name, stop))
            .WithName("GetMedia")
            .ProducesProblem(404);
        api.MapPost("/media-downloads", DownloadAsync).WithName("DownloadMedia").ProducesProblem(400).ProducesProblem(409);
        api.MapPut("/site-repositories/{site}", SetRepositoryAsync).WithName("SetRepository").ProducesProblem(400).ProducesProblem(404);
        api.MapPost("/site-repositories/{site}/remove", RemoveRepositoryAsync)
            .WithName("RemoveRepository")
            .Produces(204)
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
                MediaRows.View(await store.UploadAsync(id, stop))
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
        return MediaRows.View(await store.BeginAsync(file, command.Size, Sha256(command.Sha256, file), caller.Actor(), stop));
    }

    private static async Task<MediaUploadView> AppendAsync(
        string id,
        long? offset,
        HttpRequest request,
        MediaStore store,
        ClaimsPrincipal caller,
        CancellationToken stop
    ) =>
        MediaRows.View(
            await store.AppendAsync(
                id,
                offset
                    ?? throw RefusedException.Invalid("media-offset", "The part says with 'offset' at which byte of the file it begins."),
                request.Body,
                caller.Actor(),
                stop
            )
        );

    private static async Task<MediaUploadView> DownloadAsync(
        MediaDownloadCommand command,
        MediaDownloads downloads,
        ClaimsPrincipal caller,
        CancellationToken stop
    ) => MediaRows.View(await downloads.BeginAsync(Url(command.Url), Sha256(command.Sha256, command.Url), caller.Actor(), stop));

    private static async Task<MediaListView> SetRepositoryAsync(
        string site,
        SiteRepositoryCommand command,
        SiteRepositoryTable repositories,
        MediaRows rows,
        ScopedFleet fleet,
        TimeProvider clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var sites = (await fleet.AllAsync(stop))
            .Values.Where(m => m.IsInFleet)
            .Select(m => m.Site)
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        if (!sites.TryGetValue(site, out var known))
            throw RefusedException.Unknown(
                "unknown-site",
                $"No machine is at site '{site}'{Spelling.DidYouMean(site, sites, "; expected a site of the fleet.")}"
            );
        var actor = caller.Actor();
        var repository = new SiteRepository(known, Url(command.Url), actor.Name, clock.GetUtcNow());
        await repositories.SetAsync(repository, RequestFields.Reason(command.Reason), actor, stop);
        return await rows.AllAsync(stop);
    }

    private static async Task<IResult> RemoveRepositoryAsync(
        string site,
        Because because,
        SiteRepositoryTable repositories,
        TimeProvider clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    ) =>
        await repositories.RemoveAsync(site, RequestFields.Reason(because.Reason), caller.Actor(), clock.GetUtcNow(), stop)
            ? Results.NoContent()
            : throw RefusedException.Unknown(
                "unknown-repository",
                $"Site '{site}' has no repository. 'gstair media repositories' lists them."
            );

    private static Uri Url(string? text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var url) && url.Scheme is "http" or "https" && url is { UserInfo: "", Fragment: "" }
            ? url
            : throw RefusedException.Invalid(
                "media-url",
                $"'{text}' is no URL; expected one such as https://downloads.example/image-7.img."
            );

    private static string? Sha256(string? text, string? file)
    {
        var sha256 = text?.ToLowerInvariant();
        return sha256 is null || MediaVariant.IsSha256(sha256)
            ? sha256
            : throw RefusedException.Invalid(
                "media-checksum",
                $"'{text}' is no SHA-256; expected the 64 hexadecimal digits that 'sha256sum {file}' prints."
            );
    }
}
