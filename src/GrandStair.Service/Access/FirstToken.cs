using GrandStair.Core.Access;
using GrandStair.Storage.Access;

namespace GrandStair.Service.Access;

/// <summary>The account and the token that the first start makes.</summary>
internal static class FirstToken
{
    private const string Name = "admin";
    private static readonly Actor FirstStart = new("first start");

    /// <summary>Where it is.</summary>
    public static string FileIn(string data) => Path.Combine(data, "admin.token");

    /// <summary>
    /// Creates the account <c>admin</c>, and writes its token into <c>admin.token</c>, readable by its owner only, where no token was ever
    /// made.
    /// </summary>
    public static async Task MakeAsync(
        AccountTable accounts,
        AccessTable access,
        ServiceOptions options,
        DateTimeOffset at,
        CancellationToken stop
    )
    {
        if (await access.HasTokenAsync(stop))
            return;
        var now = DateTimeOffset.UtcNow;
        await accounts.PutAsync(
            new(Name, AccountKind.Person, RoleNames.Every, SiteScope.All, null, false, null, now, FirstStart.Name, null, null),
            isNew: true,
            FirstStart,
            "the first account",
            at,
            stop
        );
        var token = AccessTable.NewSecret();
        await SecretFile.WriteAsync(FileIn(options.Data), token + "\n", stop);
        await access.AddTokenAsync(
            token,
            new(0, Name, "admin.token", RoleNames.Every, SiteScope.All, now, FirstStart.Name, null, null, null, null),
            FirstStart,
            stop
        );
    }
}

/// <summary>Files that their owner alone may read.</summary>
internal static class SecretFile
{
    /// <summary>Rewrites a file; there is no moment at which others could read it.</summary>
    public static async Task WriteAsync(string file, string text, CancellationToken stop)
    {
        File.Delete(file);
        await using var stream = new FileStream(
            file,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            }
        );
        await using var writer = new StreamWriter(stream);
        await writer.WriteAsync(text.AsMemory(), stop);
    }
}
