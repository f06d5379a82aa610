using System.Globalization;
using GrandStair.Connections;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Orders;
using GrandStair.Storage.Media;

namespace GrandStair.Engine.Media;

/// <summary>What orders that have to do with media say to machines.</summary>
public sealed class MediaSteps(MediaTable table, SiteRepositoryTable repositories, StagedMediaTable staged, IOrderLinks links)
{
    /// <summary>Why a machine cannot fetch the media of a step; null where it can.</summary>
    /// <param name="product">The product of the run's leg.</param>
    /// <param name="step">The step, of the kind <c>fetch-media</c>.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<string?> WhyNotAsync(Product product, StepSpec step, Machine machine, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(step);
        var choice = MediaOf(product, step).Choose(machine, now);
        if (choice.Variant is not { } variant)
            return choice.Why;
        // The simulator plays the media server too. What a repository lacks, its machines say.
        if (machine.Connection.Kind == "simulated" || await repositories.OfAsync(machine.Site, stop) is not null)
            return null;
        var stored = await table.FindAsync(variant.Sha256, stop);
        if (stored is null)
            return $"the service does not have {variant.File} ({variant.Sha256}); add it with 'gstair media add {variant.File}'";
        if (stored.Quarantined is { } why)
            return $"{variant.File} is quarantined: {why}; remove it and add the right one with 'gstair media add {variant.File}'";
        return links.WhyNot();
    }

    /// <summary>
    /// Adds to an order what its machine needs to fetch the media of a step: from the repository of its site, where it has one, otherwise
    /// from the service, over the uplink.
    /// </summary>
    /// <param name="posted">The order without it.</param>
    /// <param name="product">The product of the run's leg.</param>
    /// <param name="step">The step, for which <see cref="WhyNotAsync"/> found nothing in the way.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="uplink">The uplink of its site, whose share it keeps to; null for none.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<PostedOrder> FetchingAsync(
        PostedOrder posted,
        Product product,
        StepSpec step,
        Machine machine,
        UplinkSpec? uplink,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(posted);
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(step);
        var variant = MediaOf(product, step).Choose(machine, now).Variant!;
        var repository = await repositories.OfAsync(machine.Site, stop);
        return posted.With(
            repository is null ? links.LinkFor(posted.Name, $"/media/{variant.Sha256}") : new(repository.UrlOf(variant.File), ""),
            ("media_file", variant.File),
            ("media_sha256", variant.Sha256),
            ("media_size", variant.Size.ToString(CultureInfo.InvariantCulture)),
            (
                "media_rate",
                uplink is null || repository is not null ? "" : ((long)(uplink.BytesPerMinute / 60)).ToString(CultureInfo.InvariantCulture)
            )
        );
    }

    /// <summary>
    /// Notes which media a machine has after a step that fetched or deleted some. Noted again after a crash, it changes nothing.
    /// </summary>
    /// <param name="run">The run.</param>
    /// <param name="product">The product of its leg.</param>
    /// <param name="step">The step, which ended well.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Cancels the write.</param>
    public async Task EndedAsync(RunState run, Product product, StepSpec step, Machine machine, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(step);
        ArgumentNullException.ThrowIfNull(machine);
        if (step.Kind == StepKind.CleanUp)
            await staged.KeepAsync(machine.Id, [.. Needed(run, product, machine, now).Select(m => m.Sha256)], stop);
        else if (step.Kind == StepKind.FetchMedia && MediaOf(product, step).Choose(machine, now).Variant is { } variant)
            await staged.AddAsync(new(machine.Id, variant.Sha256, variant.File, now), stop);
    }

    /// <summary>The media that the legs to come of a run fetch to its machine, as far as it is known which variant each is.</summary>
    /// <param name="run">The run.</param>
    /// <param name="product">The product of its current leg.</param>
    /// <param name="machine">Its machine.</param>
    /// <param name="now">The time, UTC.</param>
    public static IReadOnlyList<MediaOnMachine> Needed(RunState run, Product product, Machine machine, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(run);
        ArgumentNullException.ThrowIfNull(product);
        if (run.RollbackOver)
            return [];
        return
        [
            .. run
                .Legs.Skip(run.Leg)
                .SelectMany(l => l.Steps)
                .Where(s => s.Kind == StepKind.FetchMedia)
                .Select(s => MediaOf(product, s))
                .Select(m => (m.Name, m.Choose(machine, now).Variant))
                .Where(m => m.Variant is not null)
                .Select(m => new MediaOnMachine(m.Name, m.Variant!.Sha256, m.Variant.File)),
        ];
    }

    private static Core.Catalogue.Media MediaOf(Product product, StepSpec step) => product.Media.Single(m => m.Name == step.Media);
}
