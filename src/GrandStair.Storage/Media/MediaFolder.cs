using System.Security.Cryptography;

namespace GrandStair.Storage.Media;

/// <summary>
/// Where the content of installation files lies: one file for each checksum, and one for each upload that has not ended. How much of an
/// upload has arrived is the length of its file, so that it is right whenever the service was killed.
/// </summary>
public sealed class MediaFolder
{
    private const int Buffer = 1 << 18;
    private readonly string _folder;
    private readonly string _uploads;

    /// <summary>Opens the folder, and makes it where there is none.</summary>
    /// <param name="folder">Its path.</param>
    /// <exception cref="IOException">It cannot be made.</exception>
    public MediaFolder(string folder)
    {
        _folder = folder;
        _uploads = Path.Combine(folder, "uploads");
        Directory.CreateDirectory(_uploads);
    }

    /// <summary>How many bytes are free for further files.</summary>
    public long Free => new DriveInfo(Path.GetFullPath(_folder)).AvailableFreeSpace;

    /// <summary>The path of the content with a checksum.</summary>
    /// <param name="sha256">The SHA-256, in hexadecimal.</param>
    public string PathOf(string sha256) => Path.Combine(_folder, sha256);

    /// <summary>How many bytes of an upload have arrived.</summary>
    public long Received(string upload) => new FileInfo(UploadPath(upload)) is { Exists: true, Length: var length } ? length : 0;

    /// <summary>Appends to an upload.</summary>
    /// <param name="upload">Its id.</param>
    /// <param name="offset">Where in the file the content begins; what has arrived has to end there.</param>
    /// <param name="content">The content.</param>
    /// <param name="most">The size of the whole file: nothing beyond it is taken.</param>
    /// <param name="stop">Ends the wait; what has arrived stays.</param>
    /// <returns>How many bytes of the upload have arrived now; -1 where it was not at the offset, or another call is writing it.</returns>
    public async Task<long> AppendAsync(string upload, long offset, Stream content, long most, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(content);
        FileStream file;
        try
        {
            file = new(UploadPath(upload), FileMode.OpenOrCreate, FileAccess.Write, FileShare.None, Buffer, useAsync: true);
        }
        catch (IOException) when (File.Exists(UploadPath(upload)))
        {
            return -1;
        }

        await using (file)
        {
            if (file.Length != offset)
                return -1;
            file.Position = offset;
            var buffer = new byte[Buffer];
            int read;
            while ((read = await content.ReadAsync(buffer, stop)) > 0)
            {
                var taken = (int)Math.Min(read, most - file.Position);
                await file.WriteAsync(buffer.AsMemory(0, taken), stop);
                if (taken < read)
                    break;
            }

            await file.FlushAsync(stop);
            return file.Position;
        }
    }

    /// <summary>The SHA-256 of what has arrived of an upload, in hexadecimal.</summary>
    public async Task<string> HashAsync(string upload, CancellationToken stop)
    {
        await using var file = new FileStream(UploadPath(upload), FileMode.Open, FileAccess.Read, FileShare.Read, Buffer, useAsync: true);
        return Convert.ToHexStringLower(await SHA256.HashDataAsync(file, stop));
    }

    /// <summary>Moves the content of an upload to where content with its checksum lies, once it is safe on the disk.</summary>
    public void Keep(string upload, string sha256)
    {
        using (var file = File.OpenHandle(UploadPath(upload), FileMode.Open, FileAccess.ReadWrite))
            RandomAccess.FlushToDisk(file);
        File.Move(UploadPath(upload), PathOf(sha256), overwrite: true);
    }

    /// <summary>Deletes the content of an upload.</summary>
    public void DropUpload(string upload) => File.Delete(UploadPath(upload));

    /// <summary>Deletes the content with a checksum.</summary>
    public void Drop(string sha256) => File.Delete(PathOf(sha256));

    private string UploadPath(string upload) => Path.Combine(_uploads, upload);
}
