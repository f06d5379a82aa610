using GrandStair.Storage.Access;

namespace GrandStair.Service.Access;

/// <summary>The token that the first start makes.</summary>
internal static class FirstToken
{
    /// <summary>Where it is.</summary>
    public static string FileIn(string data) => Path.Combine(data, "admin.token");

    /// <summary>Writes <c>admin.token</c>, readable by its owner only, where no token was ever made.</summary>
    public static async Task MakeAsync(AccessTable access, ServiceOptions options, CancellationToken stop)
    {
        if (await access.HasTokenAsync(stop)) return;
        var token = AccessTable.NewSecret();
        var file = FileIn(options.Data);
        File.Delete(file);
        await using (var stream = new FileStream(file, new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite }))
        await using (var writer = new StreamWriter(stream)) await writer.WriteLineAsync(token.AsMemory(), stop);
        await access.AddTokenAsync(token, "admin", DateTimeOffset.UtcNow, stop);
    }
}
