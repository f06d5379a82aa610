using System.Globalization;
using System.Text;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;

namespace GrandStair.Connections.Simulation;

/// <summary>How an order will go on a simulated machine.</summary>
/// <param name="Lasts">How long it takes.</param>
/// <param name="Result">Whether it will end or be gone.</param>
/// <param name="Exit">Its exit status; null where it will be gone.</param>
/// <param name="Note">What it will have said.</param>
internal sealed record ScriptResult(TimeSpan Lasts, OrderState Result, int? Exit, string Note);

/// <summary>
/// What simulated machines understand in place of a shell script: one line an action. <c>fetch image</c>, <c>clean</c>, <c>save
/// settings</c>, <c>apply image VERSION BUILD</c>, <c>apply offer VERSION BUILD</c>, <c>patch</c>, <c>look around</c>, <c>list</c>,
/// <c>reclaim SIZE</c>, <c>set KEY VALUE</c>, and <c>set-in-cluster KEY VALUE</c>, which every machine of the same cluster then shows.
/// </summary>
internal static class SimulatedScript
{
    private const string SetInCluster = "set-in-cluster";

    /// <summary>What a script changes on every machine of the same cluster.</summary>
    public static IEnumerable<(string Key, string Value)> InCluster(string script) =>
        Lines(script).Select(l => l.Split(' ', 3)).Where(w => w is [SetInCluster, _, _]).Select(w => (w[1], w[2]));

    /// <summary>Draws how an order will go from what is true of the machine.</summary>
    public static ScriptResult Run(
        string machine,
        Dictionary<string, string> truth,
        PostedOrder order,
        DateTimeOffset now,
        string? fault = null
    )
    {
        var slowness = double.Parse(truth.GetValueOrDefault("truth.slowness", "1"), CultureInfo.InvariantCulture);
        var spread = 0.75 + (0.6 * Chance.Of(machine, order.Name.Step, order.Name.Attempt));
        var minutes = order.Kind switch
        {
            StepKind.Restart => 4,
            StepKind.FetchMedia => FetchMinutes(SizeOf(order), truth),
            StepKind.CleanUp => 4,
            StepKind.SaveFiles => 5,
            StepKind.RestoreFiles => 2,
            _ => Lines(order.Script).Sum(l => Minutes(l, truth)),
        };
        var lasts = TimeSpan.FromMinutes(minutes * slowness * spread);
        if (SimulatedFault.Result(fault, truth, order, lasts, now) is { } faulty)
            return faulty;
        var apply = Lines(order.Script).Any(l => l.StartsWith("apply", StringComparison.Ordinal));
        var luck = Chance.Of(machine, "luck-" + order.Name.Step, order.Name.Attempt);

        if (apply && truth.GetValueOrDefault("driver.printer") == "4.1" && luck < 0.7)
            return new(
                lasts * 0.8,
                OrderState.Ended,
                31,
                "went back to the state before the first start\nfirst start: printer driver 4.1 did not load"
            );
        if (apply && luck < 0.02)
            return new(lasts * 0.6, OrderState.Gone, null, "the machine lost its power");
        if (apply && luck > 0.96)
            return new(lasts * 2.6, OrderState.Ended, 0, "applied; indexing took long");
        if (order.Kind == StepKind.FetchMedia && luck < 0.05)
        {
            var (size, file) = (SizeOf(order), order.Values["media_file"]);
            var why = $"fetching {file} was cut off after {size * 0.48:0} of {size:0} bytes; the next attempt continues there";
            return new(lasts * 0.5, OrderState.Ended, 56, why);
        }

        if (order.Script.Contains("fetch", StringComparison.Ordinal) && luck < 0.05)
            return new(lasts * 0.5, OrderState.Ended, 7, "the line was cut at 48 %; the checksum does not match");
        return new(
            lasts,
            OrderState.Ended,
            0,
            order.Kind switch
            {
                StepKind.Restart => $"restarted at {now + lasts:HH:mm}",
                StepKind.FetchMedia => $"{order.Values["media_file"]} fetched ({SizeOf(order) / (1 << 20):0} MiB)"
                    + $"{RepositoryOf(order)}; its SHA-256 matches: {order.Values["media_sha256"]}",
                StepKind.CleanUp => "reclaimed 0 MiB",
                StepKind.SaveFiles => $"{order.Values["files"].Split(':').Length} files saved and read back",
                StepKind.RestoreFiles => "all saved files restored; 0 that were different stay beside them as NAME.~1~",
                _ when Lines(order.Script) is [.., var last] => last.StartsWith("reclaim ", StringComparison.Ordinal)
                    ? $"reclaimed {last["reclaim ".Length..]}"
                    : $"{last}: done",
                _ => "nothing: done",
            }
        );
    }

    /// <summary>From where media is fetched where it is not the service, which alone wants a token.</summary>
    private static string RepositoryOf(PostedOrder order) =>
        order.Secrets.GetValueOrDefault("order-token") is "" && order.Values["order_url"] is { Length: > 0 } url ? $" from {url}" : "";

    /// <summary>Whether a script lists what the machine has.</summary>
    public static bool IsList(string script) => Lines(script) is ["list"];

    /// <summary>What a machine has, as such a script prints it.</summary>
    public static string List(Dictionary<string, string> truth)
    {
        var lost = truth.GetValueOrDefault("truth.lost", "");
        (string Kind, string Name, string Value)[] has =
        [
            ("package", "system", truth.GetValueOrDefault("os.version", "")),
            ("package", "printer-driver", truth.GetValueOrDefault("driver.printer", "")),
            ("package", "ticket-desk", "12.4"),
            ("service", "print-queue", "running"),
            ("service", "time-sync", "running"),
            ("device", "label-printer", "ready"),
            ("device", "card-reader", "ready"),
            ("file", "/etc/ticket-desk.conf", "5b1f0c2a"),
        ];
        return string.Concat(
            has.Where(h => !lost.Contains(h.Name, StringComparison.Ordinal)).Select(h => $"{h.Kind}\t{h.Name}\t{h.Value}\n")
        );
    }

    /// <summary>What it is doing at a share of its time.</summary>
    public static string Doing(string kind, string script, double share)
    {
        var lines = Lines(script);
        return kind switch
        {
            "restart" => "restarting",
            "fetch-media" => "fetching",
            "clean-up" => "removing old media",
            "save-files" => "saving files",
            "restore-files" => "restoring files",
            _ => lines.Length == 0 ? "" : lines[Math.Min(lines.Length - 1, (int)(share * lines.Length))],
        };
    }

    /// <summary>What an order has printed by a moment: a line every twentieth of its time, and at its end its note.</summary>
    public static string Output(string kind, string script, DateTimeOffset posted, DateTimeOffset ends, string note, DateTimeOffset now)
    {
        if (kind == "restart")
            return "";
        var printed = new StringBuilder();
        for (var i = 0; i < 20 && posted + ((ends - posted) * i / 20) is var at && at <= now; i++)
            printed.Append(CultureInfo.InvariantCulture, $"{at:HH:mm:ss} {Doing(kind, script, i / 20.0)}, {5 * i} %\n");
        if (ends <= now)
            foreach (var line in note.Split('\n'))
                printed.Append(CultureInfo.InvariantCulture, $"{ends:HH:mm:ss} {line}\n");
        return printed.ToString();
    }

    /// <summary>What an order that ended well has changed.</summary>
    public static void Take(string kind, string script, string order, Dictionary<string, string> truth)
    {
        if (kind == "restart")
            truth["boot.id"] = $"{Chance.Of(order, "boot"):R}"[2..];
        if (kind == "fetch-media")
            truth["image.staged"] = "yes";
        foreach (var line in Lines(script))
        {
            var words = line.Split(' ');
            switch (words)
            {
                case ["apply", _, var version, var build, ..]:
                    truth["os.version"] = version;
                    truth["os.build"] = build;
                    truth["patches.pending"] = words[^1] == "during" ? "0" : $"{(int)(10 * Chance.Of(order, "patches"))}";
                    truth["truth.lost"] = truth.GetValueOrDefault("truth.loses", "");
                    SetFree(truth, Math.Max(4, Gib(truth) - 9));
                    break;
                case ["patch"]:
                    truth["patches.pending"] = $"{Pending(truth) / 4}";
                    break;
                case ["fetch", ..]:
                    truth["image.staged"] = "yes";
                    break;
                case ["reclaim", var size, "GiB"]:
                    SetFree(truth, Gib(truth) + double.Parse(size, CultureInfo.InvariantCulture));
                    break;
                case ["set" or SetInCluster, var key, ..]:
                    truth[key] = string.Join(' ', words[2..]);
                    break;
                default:
                    break;
            }
        }
    }

    /// <summary>How many patches are pending; some of them only show once others are installed.</summary>
    private static int Pending(Dictionary<string, string> truth) =>
        int.TryParse(truth.GetValueOrDefault("patches.pending"), CultureInfo.InvariantCulture, out var pending) ? pending : 0;

    private static double SizeOf(PostedOrder order) => double.Parse(order.Values["media_size"], CultureInfo.InvariantCulture);

    /// <summary>How long bytes take over the machine's line, at most at 200 Mbit/s from its disk's side.</summary>
    private static double FetchMinutes(double bytes, Dictionary<string, string> truth) =>
        bytes * 8 / (1 << 20) / Math.Min(200, Rate(truth)) / 60;

    private static double Minutes(string line, Dictionary<string, string> truth) =>
        line.Split(' ') switch
        {
            ["fetch", ..] => FetchMinutes(5.2 * (1L << 30), truth),
            ["clean", ..] => 4,
            ["save", ..] => 5,
            ["apply", "image", .., "during"] => 58,
            ["apply", "offer", .., "during"] => 70,
            ["apply", "image", ..] => 38,
            ["apply", "offer", ..] => 55,
            ["look", ..] or ["patch"] => 5,
            _ => 1,
        };

    private static double Rate(Dictionary<string, string> truth) =>
        Math.Max(1, (Units.Parse(truth.GetValueOrDefault("network.rate", "40 Mbit/s"), ValueKind.Rate) ?? 40e6) / 1e6);

    private static double Gib(Dictionary<string, string> truth) =>
        (Units.Parse(truth.GetValueOrDefault("disk.system.free", "0"), ValueKind.Size) ?? 0) / (1L << 30);

    private static void SetFree(Dictionary<string, string> truth, double gib) =>
        truth["disk.system.free"] = $"{gib.ToString("0.#", CultureInfo.InvariantCulture)} GiB";

    private static string[] Lines(string script) =>
        [.. script.Split('\n', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Where(l => !l.StartsWith('#'))];
}
