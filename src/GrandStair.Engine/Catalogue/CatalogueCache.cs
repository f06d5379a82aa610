using System.Collections.Concurrent;
using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Waves;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Catalogue;

/// <summary>Content of a product that is not approved yet.</summary>
/// <param name="Content">What was found.</param>
/// <param name="Stands">What is used until then; null where the product is new.</param>
/// <param name="Found">When it was found, UTC.</param>
public sealed record WaitingContent(CatalogueContent Content, CatalogueContent? Stands, DateTimeOffset Found)
{
    /// <summary>What is different.</summary>
    public ImmutableArray<FileChange> Changes =>
        FileChange.Between(Stands?.Files ?? ImmutableSortedDictionary<string, string>.Empty, Content.Files);
}

/// <summary>The catalogue: the products as they are now, and the content that runs and plans were made with.</summary>
public sealed class CatalogueCache(IDocuments documents, CatalogueTable table)
{
    private readonly ConcurrentDictionary<string, Product> _byHash = new(StringComparer.Ordinal);

    /// <summary>By name the kept plans as they were last understood; workers and keepers ask for them at every look.</summary>
    private readonly ConcurrentDictionary<string, (string Body, string Hash, KeyRegistry Keys, Plan Plan)> _plans = new(
        StringComparer.Ordinal
    );

    /// <summary>The products as they are now, by name.</summary>
    public ImmutableSortedDictionary<string, Product> Products { get; private set; } = ImmutableSortedDictionary<string, Product>.Empty;

    /// <summary>All known keys.</summary>
    public KeyRegistry Keys { get; private set; } = KeyRegistry.BuiltIn;

    /// <summary>What was found in the catalogue's folders and waits for approval, by product.</summary>
    public ImmutableSortedDictionary<string, WaitingContent> Waiting { get; private set; } =
        ImmutableSortedDictionary<string, WaitingContent>.Empty;

    /// <summary>
    /// Takes the content of the catalogue's folders. What the first start finds is used as it was installed; whatever is different or
    /// new at a later one waits until somebody approves it, and until then the product goes on as it was approved last.
    /// </summary>
    public async Task LoadAsync(IEnumerable<CatalogueContent> contents, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(contents);
        var approves = await table.IsEmptyAsync(stop) ? new Actor("first start") : null;
        foreach (var content in contents)
        {
            await table.AddAsync(content, approves, now, stop);
            // The last approval counts: files of an earlier one that were put back have been replaced for a reason.
            var stands = await table.ApprovedAsync(content.Product, stop);
            if (stands?.Hash == content.Hash)
            {
                Put(content);
                continue;
            }

            Waiting = Waiting.SetItem(content.Product, new(content, stands, now));
            if (stands is not null)
                Put(stands);
        }
    }

    /// <summary>Approves what waits, so that it is used from now on. Runs that are running go on with what they began with.</summary>
    /// <param name="product">The product.</param>
    /// <param name="hash">The hash of what was looked at.</param>
    /// <param name="reason">Why it may be used.</param>
    /// <param name="actor">Who takes responsibility.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">Nothing of that product waits, or something else than was looked at.</exception>
    public async Task ApproveAsync(string product, string hash, string reason, Actor actor, DateTimeOffset now, CancellationToken stop)
    {
        if (!Waiting.TryGetValue(product, out var waiting))
            throw RefusedException.Unknown(
                "unknown-change",
                $"Nothing of '{product}' waits to be approved{Spelling.DidYouMean(product, Waiting.Keys, ".")}"
            );
        if (waiting.Content.Hash != hash)
            throw RefusedException.Conflict(
                "another-change",
                $"What waits of '{product}' has the hash {waiting.Content.Hash}, and not {hash}. Look at it again: 'gstair catalogue "
                    + $"changes'."
            );
        await table.ApproveAsync(hash, actor, reason, now, stop);
        Put(waiting.Content);
        Waiting = Waiting.Remove(product);
    }

    /// <summary>Takes over what was approved by way of another service on the same database.</summary>
    public async Task TakeApprovedAsync(CancellationToken stop)
    {
        foreach (var (product, waiting) in Waiting)
        {
            if (await table.ApprovedAsync(product, stop) is not { } approved || approved.Hash != waiting.Content.Hash)
                continue;
            Put(waiting.Content);
            Waiting = Waiting.Remove(product);
        }
    }

    private void Put(CatalogueContent content)
    {
        var product = documents.ReadProduct(content);
        _byHash[content.Hash] = product;
        Products = Products.SetItem(product.Name, product);
        Keys = Keys.With(product.Keys);
    }

    /// <summary>The product as it was under a hash.</summary>
    /// <exception cref="InvalidOperationException">No such content was ever kept.</exception>
    public async Task<Product> ByHashAsync(string hash, CancellationToken stop)
    {
        if (_byHash.TryGetValue(hash, out var known))
            return known;
        var content = await table.FindAsync(hash, stop)
            ?? throw new InvalidOperationException($"The catalogue content {hash} is not in the database.");
        return _byHash[hash] = documents.ReadProduct(content);
    }

    /// <summary>The products that a machine runs, or may run as far as is known.</summary>
    public IEnumerable<Product> ProductsOf(Machine machine) =>
        Products.Values.Where(p => p.Is.Ask(machine, new EvaluationContext(DateTimeOffset.MinValue)).Value != Kleene.No);

    /// <summary>
    /// What machines of a product are judged for where no plan says: its recommended release or another one, by all its methods.
    /// </summary>
    /// <exception cref="RefusedException">There is no such product or release.</exception>
    public Aim AimAt(string? product, string? release)
    {
        if (product is null || !Products.TryGetValue(product, out var found))
        {
            var otherwise = $"; expected one of {string.Join(", ", Products.Keys)}.";
            throw RefusedException.Unknown(
                "unknown-product",
                product is null
                    ? $"Say which product{otherwise}"
                    : $"There is no product '{product}'{Spelling.DidYouMean(product, Products.Keys, otherwise)}"
            );
        }

        var target = release is null
            ? found.Releases.LastOrDefault(r => r.Status == ReleaseStatus.Recommended) ?? found.Releases[^1]
            : found.Releases.FirstOrDefault(r => r.Version == release || r.Name.Equals(release, StringComparison.OrdinalIgnoreCase))
                ?? throw RefusedException.Unknown(
                    "unknown-release",
                    $"{found.Name} has no release '{release}'; expected one of {string.Join(", ", found.Releases.Select(r => r.Version))}."
                );
        return new(found, target, [.. found.Methods.Select(m => m.Name)], Preserves.Full);
    }

    /// <summary>Understands a plan against the catalogue as it is now.</summary>
    public Plan ReadPlan(string body) => documents.ReadPlan(body, Keys, Products.GetValueOrDefault);

    /// <summary>Understands a kept plan with the product that it was made with.</summary>
    public async Task<(Plan Plan, Product Product)> ReadPlanAsync(PlanRecord stored, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var product = await ByHashAsync(stored.CatalogueHash, stop);
        if (
            _plans.TryGetValue(stored.Name, out var known)
            && known.Body == stored.Body
            && known.Hash == stored.CatalogueHash
            && known.Keys == Keys
        )
            return (known.Plan, product);
        var keys = Keys;
        var plan = documents.ReadPlan(stored.Body, keys, _ => product);
        _plans[stored.Name] = (stored.Body, stored.CatalogueHash, keys, plan);
        return (plan, product);
    }
}
