using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Media;

/// <summary>From which hosts the service may download media.</summary>
public sealed class MediaHostTable(Database database)
{
    private const string Setting = "media-hosts";

    /// <summary>The hosts.</summary>
    public Task<MediaHosts> ReadAsync(CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                MediaHosts.Parse(
                    (await c.ExecuteScalarAsync<string?>("SELECT value FROM settings WHERE name = @Setting", new { Setting }) ?? "").Split(
                        ' '
                    )
                ),
            stop
        );

    /// <summary>Puts other hosts in place of those that are allowed.</summary>
    public Task SetAsync(MediaHosts hosts, string reason, Actor actor, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(hosts);
        return database.WriteAsync(
            async (c, t) =>
            {
                var value = string.Join(' ', hosts.Names);
                var before = await c.ExecuteScalarAsync<string?>("SELECT value FROM settings WHERE name = @Setting", new { Setting }, t);
                await c.ExecuteAsync(
                    "INSERT INTO settings (name, value) VALUES (@Setting, @value) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
                    new { Setting, value },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "setting change", Setting, null, before ?? "", value, reason);
                return 0;
            },
            stop
        );
    }
}
