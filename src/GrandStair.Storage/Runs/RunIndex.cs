using System.Collections.Immutable;
using System.Globalization;
using Dapper;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Runs;

/// <summary>What lists of runs are filtered and sorted by.</summary>
/// <param name="Run">The run's number.</param>
/// <param name="Machine">Its machine.</param>
/// <param name="Plan">Its plan.</param>
/// <param name="Wave">Its wave.</param>
/// <param name="Status">How its machine stands by it.</param>
/// <param name="SlotStart">When its slot starts, UTC.</param>
/// <param name="Closed">When it was closed, UTC; null while it is open.</param>
/// <param name="IsAsked">Whether it asks something of a person now.</param>
/// <param name="Suspended">What it has suspended on its machine and not resumed yet, in words.</param>
/// <param name="FollowUps">Its follow-ups, open and closed.</param>
public sealed record RunEntry(
    long Run,
    MachineId Machine,
    string Plan,
    string Wave,
    Status Status,
    DateTimeOffset SlotStart,
    DateTimeOffset? Closed,
    bool IsAsked,
    ImmutableArray<string> Suspended,
    ImmutableArray<FollowUp> FollowUps
);

/// <summary>An entry for every run, kept in memory; each call reads only the runs that have changed since the one before.</summary>
public sealed class RunIndex : IDisposable
{
    private readonly Database _database;
    private readonly RunLog _runs;
    private readonly SharedRefresh _refresh;
    private readonly Dictionary<long, RunEntry> _entries = [];
    private IReadOnlyList<RunEntry> _all = [];
    private long _position;

    /// <summary>An index that is filled when it is first asked.</summary>
    public RunIndex(Database database, RunLog runs)
    {
        (_database, _runs) = (database, runs);
        _refresh = new(RefreshAsync);
    }

    /// <summary>All runs as of now, in no order.</summary>
    public Task<IReadOnlyList<RunEntry>> AllAsync(CancellationToken stop) => _refresh.ReadAsync(() => _all, stop);

    /// <inheritdoc />
    public void Dispose() => _refresh.Dispose();

    private async Task RefreshAsync(CancellationToken stop)
    {
        var (position, changed) = await ChangedAsync(stop);
        if (changed.Count > 0)
        {
            foreach (var run in await _runs.SomeAsync(changed, stop))
            {
                var s = run.State;
                _entries[s.Run] = new(
                    s.Run,
                    new(s.Machine),
                    s.Plan,
                    s.Wave,
                    Statuses.Of(false, default, true, s),
                    s.Slot.Start,
                    s.Closed,
                    s.AskedOfPerson is not null,
                    s.SuspendedThings,
                    s.FollowUps
                );
            }

            _all = [.. _entries.Values];
        }

        _position = position;
    }

    /// <summary>
    /// The runs that have events after the last position; all runs at first, when one look at each is quicker than to go through all that
    /// ever changed.
    /// </summary>
    private Task<(long Position, IReadOnlyList<long> Runs)> ChangedAsync(CancellationToken stop) =>
        _database.ReadAsync<(long, IReadOnlyList<long>)>(
            async c =>
            {
                // Asked for before the runs: what is written in between is read once more with the next call, and nothing is missed.
                var newest = await c.ExecuteScalarAsync<long>("SELECT last FROM counters WHERE name = 'feed'");
                if (newest == _position)
                    return (newest, []);
                if (_position == 0)
                    return (newest, (await c.QueryAsync<long>("SELECT id FROM runs")).AsList());
                var subjects = await c.QueryAsync<string>(
                    "SELECT DISTINCT subject FROM feed WHERE position > @from AND position <= @newest AND kind = 'run'",
                    new { from = _position, newest }
                );
                return (newest, [.. subjects.Select(s => long.Parse(s.AsSpan(1), CultureInfo.InvariantCulture))]);
            },
            stop
        );
}
