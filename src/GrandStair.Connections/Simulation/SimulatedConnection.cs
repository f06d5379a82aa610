using System.Globalization;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;

namespace GrandStair.Connections.Simulation;

/// <summary>Reaches the simulated machines.</summary>
/// <param name="world">Where they live.</param>
/// <param name="clock">Domain time.</param>
public sealed class SimulatedConnection(SimulatedMachines world, TimeProvider clock) : IConnection
{
    /// <inheritdoc />
    public string Kind => "simulated";

    /// <summary>
    /// Answers the first reading script with all that is true of the machine, can be seen and is wanted, and the others with nothing more;
    /// a script that lists what the machine has, with that.
    /// </summary>
    public async Task<IReadOnlyList<ScriptOutput>> ReadAsync(
        Machine machine,
        IReadOnlyList<string> scripts,
        IReadOnlyCollection<string> wanted,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(scripts);
        var truth = await ReachAsync(machine, stop);
        if (scripts.Count == 1 && SimulatedScript.IsList(scripts[0]))
            return [new(SimulatedScript.List(truth))];
        var lines = truth
            .Where(t => !t.Key.StartsWith("truth.", StringComparison.Ordinal) && (wanted.Count == 0 || wanted.Contains(t.Key)))
            .Select(t =>
                t.Value switch
                {
                    "-" => $"{t.Key} is absent",
                    "?" => $"{t.Key} is unreadable: no answer within 30 s",
                    var value => $"{t.Key} = {SimulatedFault.ByItsClock(truth, value)}",
                }
            );
        return [new(string.Join('\n', lines)), .. scripts.Skip(1).Select(_ => new ScriptOutput(""))];
    }

    /// <inheritdoc />
    public async Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(order);
        await ReachAsync(machine, stop);
        if (!await world.PostAsync(machine.Name, order, clock.GetUtcNow(), stop))
            throw new ConnectionException(
                "epoch",
                $"{machine.Name} knows a newer claim of run r{order.Name.Run}; this one (epoch {order.Epoch}) is over."
            );
    }

    /// <inheritdoc />
    public async Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop)
    {
        await ReachAsync(machine, stop);
        return await world.AskAsync(machine.Name, order, clock.GetUtcNow(), stop);
    }

    /// <inheritdoc />
    public async Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop)
    {
        await ReachAsync(machine, stop);
        var printed = await world.OutputAsync(order, clock.GetUtcNow(), stop);
        return [.. printed.Skip((int)from).Take(OrderStatus.MostOfOutput)];
    }

    private async Task<Dictionary<string, string>> ReachAsync(Machine machine, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var (truth, answers) = await world.ReachAsync(machine.Name, now, stop)
            ?? throw new ConnectionException("unreachable", $"There is no simulated machine named {machine.Name}.");
        // Most machines are backed up every night, which nobody has to order.
        if (truth.GetValueOrDefault("truth.backup") == "nightly")
            truth["backup.last"] = $"{now.AddHours(-3).Date.AddHours(1):yyyy-MM-ddTHH:mm:ss}Z";
        // Somebody comes and goes; each time they stay for twenty minutes.
        if (truth.TryGetValue("truth.signed-in", out var share))
            truth["sessions.active"] =
                Chance.Of(machine.Name, "signed-in", now.ToUnixTimeSeconds() / 1200) < double.Parse(share, CultureInfo.InvariantCulture)
                    ? "1"
                    : "0";
        if (answers && SimulatedFault.Refusal(machine.Name, truth) is { } refusal)
            throw refusal;
        return answers
            ? truth
            : throw new ConnectionException(
                "unreachable",
                $"{machine.Name} does not answer: it is switched off, away, or restarting. The service tries again."
            );
    }
}
