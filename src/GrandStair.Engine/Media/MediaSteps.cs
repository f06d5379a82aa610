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
public sealed class MediaSteps(MediaTable table, IOrderLinks links)
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
        // The simulator plays the media server too.
        if (machine.Connection.Kind == "simulated")
            return null;
        var stored = await table.FindAsync(variant.Sha256, stop);
        if (stored is null)
            return $"the service does not have {variant.File} ({variant.Sha256}); add it with 'gstair media add {variant.File}'";
        if (stored.Quarantined is { } why)
            return $"{variant.File} is quarantined: {why}; remove it and add the right one with 'gstair media add {variant.File}'";
        return links.WhyNot();
    }

    /// <summary>Adds to an order what its machine needs to fetch the media of a step.</summary>
    /// <param name="posted">The order without it.</param>
    /// <param name="product">The product of the run's leg.</param>
    /// <param name="step">The step, for which <see cref="WhyNotAsync"/> found nothing in the way.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="uplink">The uplink of its site, whose share it keeps to; null for none.</param>
    /// <param name="now">The time, UTC.</param>
    public PostedOrder Fetching(PostedOrder posted, Product product, StepSpec step, Machine machine, UplinkSpec? uplink, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(posted);
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(step);
        var variant = MediaOf(product, step).Choose(machine, now).Variant!;
        return posted.With(
            links.LinkFor(posted.Name, $"/media/{variant.Sha256}"),
            ("media_file", variant.File),
            ("media_sha256", variant.Sha256),
            ("media_size", variant.Size.ToString(CultureInfo.InvariantCulture)),
            ("media_rate", uplink is null ? "" : ((long)(uplink.BytesPerMinute / 60)).ToString(CultureInfo.InvariantCulture))
        );
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
