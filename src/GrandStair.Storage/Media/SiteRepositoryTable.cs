using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Media;

/// <summary>Where the machines of a site fetch media in place of the service.</summary>
/// <param name="Site">The site.</param>
/// <param name="Url">The URL below which the files lie, each under its file name.</param>
/// <param name="SetBy">Who said so.</param>
/// <param name="At">When, UTC.</param>
public sealed record SiteRepository(string Site, Uri Url, string SetBy, DateTimeOffset At)
{
    /// <summary>The URL of a file.</summary>
    public Uri UrlOf(string file) => new($"{Url.ToString().TrimEnd('/')}/{Uri.EscapeDataString(file)}");
}

/// <summary>The sites that have a repository of their own.</summary>
public sealed class SiteRepositoryTable(Database database)
{
    /// <summary>All of them, by site.</summary>
    public Task<IReadOnlyList<SiteRepository>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<SiteRepository>>(
            async c => [.. (await c.QueryAsync<Row>("SELECT * FROM site_repositories ORDER BY site")).Select(r => r.Repository)],
            stop
        );

    /// <summary>The repository of a site; null where it has none.</summary>
    public async Task<SiteRepository?> OfAsync(string site, CancellationToken stop) =>
        (await AllAsync(stop)).FirstOrDefault(r => r.Site.Equals(site, StringComparison.OrdinalIgnoreCase));

    /// <summary>Says where the machines of a site fetch media.</summary>
    public Task SetAsync(SiteRepository repository, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(repository);
        return database.WriteAsync(
            async (c, t) =>
            {
                var before = await c.ExecuteScalarAsync<string?>(
                    "DELETE FROM site_repositories WHERE lower(site) = lower(@Site) RETURNING url",
                    new { repository.Site },
                    t
                );
                await c.ExecuteAsync(
                    "INSERT INTO site_repositories (site, url, set_by, at) VALUES (@Site, @url, @SetBy, @at)",
                    new
                    {
                        repository.Site,
                        url = repository.Url.ToString(),
                        repository.SetBy,
                        at = Micros.Of(repository.At),
                    },
                    t
                );
                var after = repository.Url.ToString();
                await AuditTable.AddAsync(c, t, repository.At, actor, "media set-repository", repository.Site, null, before, after, reason);
                await Feed.AddAsync(c, t, repository.At, "media", repository.Site, "repository-set", actor);
                return 0;
            },
            stop
        );
    }

    /// <summary>Lets the machines of a site fetch from the service again.</summary>
    /// <returns>Whether it had a repository.</returns>
    public Task<bool> RemoveAsync(string site, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = await c.ExecuteScalarAsync<string?>(
                    "DELETE FROM site_repositories WHERE lower(site) = lower(@site) RETURNING url",
                    new { site },
                    t
                );
                if (before is null)
                    return false;
                await AuditTable.AddAsync(c, t, now, actor, "media remove-repository", site, null, before, null, reason);
                await Feed.AddAsync(c, t, now, "media", site, "repository-removed", actor);
                return true;
            },
            stop
        );

    private sealed record Row
    {
        public string Site { get; init; } = "";

        public string Url { get; init; } = "";

        public string SetBy { get; init; } = "";

        public long At { get; init; }

        public SiteRepository Repository => new(Site, new(Url), SetBy, Micros.Time(At));
    }
}
