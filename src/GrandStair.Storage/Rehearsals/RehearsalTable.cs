using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Rehearsals;

/// <summary>How a rehearsal stands.</summary>
public enum RehearsalState
{
    /// <summary>It was requested, and has not begun.</summary>
    Waiting,

    /// <summary>It is running.</summary>
    Running,

    /// <summary>It has its result.</summary>
    Done,

    /// <summary>It was cancelled.</summary>
    Cancelled,

    /// <summary>It could not be done.</summary>
    Failed,
}

/// <summary>Why a rehearsal is made.</summary>
public enum RehearsalKind
{
    /// <summary>It was requested.</summary>
    Asked,

    /// <summary>It is the forecast of a running plan, kept up to date.</summary>
    Forecast,
}

/// <summary>A plan changed, to see what would come of it.</summary>
/// <param name="Name">Its name, for people.</param>
/// <param name="Changes">What is changed of the plan's text, such as <c>limits.all=8</c>.</param>
/// <param name="Body">Another text of the plan in place of its own; null for its own.</param>
public sealed record WhatIf(string Name, IReadOnlyList<string> Changes, string? Body);

/// <summary>What is to be rehearsed.</summary>
/// <param name="Draws">How often each is gone through.</param>
/// <param name="Seed">The seed of the draws.</param>
/// <param name="Fixing">How long after its wave begins a machine that is not ready is usually made ready; null where none is.</param>
/// <param name="WhatIfs">The changed plans beside the plan as it is.</param>
public sealed record RehearsalAsked(int Draws, long Seed, TimeSpan? Fixing, IReadOnlyList<WhatIf> WhatIfs);

/// <summary>What came of the plan as it is, or of a changed one.</summary>
/// <param name="Name">Its name; empty for the plan as it is.</param>
/// <param name="Changes">What was changed.</param>
/// <param name="Deadline">The deadline that it was held against; null without one.</param>
/// <param name="Forecast">The forecast.</param>
public sealed record Rehearsed(string Name, IReadOnlyList<string> Changes, DateOnly? Deadline, Forecast Forecast);

/// <summary>A rehearsal as it is kept.</summary>
/// <param name="Id">Its number.</param>
/// <param name="Plan">The plan.</param>
/// <param name="Revision">The plan's revision.</param>
/// <param name="Kind">Why it is made.</param>
/// <param name="State">How it stands.</param>
/// <param name="Asked">What is to be rehearsed.</param>
/// <param name="Done">How many draws are done.</param>
/// <param name="Total">How many there are to do, over all what-ifs.</param>
/// <param name="Results">What came of it, the plan as it is first; empty before.</param>
/// <param name="Why">Why it failed; null where it did not.</param>
/// <param name="AskedBy">Who asked for it.</param>
/// <param name="AskedAt">When, UTC.</param>
/// <param name="Ended">When it ended, UTC; null before.</param>
/// <param name="Position">The newest change in the feed when it was begun: what came later is not in it.</param>
public sealed record StoredRehearsal(
    long Id,
    string Plan,
    int Revision,
    RehearsalKind Kind,
    RehearsalState State,
    RehearsalAsked Asked,
    int Done,
    int Total,
    IReadOnlyList<Rehearsed> Results,
    string? Why,
    string AskedBy,
    DateTimeOffset AskedAt,
    DateTimeOffset? Ended,
    long Position
);

/// <summary>The rehearsals that were asked for, and the forecasts of running plans.</summary>
public sealed class RehearsalTable(Database database)
{
    /// <summary>After how long without a word of its worker a rehearsal is taken up by another.</summary>
    public static readonly TimeSpan Silence = TimeSpan.FromSeconds(15);

    /// <summary>How many rehearsals of a plan are kept besides its forecast.</summary>
    public const int Kept = 20;

    /// <summary>Stores a request for a rehearsal.</summary>
    public Task<long> AskAsync(string plan, int revision, RehearsalAsked asked, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var id = await Database.NextAsync(c, t, "rehearsal");
                await InsertAsync(c, t, id, plan, revision, RehearsalKind.Asked, RehearsalState.Waiting, asked, null, actor.Name, now);
                await c.ExecuteAsync(
                    "DELETE FROM rehearsals WHERE plan = @plan AND kind = 'Asked' AND state NOT IN ('Waiting', 'Running') AND id <= "
                        + "@id - @Kept",
                    new
                    {
                        plan,
                        id,
                        Kept = (long)Kept,
                    },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "plan rehearse", plan, null, null, $"rehearsal {id}", "");
                await Feed.AddAsync(c, t, now, "rehearsal", plan, "asked", actor);
                return id;
            },
            stop
        );

    /// <summary>Stores a plan's forecast in place of the one before.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="revision">Its revision.</param>
    /// <param name="asked">What was rehearsed.</param>
    /// <param name="result">What came of it.</param>
    /// <param name="position">The newest change in the feed when it was begun.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task PutForecastAsync(
        string plan,
        int revision,
        RehearsalAsked asked,
        Rehearsed result,
        long position,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync("DELETE FROM rehearsals WHERE plan = @plan AND kind = 'Forecast'", new { plan }, t);
                await InsertAsync(
                    c,
                    t,
                    await Database.NextAsync(c, t, "rehearsal"),
                    plan,
                    revision,
                    RehearsalKind.Forecast,
                    RehearsalState.Done,
                    asked,
                    [result],
                    Actor.Worker.Name,
                    now,
                    position
                );
                await Feed.AddAsync(c, t, now, "forecast", plan, "made", Actor.Worker);
                return 1;
            },
            stop
        );

    /// <summary>Takes the next rehearsal that waits or was abandoned; null where there is none.</summary>
    public async Task<StoredRehearsal?> ClaimAsync(CancellationToken stop)
    {
        var values = new { silence = (long)Silence.TotalMicroseconds };
        // Asked several times a second, and nearly always in vain: nothing is written then.
        if (
            !await database.ReadAsync(
                c => c.ExecuteScalarAsync<bool>($"SELECT EXISTS (SELECT 1 FROM rehearsals WHERE {IsDue})", values),
                stop
            )
        )
            return null;
        var claim = $"""
            UPDATE rehearsals SET state = 'Running', done = 0, beat = {database.Dialect.Now},
              position = (SELECT last FROM counters WHERE name = 'feed')
            WHERE id = (SELECT id FROM rehearsals WHERE {IsDue} ORDER BY id LIMIT 1 {database.Dialect.SkipLocked("rehearsals")})
            RETURNING *
            """;
        return await database.WriteAsync(async (c, t) => (await c.QuerySingleOrDefaultAsync<Row>(claim, values, t))?.ToRehearsal(), stop);
    }

    /// <summary>Whether a rehearsal waits, or nothing was heard of whoever makes it.</summary>
    private string IsDue => $"(state = 'Waiting' OR (state = 'Running' AND beat < {database.Dialect.Now} - @silence))";

    /// <summary>Stores a rehearsal's progress. False: it was cancelled.</summary>
    public Task<bool> AdvanceAsync(long id, int done, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
                await c.ExecuteAsync(
                    $"UPDATE rehearsals SET done = @done, beat = {database.Dialect.Now} WHERE id = @id AND state = 'Running'",
                    new { id, done = (long)done },
                    t
                ) == 1,
            stop
        );

    /// <summary>Stores the result of a rehearsal, unless it was cancelled.</summary>
    /// <param name="rehearsal">The rehearsal.</param>
    /// <param name="results">What came of it; null where it failed.</param>
    /// <param name="why">Why it failed; null where it did not.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task EndAsync(
        StoredRehearsal rehearsal,
        IReadOnlyList<Rehearsed>? results,
        string? why,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(rehearsal);
        return database.WriteAsync(
            async (c, t) =>
            {
                var ended = await c.ExecuteAsync(
                    "UPDATE rehearsals SET state = @state, result = @result, why = @why, done = CASE WHEN @why IS NULL THEN total ELSE "
                        + "done END, ended = @ended WHERE id = @Id AND state = 'Running'",
                    new
                    {
                        state = (why is null ? RehearsalState.Done : RehearsalState.Failed).ToString(),
                        result = results is null ? null : Write(results),
                        why,
                        ended = Micros.Of(now),
                        rehearsal.Id,
                    },
                    t
                );
                if (ended > 0)
                    await Feed.AddAsync(c, t, now, "rehearsal", rehearsal.Plan, "ended", Actor.Worker);
                return ended;
            },
            stop
        );
    }

    /// <summary>Ends a rehearsal that is not over. False: it is over.</summary>
    public Task<bool> CancelAsync(StoredRehearsal rehearsal, Actor actor, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(rehearsal);
        return database.WriteAsync(
            async (c, t) =>
            {
                if (
                    await c.ExecuteAsync(
                        "UPDATE rehearsals SET state = 'Cancelled', ended = @ended WHERE id = @Id AND state IN ('Waiting', 'Running')",
                        new { rehearsal.Id, ended = Micros.Of(now) },
                        t
                    ) == 0
                )
                    return false;
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "plan rehearse cancel",
                    rehearsal.Plan,
                    null,
                    null,
                    $"rehearsal {rehearsal.Id}",
                    ""
                );
                await Feed.AddAsync(c, t, now, "rehearsal", rehearsal.Plan, "ended", actor);
                return true;
            },
            stop
        );
    }

    /// <summary>The rehearsal of that number, or null.</summary>
    public Task<StoredRehearsal?> FindAsync(long id, CancellationToken stop) =>
        database.ReadAsync(
            async c => (await c.QuerySingleOrDefaultAsync<Row>("SELECT * FROM rehearsals WHERE id = @id", new { id }))?.ToRehearsal(),
            stop
        );

    /// <summary>The requested rehearsals of a plan, newest first.</summary>
    public Task<IReadOnlyList<StoredRehearsal>> OfAsync(string plan, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredRehearsal>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<Row>(
                            "SELECT * FROM rehearsals WHERE plan = @plan AND kind = 'Asked' ORDER BY id DESC",
                            new { plan }
                        )
                    ).Select(r => r.ToRehearsal()),
                ],
            stop
        );

    /// <summary>The forecast of a plan, or null.</summary>
    public Task<StoredRehearsal?> ForecastAsync(string plan, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                (
                    await c.QuerySingleOrDefaultAsync<Row>(
                        "SELECT * FROM rehearsals WHERE plan = @plan AND kind = 'Forecast'",
                        new { plan }
                    )
                )?.ToRehearsal(),
            stop
        );

    private static Task InsertAsync(
        System.Data.Common.DbConnection c,
        System.Data.Common.DbTransaction t,
        long id,
        string plan,
        int revision,
        RehearsalKind kind,
        RehearsalState state,
        RehearsalAsked asked,
        Rehearsed[]? results,
        string by,
        DateTimeOffset now,
        long position = 0
    )
    {
        var total = (long)asked.Draws * (asked.WhatIfs.Count + 1);
        return c.ExecuteAsync(
            """
            INSERT INTO rehearsals (id, plan, revision, kind, state, asked_for, done, total, result, asked_by, asked, ended, beat, position)
            VALUES (@id, @plan, @revision, @kind, @state, @asked, @done, @total, @result, @by, @at, @ended, 0, @position)
            """,
            new
            {
                id,
                plan,
                revision = (long)revision,
                kind = kind.ToString(),
                state = state.ToString(),
                asked = Write(asked),
                done = results is null ? 0 : total,
                total,
                result = results is null ? null : Write(results),
                by,
                at = Micros.Of(now),
                ended = results is null ? null : (long?)Micros.Of(now),
                position,
            },
            t
        );
    }

    private static string Write<T>(T value) => JsonSerializer.Serialize(value, RunEvent.Json);

    private sealed record Row
    {
        public long Id { get; init; }

        public string Plan { get; init; } = "";

        public long Revision { get; init; }

        public string Kind { get; init; } = "";

        public string State { get; init; } = "";

        public string AskedFor { get; init; } = "";

        public long Done { get; init; }

        public long Total { get; init; }

        public string? Result { get; init; }

        public string? Why { get; init; }

        public string AskedBy { get; init; } = "";

        public long Asked { get; init; }

        public long? Ended { get; init; }

        public long Position { get; init; }

        public StoredRehearsal ToRehearsal() =>
            new(
                Id,
                Plan,
                (int)Revision,
                Enum.Parse<RehearsalKind>(Kind),
                Enum.Parse<RehearsalState>(State),
                JsonSerializer.Deserialize<RehearsalAsked>(AskedFor, RunEvent.Json)!,
                (int)Done,
                (int)Total,
                Result is null ? [] : JsonSerializer.Deserialize<Rehearsed[]>(Result, RunEvent.Json)!,
                Why,
                AskedBy,
                Micros.Time(Asked),
                Micros.Time(Ended),
                Position
            );
    }
}
