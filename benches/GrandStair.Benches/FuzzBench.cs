using System.Globalization;
using GrandStair.Testing;
using GrandStair.Testing.Fuzzing;

namespace GrandStair.Benches;

/// <summary>A million changed inputs: nine in ten for the parsers in this process, the rest as calls of a service on loopback.</summary>
internal static class FuzzBench
{
    private const long Inputs = 1_000_000;
    private const long Calls = Inputs / 10;
    private const int MostShown = 1500;
    private static readonly TimeSpan Time = TimeSpan.FromHours(1);

    /// <summary>Runs it. Its ratio is the share of inputs that were answered as they should be.</summary>
    public static async Task<bool> RunAsync(int seed)
    {
        Console.WriteLine($"seed {seed}");
        await using var service = await ServiceProcess.StartAsync("--rate", "100000");
        using var calls = await FuzzFleet.PrepareAsync(service, seed, default);
        var parsers = new ParserFuzz(seed);
        var parsing = Task.Factory.StartNew(() => parsers.Run(Inputs - Calls, Time), TaskCreationOptions.LongRunning);
        string[] wrong = [.. await calls.RunAsync(Calls, Time, default), .. await parsing];
        foreach (var one in wrong)
            Console.WriteLine($"WRONG {one[..Math.Min(one.Length, MostShown)]}\n");
        Console.WriteLine("| inputs | tried | understood or 2xx |\n|---|---|---|");
        foreach (var (kind, count) in parsers.Counts.OrderBy(c => c.Key, StringComparer.Ordinal))
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"| {kind} | {count.Tried} | {count.Understood} |"));
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"| calls | {calls.Statuses.Values.Sum()} | {calls.Statuses.Where(s => s.Key < 300).Sum(s => s.Value)} |"
            )
        );
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"slowest text {parsers.Slowest.TotalMilliseconds:0} ms, slowest answer {calls.Slowest.TotalMilliseconds:0} ms; "
                    + $"answers by status: {string.Join(", ", calls.Statuses.Select(s => $"{s.Key}: {s.Value}"))}"
            )
        );
        var tried = parsers.Counts.Values.Sum(c => (long)c.Tried) + calls.Statuses.Values.Sum();
        return Result.Tell("fuzz", tried == 0 ? 0 : 1 - ((double)wrong.Length / tried), 1);
    }
}
