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
    /// <summary>What is said where the service does not know its own URL.</summary>
    internal const string NoUrl = "the service does not know under which URL machines reach it; start it with --machine-url URL";

    /// <summary>Why a machine cannot fetch the media of a step; null where it can.</summary>
    /// <param name="product">The product of the run's leg.</param>
    /// <param name="step">The step, of the kind <c>fetch-media</c>.</param>
    /// <param name="order">Its order.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<string?> WhyNotAsync(
        Product product,
        StepSpec step,
        OrderName order,
        Machine machine,
        DateTimeOffset now,
        CancellationToken stop
    )
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
        return links.LinkFor(order, PathOf(variant)) is null ? NoUrl : null;
    }

    /// <summary>Adds to an order what its step needs to know about media.</summary>
    /// <param name="posted">The order without it.</param>
    /// <param name="state">The run.</param>
    /// <param name="step">Its step.</param>
    /// <param name="product">The product of the run's leg.</param>
    /// <param name="plan">The run's plan.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    public PostedOrder Complete(
        PostedOrder posted,
        RunState state,
        StepSpec step,
        Product product,
        Plan plan,
        Machine machine,
        DateTimeOffset now
    )
    {
        ArgumentNullException.ThrowIfNull(posted);
        ArgumentNullException.ThrowIfNull(state);
        ArgumentNullException.ThrowIfNull(step);
        ArgumentNullException.ThrowIfNull(plan);
        if (step.Kind == StepKind.FetchMedia && MediaOf(product, step).Choose(machine, now).Variant is { } variant)
            return Fetching(posted, variant, plan.UplinkOf(machine.Site));
        var media = Needed(state.Legs.Skip(state.Leg).SelectMany(l => l.Steps), product, machine, now);
        return step.Kind switch
        {
            StepKind.CleanUp => posted with
            {
                Values = With(posted.Values, ("keep", string.Join(' ', media.Select(m => m.Sha256).Distinct()))),
            },
            StepKind.Script => posted with { Media = media },
            _ => posted,
        };
    }

    private PostedOrder Fetching(PostedOrder posted, MediaVariant variant, UplinkSpec? uplink)
    {
        var link = links.LinkFor(posted.Name, PathOf(variant));
        var rate = uplink is null ? "" : ((long)(uplink.BytesPerMinute / 60)).ToString(CultureInfo.InvariantCulture);
        return posted with
        {
            Values = With(
                posted.Values,
                ("media_file", variant.File),
                ("media_sha256", variant.Sha256),
                ("media_size", variant.Size.ToString(CultureInfo.InvariantCulture)),
                ("media_url", link?.Url.ToString() ?? ""),
                ("media_rate", rate)
            ),
            Secrets = new Dictionary<string, string>(posted.Secrets) { ["order-token"] = link?.Token ?? "" },
        };
    }

    private static string PathOf(MediaVariant variant) => $"/media/{variant.Sha256}";

    /// <summary>The media that steps fetch to a machine, as far as it is known which variant each is.</summary>
    private static IReadOnlyList<MediaOnMachine> Needed(
        IEnumerable<StepSpec> steps,
        Product product,
        Machine machine,
        DateTimeOffset now
    ) =>
        [
            .. steps
                .Where(s => s.Kind == StepKind.FetchMedia)
                .Select(s => MediaOf(product, s))
                .Select(m => (m.Name, m.Choose(machine, now).Variant))
                .Where(m => m.Variant is not null)
                .Select(m => new MediaOnMachine(m.Name, m.Variant!.Sha256, m.Variant.File)),
        ];

    private static Core.Catalogue.Media MediaOf(Product product, StepSpec step) => product.Media.Single(m => m.Name == step.Media);

    private static Dictionary<string, string> With(
        IReadOnlyDictionary<string, string> values,
        params IEnumerable<(string Name, string Value)> more
    )
    {
        var all = new Dictionary<string, string>(values);
        foreach (var (name, value) in more)
            all[name] = value;
        return all;
    }
}
