using Dapper;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Runs;

/// <summary>What a step saved of a machine's files.</summary>
/// <param name="Leg">The leg, from 1.</param>
/// <param name="Step">The step's name.</param>
/// <param name="At">When it was saved, UTC.</param>
/// <param name="Size">The size of the archive (tar, compressed by gzip) in bytes.</param>
/// <param name="Sha256">The SHA-256 of the archive, in hexadecimal.</param>
public sealed record SavedArchive(int Leg, string Step, DateTimeOffset At, long Size, string Sha256);

/// <summary>The archives of files that steps saved of machines. Their content is encrypted before it comes here.</summary>
/// <param name="database">Where is noted which there are.</param>
/// <param name="folder">Where their content lies.</param>
public sealed class SavedFiles(Database database, string folder)
{
    /// <summary>The largest archive, in bytes.</summary>
    public const long Largest = 64 << 20;

    /// <summary>Keeps an archive; what the step saved before is replaced.</summary>
    /// <param name="run">The run.</param>
    /// <param name="archive">What it is.</param>
    /// <param name="encrypted">Its content, encrypted.</param>
    /// <param name="stop">Cancels the write.</param>
    public async Task PutAsync(long run, SavedArchive archive, byte[] encrypted, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(archive);
        var path = PathOf(run, archive.Leg, archive.Step);
        Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        await WriteAsync(path, encrypted, stop);
        await database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    """
                    INSERT INTO saved_files (run_id, leg, step, at, size, sha256) VALUES (@run, @Leg, @Step, @at, @Size, @Sha256)
                    ON CONFLICT (run_id, leg, step) DO UPDATE SET at = excluded.at, size = excluded.size, sha256 = excluded.sha256
                    """,
                    new
                    {
                        run,
                        archive.Leg,
                        archive.Step,
                        at = Micros.Of(archive.At),
                        archive.Size,
                        archive.Sha256,
                    },
                    t
                ),
            stop
        );
    }

    /// <summary>The archives of a run, oldest first.</summary>
    public async Task<IReadOnlyList<SavedArchive>> OfAsync(long run, CancellationToken stop) =>
        [
            .. (
                await database.ReadAsync(
                    c =>
                        c.QueryAsync<(long Leg, string Step, long At, long Size, string Sha256)>(
                            "SELECT leg, step, at, size, sha256 FROM saved_files WHERE run_id = @run ORDER BY at",
                            new { run }
                        ),
                    stop
                )
            ).Select(r => new SavedArchive((int)r.Leg, r.Step, Micros.Time(r.At), r.Size, r.Sha256)),
        ];

    /// <summary>The content of an archive, encrypted.</summary>
    /// <exception cref="IOException">It is not there.</exception>
    public Task<byte[]> ReadAsync(long run, int leg, string step, CancellationToken stop) =>
        File.ReadAllBytesAsync(PathOf(run, leg, step), stop);

    /// <summary>Encrypts the content of all archives anew.</summary>
    /// <param name="encrypt">Makes the new content of the old one.</param>
    /// <param name="stop">Ends it; what is done by then stays.</param>
    public async Task RewriteAsync(Func<byte[], byte[]> encrypt, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(encrypt);
        var all = await database.ReadAsync(
            c => c.QueryAsync<(long Run, long Leg, string Step)>("SELECT run_id, leg, step FROM saved_files"),
            stop
        );
        foreach (var (run, leg, step) in all)
        {
            var path = PathOf(run, (int)leg, step);
            await WriteAsync(path, encrypt(await File.ReadAllBytesAsync(path, stop)), stop);
        }
    }

    /// <summary>Deletes all archives of a run.</summary>
    public async Task DropAsync(long run, CancellationToken stop)
    {
        foreach (var archive in await OfAsync(run, stop))
            File.Delete(PathOf(run, archive.Leg, archive.Step));
        await database.WriteAsync((c, t) => c.ExecuteAsync("DELETE FROM saved_files WHERE run_id = @run", new { run }, t), stop);
    }

    /// <summary>Replaces a file at once: whoever reads it meanwhile has the old or the new content.</summary>
    private static async Task WriteAsync(string path, byte[] content, CancellationToken stop)
    {
        await File.WriteAllBytesAsync(path + ".new", content, stop);
        File.Move(path + ".new", path, overwrite: true);
    }

    // A step's name has letters, digits and hyphens alone.
    private string PathOf(long run, int leg, string step) => Path.Combine(folder, $"r{run}.{leg}.{step}");
}
