namespace GrandStair.Service;

/// <summary>Keeps a second embedded service off the same data.</summary>
internal static class ServiceLock
{
    /// <summary>Takes the lock; it is given back with the process, however that ends.</summary>
    /// <exception cref="IOException">Another service has it.</exception>
    public static FileStream Take(string data)
    {
        var file = Path.Combine(data, "service.lock");
        try
        {
            return new FileStream(file, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException error)
        {
            throw new IOException($"Another service works on {data} (it holds {file}). Stop it, or start this one with another --data FOLDER. ({error.Message})", error);
        }
    }
}
