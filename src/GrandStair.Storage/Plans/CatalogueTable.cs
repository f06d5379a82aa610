using System.Collections.Immutable;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>Everything of one product's folder in the catalogue.</summary>
/// <param name="Hash">The SHA-256 of the files, in hexadecimal.</param>
/// <param name="Product">The product's name.</param>
/// <param name="Files">The content of every file by its name.</param>
public sealed record CatalogueContent(string Hash, string Product, ImmutableSortedDictionary<string, string> Files);

/// <summary>
/// The catalogue content that was ever found; runs go on with what they began with, and nothing new is used before it is approved.
/// </summary>
public sealed class CatalogueTable(Database database)
{
    /// <summary>Stores content; the same content again changes nothing.</summary>
    /// <param name="content">The content.</param>
    /// <param name="approvedBy">Who approves it at once; null where it waits for somebody.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task AddAsync(CatalogueContent content, Actor? approvedBy, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(content);
        return database.WriteAsync(
            async (c, t) =>
            {
                var added = await c.ExecuteAsync(
                    "INSERT INTO catalogues (hash, product, body, added) VALUES (@Hash, @Product, @body, @added) ON CONFLICT (hash) DO "
                        + "NOTHING",
                    new
                    {
                        content.Hash,
                        content.Product,
                        body = JsonSerializer.Serialize(content.Files),
                        added = Micros.Of(now),
                    },
                    t
                );
                if (added > 0 && approvedBy is not null)
                    await ApproveAsync(c, t, content.Hash, approvedBy, "as it was installed", now);
                return 0;
            },
            stop
        );
    }

    /// <summary>Whether any content was ever kept.</summary>
    public Task<bool> IsEmptyAsync(CancellationToken stop) =>
        database.ReadAsync(async c => await c.ExecuteScalarAsync<long>("SELECT count(*) FROM catalogues") == 0, stop);

    /// <summary>The content of a product that was approved last; null where none ever was.</summary>
    public Task<CatalogueContent?> ApprovedAsync(string product, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                await c.QueryFirstOrDefaultAsync<(string Hash, string Body)?>(
                    "SELECT hash, body FROM catalogues WHERE product = @product AND approved IS NOT NULL ORDER BY approved DESC, added "
                        + "DESC LIMIT 1",
                    new { product }
                )
                    is { } row
                    ? new CatalogueContent(row.Hash, product, Files(row.Body))
                    : null,
            stop
        );

    /// <summary>Approves content, so that it is used from now on.</summary>
    public Task ApproveAsync(string hash, Actor actor, string reason, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var product = await ApproveAsync(c, t, hash, actor, reason, now);
                await Feed.AddAsync(c, t, now, "catalogue", product, "approved", actor);
                return 0;
            },
            stop
        );

    /// <summary>The content of that hash, or null.</summary>
    public Task<CatalogueContent?> FindAsync(string hash, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                await c.QuerySingleOrDefaultAsync<(string Product, string Body)?>(
                    "SELECT product, body FROM catalogues WHERE hash = @hash",
                    new { hash }
                )
                    is { } row
                    ? new CatalogueContent(hash, row.Product, Files(row.Body))
                    : null,
            stop
        );

    private static async Task<string> ApproveAsync(
        System.Data.Common.DbConnection c,
        System.Data.Common.DbTransaction t,
        string hash,
        Actor actor,
        string reason,
        DateTimeOffset now
    )
    {
        var product = (
            await c.ExecuteScalarAsync<string>(
                "UPDATE catalogues SET approved = @now, approved_by = @by, reason = @reason WHERE hash = @hash RETURNING product",
                new
                {
                    hash,
                    now = Micros.Of(now),
                    by = actor.Name,
                    reason,
                },
                t
            )
        )!;
        await AuditTable.AddAsync(c, t, now, actor, "catalogue approve", product, null, null, $"SHA-256 {hash}", reason);
        return product;
    }

    private static ImmutableSortedDictionary<string, string> Files(string body) =>
        JsonSerializer.Deserialize<ImmutableSortedDictionary<string, string>>(body)!;
}
