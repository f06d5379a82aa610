using GrandStair.Core.Refusals;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.DataProtection;

namespace GrandStair.Service.Secrets;

/// <summary>The files that steps saved of machines, encrypted on the disk: configuration often has passwords and keys in it.</summary>
internal sealed class SavedFileStore(SavedFiles files, IDataProtectionProvider protection)
{
    private readonly IDataProtector _protector = protection.CreateProtector("saved files");

    /// <summary>Keeps an archive; what the step saved before is replaced.</summary>
    public Task PutAsync(long run, SavedArchive archive, byte[] content, CancellationToken stop) =>
        files.PutAsync(run, archive, _protector.Protect(content), stop);

    /// <summary>Encrypts all archives with the key that is in use now.</summary>
    public Task RotateAsync(CancellationToken stop) => files.RewriteAsync(old => _protector.Protect(_protector.Unprotect(old)), stop);

    /// <summary>The archives of a run, oldest first.</summary>
    public Task<IReadOnlyList<SavedArchive>> OfAsync(long run, CancellationToken stop) => files.OfAsync(run, stop);

    /// <summary>The content of an archive (tar, compressed by gzip).</summary>
    /// <exception cref="RefusedException">The step has saved nothing, or it was deleted with the end of the run.</exception>
    public async Task<byte[]> ReadAsync(long run, int leg, string step, CancellationToken stop) =>
        (await OfAsync(run, stop)).Any(a => a.Leg == leg && a.Step == step)
            ? _protector.Unprotect(await files.ReadAsync(run, leg, step, stop))
            : throw RefusedException.Unknown(
                "no-saved-files",
                $"Step '{step}' of leg {leg} of run r{run} has no saved files, or they were deleted when the run was done. "
                    + $"'gstair run saved-files r{run}' lists those that exist."
            );
}
