using System.Collections.Immutable;
using System.Text.Json;
using Dapper;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Plans;

/// <summary>Everything of one product's folder in the catalogue.</summary>
/// <param name="Hash">The SHA-256 of the files, in hexadecimal.</param>
/// <param name="Product">The product's name.</param>
/// <param name="Files">The content of every file by its name.</param>
public sealed record CatalogueContent(string Hash, string Product, ImmutableSortedDictionary<string, string> Files);

/// <summary>The catalogue content that was ever used; runs go on with what they began with.</summary>
public sealed class CatalogueTable(Database database)
{
    /// <summary>Keeps content; the same content again changes nothing.</summary>
    public Task AddAsync(CatalogueContent content, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(content);
        return database.WriteAsync(
            (c, t) => c.ExecuteAsync(
                "INSERT INTO catalogues (hash, product, body, added) VALUES (@Hash, @Product, @body, @added) ON CONFLICT (hash) DO NOTHING",
                new { content.Hash, content.Product, body = JsonSerializer.Serialize(content.Files), added = Micros.Of(now) },
                t),
            stop);
    }

    /// <summary>The content of that hash, or null.</summary>
    public Task<CatalogueContent?> FindAsync(string hash, CancellationToken stop) => database.ReadAsync(
        async c => await c.QuerySingleOrDefaultAsync<(string Product, string Body)?>("SELECT product, body FROM catalogues WHERE hash = @hash", new { hash }) is { } row
            ? new CatalogueContent(hash, row.Product, JsonSerializer.Deserialize<ImmutableSortedDictionary<string, string>>(row.Body)!)
            : null,
        stop);
}
