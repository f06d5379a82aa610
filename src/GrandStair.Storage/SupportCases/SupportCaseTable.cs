using System.Data.Common;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Refusals;
using GrandStair.Core.Scheduling;
using GrandStair.Core.SupportCases;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.SupportCases;

/// <summary>The cases with the vendor's support.</summary>
public sealed class SupportCaseTable(Database database)
{
    private static readonly JsonSerializerOptions Json = new() { IgnoreReadOnlyProperties = true };

    /// <summary>Stores a new case and returns it with its number.</summary>
    /// <exception cref="RefusedException">An open case has the same reference with the same support.</exception>
    public Task<SupportCase> OpenAsync(SupportCase opened, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(opened);
        return database.WriteAsync(
            async (c, t) =>
            {
                if (
                    (await CasesAsync(c, "closed_at IS NULL", null, t)).FirstOrDefault(o =>
                        o.Reference.Equals(opened.Reference, StringComparison.OrdinalIgnoreCase)
                        && o.With.Equals(opened.With, StringComparison.OrdinalIgnoreCase)
                    ) is
                    { } same
                )
                    throw RefusedException.Conflict(
                        "case-exists",
                        $"Case {same.Name} is open under the number {same.Reference} with {same.With} already. Add a note to it: "
                            + $"gstair case note {same.Name}."
                    );
                var numbered = opened with { Id = await Database.NextAsync(c, t, "support-case") };
                await c.ExecuteAsync(
                    "INSERT INTO support_cases (id, body) VALUES (@Id, @body)",
                    new { numbered.Id, body = JsonSerializer.Serialize(numbered, Json) },
                    t
                );
                await ChangedAsync(c, t, numbered, "case open", opened.About, actor, opened.Opened);
                return numbered;
            },
            stop
        );
    }

    /// <summary>Changes a case and returns it.</summary>
    /// <param name="id">Its number.</param>
    /// <param name="change">Makes the changed case of the newest one; it may refuse.</param>
    /// <param name="command">The command, such as <c>case close</c>, for the audit.</param>
    /// <param name="why">The reason or the words that are recorded.</param>
    /// <param name="actor">Who gave it.</param>
    /// <param name="now">The moment, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such case, or the change is refused.</exception>
    public Task<SupportCase> ChangeAsync(
        long id,
        Func<SupportCase, SupportCase> change,
        string command,
        string why,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(change);
        return database.WriteAsync(
            async (c, t) =>
            {
                var before = (await CasesAsync(c, "id = @id", new { id }, t)).SingleOrDefault();
                var after = change(before ?? throw Unknown($"c{id}"));
                await c.ExecuteAsync(
                    "UPDATE support_cases SET body = @body, closed_at = @closed, crew_until = @until WHERE id = @id",
                    new
                    {
                        id,
                        body = JsonSerializer.Serialize(after, Json),
                        closed = Micros.Of(after.Closed),
                        until = Micros.Of(after.Booking?.To),
                    },
                    t
                );
                await ChangedAsync(c, t, after, command, why, actor, now);
                return after;
            },
            stop
        );
    }

    /// <summary>All cases, newest first.</summary>
    public Task<IReadOnlyList<SupportCase>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<SupportCase>>(async c => [.. await CasesAsync(c, "1 = 1", null, null)], stop);

    /// <summary>The hours of crews that appointments take and that end after a moment.</summary>
    public Task<IReadOnlyList<CrewBooking>> BookingsAsync(DateTimeOffset after, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<CrewBooking>>(
            async c =>
                [
                    .. (await CasesAsync(c, "crew_until > @after", new { after = Micros.Of(after) }, null))
                        .Select(s => s.Booking)
                        .OfType<CrewBooking>(),
                ],
            stop
        );

    /// <summary>There is no case of that name.</summary>
    public static RefusedException Unknown(string name) =>
        RefusedException.Unknown("unknown-case", $"There is no support case '{name}'. 'gstair case list' shows those that exist.");

    private static async Task<IEnumerable<SupportCase>> CasesAsync(DbConnection c, string which, object? values, DbTransaction? t) =>
        (await c.QueryAsync<string>($"SELECT body FROM support_cases WHERE {which} ORDER BY id DESC", values, t)).Select(body =>
            JsonSerializer.Deserialize<SupportCase>(body, Json)!
        );

    private static async Task ChangedAsync(
        DbConnection c,
        DbTransaction t,
        SupportCase changed,
        string command,
        string why,
        Actor actor,
        DateTimeOffset now
    )
    {
        foreach (var machine in changed.Machines)
            await AuditTable.AddAsync(
                c,
                t,
                now,
                actor,
                command,
                changed.Name,
                machine,
                null,
                $"{changed.Reference} with {changed.With}",
                why
            );
        await Feed.AddAsync(c, t, now, "support-case", changed.Name, command.Split(' ')[1], actor, changed.Machines[0]);
    }
}
