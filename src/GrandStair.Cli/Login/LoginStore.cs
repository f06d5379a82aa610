using System.Text.Json;

namespace GrandStair.Cli.Login;

/// <summary>How somebody is logged in to a service.</summary>
/// <param name="Token">What calls are made with.</param>
/// <param name="Ends">When it ends, UTC; null where that is not known.</param>
/// <param name="Refresh">What a new one is had for; null where there is no such.</param>
/// <param name="Authority">The provider that gives it; null for a token of the service's own.</param>
/// <param name="Client">The name under which the terminal is known to the provider.</param>
internal sealed record Login(
    string Token,
    DateTimeOffset? Ends = null,
    string? Refresh = null,
    string? Authority = null,
    string? Client = null
);

/// <summary>This user's logins on this computer, in a file that others cannot read.</summary>
internal static class LoginStore
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web) { WriteIndented = true };

    private static string Folder =>
        Path.Combine(
            Environment.GetEnvironmentVariable("XDG_CONFIG_HOME")
                ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".config"),
            "gstair"
        );

    private static string File => Path.Combine(Folder, "logins.json");

    /// <summary>All logins, by the service's address.</summary>
    /// <exception cref="IOException">The file may be read by others, or is none of ours.</exception>
    public static Dictionary<string, Login> All()
    {
        if (!System.IO.File.Exists(File))
            return [];
        if ((System.IO.File.GetUnixFileMode(File) & ~(UnixFileMode.UserRead | UnixFileMode.UserWrite)) != 0)
            throw new IOException($"{File} holds tokens and can be read by others than you. Run 'chmod 600 {File}', then log in again.");
        try
        {
            return JsonSerializer.Deserialize<Dictionary<string, Login>>(System.IO.File.ReadAllText(File), Json) ?? [];
        }
        catch (JsonException error)
        {
            throw new IOException($"{File} cannot be understood: {error.Message} Delete it, and log in again.", error);
        }
    }

    /// <summary>Keeps a login, or, with null, forgets it.</summary>
    public static void Put(Uri service, Login? login)
    {
        var all = All();
        if (login is null)
            all.Remove(Name(service));
        else
            all[Name(service)] = login;
        Directory.CreateDirectory(Folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        var next = $"{File}.{Environment.ProcessId}";
        using (
            var stream = new FileStream(
                next,
                new FileStreamOptions
                {
                    Mode = FileMode.Create,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                }
            )
        )
            JsonSerializer.Serialize(stream, all, Json);
        System.IO.File.Move(next, File, overwrite: true);
    }

    /// <summary>A service's name among the logins.</summary>
    public static string Name(Uri service) => service.GetLeftPart(UriPartial.Authority);
}
