using System.Globalization;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Runs;

namespace GrandStair.Connections.Simulation;

/// <summary>
/// What goes wrong on a simulated machine at a step. Its truth names it as <c>truth.fault = full-disk@apply-image</c>: at the first attempt
/// of that step, or with <c>*</c> behind it, at each. Whatever lasts is in the truth as well, until somebody sets it right.
/// </summary>
internal static class SimulatedFault
{
    private const string Silent = "truth.silent-until";
    private const string Restarts = "truth.restarts-until";
    private const string Refuses = "truth.refuses";
    private static readonly TimeSpan DropsOut = TimeSpan.FromHours(3);
    private static readonly TimeSpan ForEver = TimeSpan.FromDays(3650);

    /// <summary>The fault that an order meets; null for none.</summary>
    public static string? Of(Dictionary<string, string> truth, OrderName order) =>
        truth.GetValueOrDefault("truth.fault")?.Split('@') is [var fault, var step]
        && (step == $"{order.Step}*" || (step == order.Step && order.Attempt == 1))
            ? fault
            : null;

    /// <summary>What a fault does to a machine as its order begins.</summary>
    public static void Begin(string fault, Dictionary<string, string> truth, DateTimeOffset now)
    {
        switch (fault)
        {
            case "drop-out":
                Until(truth, Silent, now + DropsOut);
                break;
            case "no-return":
            case "recovery-prompt" when truth.GetValueOrDefault("disk.encryption") == "on":
                Until(truth, Silent, now + ForEver);
                break;
            case "restart-loop":
                Until(truth, Restarts, now + ForEver);
                break;
            case "host-key-changed" or "rights":
                truth[Refuses] = fault;
                break;
            default:
                break;
        }
    }

    /// <summary>How an order goes that meets a fault; null where it goes as any other.</summary>
    /// <param name="fault">The fault.</param>
    /// <param name="truth">What is true of the machine.</param>
    /// <param name="order">The order.</param>
    /// <param name="lasts">How long it would take.</param>
    /// <param name="now">The time, UTC.</param>
    public static ScriptResult? Result(
        string? fault,
        Dictionary<string, string> truth,
        PostedOrder order,
        TimeSpan lasts,
        DateTimeOffset now
    ) =>
        fault switch
        {
            "power-cut" => new(lasts * 0.6, OrderState.Gone, null, "the machine lost its power"),
            "wrong-checksum" => new(
                lasts,
                OrderState.Ended,
                1,
                $"the SHA-256 of {order.Values["media_file"]} does not match: expected {order.Values["media_sha256"]}, found "
                    + $"{new string('0', 64)}; it was deleted"
            ),
            "full-disk" when order.Kind == StepKind.FetchMedia => new(
                lasts * 0.1,
                OrderState.Ended,
                1,
                $"not enough space for {order.Values["media_file"]}: 2662 MiB needed, 811 MiB free in /var/lib/grandstair/media"
            ),
            "full-disk" => new(lasts * 0.4, OrderState.Ended, 1, "cannot write /system/libraries: no space left on device"),
            "slow-uplink" => new(lasts * 40, OrderState.Ended, 0, "fetched at 0.4 Mbit/s"),
            "without-effect" => new(lasts, OrderState.Ended, 0, "done"),
            _ when IsUntil(truth, Restarts, now) && order.Kind != StepKind.Restart => new(
                TimeSpan.FromMinutes(3),
                OrderState.Gone,
                null,
                "the machine restarted"
            ),
            _ => null,
        };

    /// <summary>Whether a machine does not answer for a fault's sake.</summary>
    public static bool IsSilent(Dictionary<string, string> truth, DateTimeOffset now) => IsUntil(truth, Silent, now);

    /// <summary>Why a machine lets nobody in; null where it does.</summary>
    public static ConnectionException? Refusal(string machine, Dictionary<string, string> truth) =>
        truth.GetValueOrDefault(Refuses) switch
        {
            "host-key-changed" => new(
                "host-key-changed",
                $"{machine} shows another host key than the one pinned. Nothing was sent. If the machine was reinstalled on purpose, pin "
                    + $"its key with 'gstair machine pin {machine} --key \"…\" --reason …'."
            ),
            "rights" => new(
                "rights",
                $"{machine}: 'root' cannot write /var/lib/grandstair as root: sudo: a password is required. Let that account run /bin/sh "
                    + "by sudo without a password, or log in as root."
            ),
            _ => null,
        };

    /// <summary>How far an order is, where the installer has to fetch more in the middle of it; as it is else.</summary>
    public static (double Share, string Note) Progress(string? fault, double share, string note) =>
        fault == "jumps-back" && share is > 0.4 and < 0.9 ? (share / 4, "fetching 214 MiB more that the image refers to") : (share, note);

    /// <summary>A moment as a machine says it whose clock is off by <c>truth.clock-off</c> days.</summary>
    public static string ByItsClock(Dictionary<string, string> truth, string value) =>
        truth.TryGetValue("truth.clock-off", out var days)
        && value.EndsWith('Z')
        && DateTimeOffset.TryParse(value, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var moment)
            ? $"{moment.AddDays(double.Parse(days, CultureInfo.InvariantCulture)).UtcDateTime:yyyy-MM-ddTHH:mm:ss}Z"
            : value;

    private static void Until(Dictionary<string, string> truth, string key, DateTimeOffset moment) =>
        truth[key] = moment.ToUnixTimeSeconds().ToString(CultureInfo.InvariantCulture);

    private static bool IsUntil(Dictionary<string, string> truth, string key, DateTimeOffset now) =>
        truth.TryGetValue(key, out var until) && now.ToUnixTimeSeconds() < long.Parse(until, CultureInfo.InvariantCulture);
}
