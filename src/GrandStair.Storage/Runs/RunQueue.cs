using Dapper;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Runs;

/// <summary>
/// The runs that are to be claimed next. Where thousands are due it takes as long to choose one as to choose hundreds, so more are chosen
/// than are asked for, and the next calls take of them; it is done beside what is written meanwhile, so each may be claimed only if it is
/// still free. Only the one worker of a process takes of it.
/// </summary>
/// <param name="database">The database.</param>
/// <param name="silent">Whether it has the runs whose machines did not answer, or the others.</param>
internal sealed class RunQueue(Database database, bool silent)
{
    // As many as a worker looks at in a second or two.
    private const int ChosenAtOnce = 256;
    private readonly Queue<long> _chosen = new();

    /// <summary>The condition, in SQL, that no living worker has a run.</summary>
    public static string IsFree(Dialect dialect) =>
        $"(worker IS NULL OR worker NOT IN (SELECT id FROM workers WHERE lease_until > {dialect.Now}))";

    /// <summary>Takes the next runs, at most as many as asked for.</summary>
    /// <param name="due">Until when they have to be due, in microseconds.</param>
    /// <param name="most">The most to take; none where it is not above 0.</param>
    /// <param name="stop">Cancels it.</param>
    public async Task<IReadOnlyList<long>> TakeAsync(long due, int most, CancellationToken stop)
    {
        if (most <= 0)
            return [];
        if (_chosen.Count < most)
        {
            _chosen.Clear();
            foreach (
                var id in await database.ReadAsync(c => c.QueryAsync<long>(Choose, new { due, many = Math.Max(most, ChosenAtOnce) }), stop)
            )
                _chosen.Enqueue(id);
        }

        var next = new List<long>(most);
        while (next.Count < most && _chosen.TryDequeue(out var id))
            next.Add(id);
        return next;
    }

    private string Choose =>
        $"""
            SELECT id FROM (
              SELECT due.id, due.due_at, due.holds, ROW_NUMBER() OVER (PARTITION BY due.plan, m.site ORDER BY due.holds DESC,
                due.due_at) AS turn
              FROM (SELECT id, plan, machine_id, due_at, CASE WHEN EXISTS (SELECT 1 FROM run_room WHERE run_id = runs.id) THEN 1 ELSE 0
                END AS holds
                FROM runs WHERE silent = {(silent ? 1 : 0)} AND due_at <= @due AND {IsFree(database.Dialect)}) due
              JOIN machines m ON m.id = due.machine_id) queue
            ORDER BY holds DESC, turn, due_at LIMIT @many
            """;
}
