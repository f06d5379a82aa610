namespace GrandStair.Service;

/// <summary>Keeps a second embedded service off the same data.</summary>
internal static class ServiceLock
{
    /// <summary>Takes the lock; it is given back with the process, however that ends.</summary>
    /// <exception cref="IOException">Another service has it, or the folder cannot be written.</exception>
    public static FileStream Take(string data)
    {
        var file = Path.Combine(data, "service.lock");
        try
        {
            return new FileStream(file, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            if (WhyNotWritable(data) is { } why)
                throw new IOException(
                    $"The data folder {data} cannot be written: {why} Let the service's account write it, or give another one with "
                        + $"--data FOLDER.",
                    error
                );
            throw new IOException(
                $"Another service works on {data} (it holds {file}). Stop it, or start this one with another --data FOLDER. "
                    + $"({error.Message})",
                error
            );
        }
    }

    private static string? WhyNotWritable(string data)
    {
        try
        {
            File.Create(Path.Combine(data, $".{Guid.NewGuid():N}"), 1, FileOptions.DeleteOnClose).Dispose();
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return error.Message;
        }
    }
}
