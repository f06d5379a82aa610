using System.Diagnostics.CodeAnalysis;
using System.Runtime.InteropServices;

namespace GrandStair.Service;

/// <summary>
/// The folder of the service's data: password hashes, keys and the database cannot be read by other users of the machine.
/// </summary>
internal static class DataFolder
{
    private const UnixFileMode Owner = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;
    private const uint NothingForOthers = 0x3F; // 077

    /// <summary>
    /// Makes the folder where it is missing, for its owner alone, and sees to it that nothing this process makes is for others.
    /// </summary>
    /// <exception cref="IOException">The folder is open to others.</exception>
    public static void Prepare(string folder)
    {
        _ = SetMask(NothingForOthers);
        Directory.CreateDirectory(folder, Owner);
        var mode = File.GetUnixFileMode(folder);
        if ((mode & ~Owner) != 0)
            throw new IOException(
                $"The data folder {folder} is open to other users of this machine (mode {Convert.ToString((int)mode, 8)}). It holds "
                    + $"password hashes and keys. Close it: chmod 700 {folder}"
            );
    }

    [DllImport("libc", EntryPoint = "umask")]
    [DefaultDllImportSearchPaths(DllImportSearchPath.SafeDirectories)]
    [SuppressMessage(
        "Interoperability",
        "SYSLIB1054",
        Justification = "A number in and out needs no generated code, which would need unsafe blocks in the whole project."
    )]
    private static extern uint SetMask(uint mask);
}
