using GrandStair.Contracts;
using GrandStair.Service.Secrets;

namespace GrandStair.Service.Runs;

/// <summary>The files that steps saved of machines, for people who have to put one back by hand.</summary>
internal static class SavedFileEndpoints
{
    public static void MapSavedFiles(this RouteGroupBuilder api)
    {
        api.MapGet("/runs/{run}/saved-files", ListAsync).WithName("ListSavedFiles").ProducesProblem(404);
        api.MapGet("/runs/{run}/saved-files/{step}", GetAsync)
            .WithName("GetSavedFiles")
            .Produces<byte[]>(200, "application/gzip")
            .ProducesProblem(404);
    }

    private static async Task<IReadOnlyList<SavedFilesRow>> ListAsync(
        string run,
        ScopedRuns runs,
        SavedFileStore store,
        CancellationToken stop
    )
    {
        var (stored, _) = await runs.FindAsync(run, stop);
        return [.. (await store.OfAsync(stored.State.Run, stop)).Select(a => new SavedFilesRow(a.Leg, a.Step, a.At, a.Size, a.Sha256))];
    }

    private static async Task<IResult> GetAsync(
        string run,
        string step,
        int? leg,
        ScopedRuns runs,
        SavedFileStore store,
        CancellationToken stop
    )
    {
        var (stored, _) = await runs.FindAsync(run, stop);
        return Results.File(
            await store.ReadAsync(stored.State.Run, leg ?? 1, step, stop),
            "application/gzip",
            $"{run}-{leg ?? 1}-{step}.tar.gz"
        );
    }
}
