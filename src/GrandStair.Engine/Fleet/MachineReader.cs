using GrandStair.Connections;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Engine.Catalogue;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Scripts;

namespace GrandStair.Engine.Fleet;

/// <summary>Reads machines over their connections.</summary>
/// <param name="Connections">The connections by kind.</param>
public sealed record ConnectionSet(IReadOnlyDictionary<string, IConnection> Connections)
{
    /// <summary>The connection that reaches a machine.</summary>
    /// <exception cref="ConnectionException">There is none of its kind.</exception>
    public IConnection Of(Machine machine) =>
        Connections.GetValueOrDefault(machine.Connection.Kind)
        ?? throw new ConnectionException(
            "unreachable",
            $"{machine.Name} is reached by '{machine.Connection.Kind}', and this service has no such connection."
        );
}

/// <summary>Reads machines over their connections, now.</summary>
public sealed class MachineReader(
    ConnectionSet connections,
    CatalogueCache catalogues,
    FleetTable table,
    ScriptTable sent,
    FleetCache cache,
    TimeProvider clock
)
{
    private static readonly string[] SaidByFleet =
    [
        "cluster",
        Dependents.HangsOn,
        Dependents.Key,
        Successors.Replaces,
        Successors.Successor,
        Successors.StandsBy,
        Successors.ReplacedBy,
    ];

    /// <summary>
    /// Reads a machine with every product's reading scripts that may be meant for it, keeps what was seen, and returns the machine as it is
    /// known then.
    /// </summary>
    /// <exception cref="ConnectionException">It could not be read; what was known stays.</exception>
    public Task<Machine> ReadAsync(Machine machine, Actor actor, CancellationToken stop) => ReadAsync(machine, [], actor, stop);

    /// <summary>Reads some keys of a machine and nothing else: what else is known of it stays as old as it is.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="wanted">The keys; empty for all.</param>
    /// <param name="actor">Who wants them.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="ConnectionException">It could not be read, or no reading script covers the keys; what was known stays.</exception>
    public async Task<Machine> ReadAsync(Machine machine, IReadOnlyCollection<string> wanted, Actor actor, CancellationToken stop)
    {
        var connection = connections.Of(machine);
        bool IsWanted(string key) => wanted.Count == 0 || wanted.Contains(key);
        var products = catalogues.ProductsOf(machine).Where(p => p.Readers.Any(r => r.Covers.Any(IsWanted))).ToArray();
        if (products.Length == 0)
            throw new ConnectionException(
                "unreachable",
                $"No product of the catalogue knows how to read "
                    + $"{(wanted.Count == 0 ? machine.Name : $"{string.Join(", ", wanted)} of {machine.Name}; import it again")}."
            );
        var scripts = products
            .SelectMany(p =>
                p.Readers.Where(r => r.Covers.Any(IsWanted)).Select(r => (Product: p, Reader: r, Content: p.Scripts[r.Script]))
            )
            .ToArray();
        await sent.SentAsync(
            machine.Id,
            [.. scripts.Select(s => new SentScript(s.Product.Name, s.Reader.Script, FileChange.Hash(s.Content)))],
            "read",
            actor.Name,
            "",
            clock.GetUtcNow(),
            stop
        );
        var outputs = await connection.ReadAsync(machine, [.. scripts.Select(s => s.Content)], wanted, stop);
        var now = clock.GetUtcNow();
        var readings = ReadingLines.Parse(
            string.Join('\n', outputs.Where(o => o.Incomplete is null).Select(o => o.Text)),
            catalogues.Keys,
            connection.Kind,
            now,
            out var refused
        );
        // What limits others is said by whoever keeps the fleet, and not by a machine about itself.
        readings = [.. readings.Where(r => !SaidByFleet.Contains(r.Key))];
        if (wanted.Count > 0)
            readings = [.. readings.Where(r => wanted.Contains(r.Key))];
        var incomplete = scripts
            .Zip(outputs)
            .Where(s => s.Second.Incomplete is not null)
            .Select(s => (s.First.Product, s.First.Reader, Why: s.Second.Incomplete!))
            .ToArray();
        if (readings.IsEmpty && wanted.Count == 0 && incomplete.Length == 0)
            throw new ConnectionException(
                "unreachable",
                $"{machine.Name} answered, but no line of it was a reading{(refused.IsEmpty ? "." : $": '{refused[0]}'.")}"
            );
        // What belongs to products that the machine turns out not to run is not absent from it; it was never looked for.
        var seen = machine with { Readings = [.. machine.Readings, .. readings] };
        var running = products.Where(p => p.Is.Ask(seen, new EvaluationContext(now)).Value == Kleene.Yes).ToArray();
        // What a script did not get to is not absent: it was never looked at. Which product the machine runs stays as it was known.
        var unread = incomplete
            .Where(i => running.Contains(i.Product))
            .SelectMany(i =>
                i.Reader.Covers.Where(IsWanted)
                    .Select(key => (Key: key, IsIdentity: i.Product.Is.Keys.Contains(key), Why: $"{i.Reader.Script}: {i.Why}"))
            )
            .Where(u => !readings.Any(r => r.Key == u.Key))
            .DistinctBy(u => u.Key)
            .ToArray();
        var covered = running.SelectMany(p => p.Readers).SelectMany(r => r.Covers).Where(IsWanted).Except(unread.Select(u => u.Key));
        readings =
        [
            .. readings,
            .. unread.Where(u => !u.IsIdentity).Select(u => Reading.Unreadable(u.Key, u.Why, now, now, connection.Kind)),
        ];
        await table.PutReadingsAsync(machine.Id, new SourceReport(connection.Kind, [.. covered], readings), now, now, actor, stop);
        return (await cache.AllAsync(stop))[machine.Id];
    }
}
