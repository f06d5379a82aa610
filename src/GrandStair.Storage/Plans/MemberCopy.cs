using System.Data.Common;
using Dapper;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Plans;

/// <summary>
/// The members of all plans, kept in memory; each call reads only those that have changed since the one before. Whatever writes members
/// also writes to the feed, in the same transaction, which machine or plan it was.
/// </summary>
internal sealed class MemberCopy : IDisposable
{
    /// <summary>Above so many changed machines it is quicker to read the members of all plans again.</summary>
    private const int MostReadSingly = 200;

    private readonly Database _database;
    private readonly SharedRefresh _refresh;
    private readonly Dictionary<string, Dictionary<MachineId, Member>> _members = new(StringComparer.Ordinal);
    private readonly Dictionary<string, IReadOnlyList<Member>> _inOrder = new(StringComparer.Ordinal);
    private long _position;

    /// <summary>A copy that is filled when it is first asked.</summary>
    public MemberCopy(Database database)
    {
        _database = database;
        _refresh = new(RefreshAsync);
    }

    /// <summary>The members of a plan as of now, by wave and machine; none where there is no such plan.</summary>
    public Task<IReadOnlyList<Member>> OfAsync(string plan, CancellationToken stop) => _refresh.ReadAsync(() => InOrder(plan), stop);

    /// <inheritdoc />
    public void Dispose() => _refresh.Dispose();

    private IReadOnlyList<Member> InOrder(string plan)
    {
        if (!_members.TryGetValue(plan, out var members))
            return [];
        if (!_inOrder.TryGetValue(plan, out var inOrder))
            _inOrder[plan] = inOrder = [.. members.Values.OrderBy(m => m.Wave).ThenBy(m => m.Machine.Value)];
        return inOrder;
    }

    private async Task RefreshAsync(CancellationToken stop)
    {
        var (position, changes, newest) = await ChangedAsync(stop);
        if (changes.All)
            _members.Clear();
        foreach (var plan in changes.Plans)
            _members.Remove(plan);
        foreach (var members in _members.Values)
        {
            foreach (var machine in changes.Machines)
                members.Remove(new(machine));
        }

        foreach (var member in newest)
        {
            if (!_members.TryGetValue(member.Plan, out var members))
                _members[member.Plan] = members = [];
            members[member.Machine] = member;
        }

        if (changes.All || changes.Machines.Count > 0)
            _inOrder.Clear();
        foreach (var plan in changes.Plans)
            _inOrder.Remove(plan);
        _position = position;
    }

    /// <summary>What has changed after the last position, and the newest members of it.</summary>
    private Task<(long Position, Changes Changes, IReadOnlyList<Member> Newest)> ChangedAsync(CancellationToken stop) =>
        _database.ReadAsync<(long, Changes, IReadOnlyList<Member>)>(
            async c =>
            {
                // Asked for before the members: what is written in between is read once more with the next call, and nothing is missed.
                var newest = await c.ExecuteScalarAsync<long>("SELECT last FROM counters WHERE name = 'feed'");
                if (newest == _position)
                    return (newest, Changes.None, []);
                var changes = Changes.Everything;
                if (_position > 0)
                {
                    // Reading a machine changes no member by itself; the plan's next step does, where it has to.
                    var rows = await c.QueryAsync<(string Subject, long? Machine)>(
                        "SELECT DISTINCT subject, machine_id FROM feed WHERE position > @from AND position <= @newest AND (kind IN "
                            + "('run', 'plan') OR kind = 'fleet' AND type = 'removed')",
                        new { from = _position, newest }
                    );
                    changes = Changes.Of(rows);
                }

                return (newest, changes, await NewestAsync(c, changes));
            },
            stop
        );

    private static async Task<IReadOnlyList<Member>> NewestAsync(DbConnection c, Changes changes)
    {
        if (changes.All)
            return await MemberRows.SelectAsync(c, null, "", new { });
        var members = new List<Member>();
        foreach (var plan in changes.Plans)
            members.AddRange(await MemberRows.SelectAsync(c, null, "WHERE plan = @plan", new { plan }));
        if (changes.Machines.Count > 0)
            members.AddRange(await MemberRows.SelectAsync(c, null, $"WHERE machine_id IN ({string.Join(',', changes.Machines)})", new { }));
        return members;
    }

    /// <summary>Whose members are read again.</summary>
    /// <param name="All">Whether it is all of them.</param>
    /// <param name="Plans">The plans all of whose members are.</param>
    /// <param name="Machines">The machines whose members are, in every plan.</param>
    private sealed record Changes(bool All, IReadOnlyList<string> Plans, IReadOnlyList<long> Machines)
    {
        public static Changes None { get; } = new(false, [], []);

        public static Changes Everything { get; } = new(true, [], []);

        public static Changes Of(IEnumerable<(string Subject, long? Machine)> rows)
        {
            var (plans, machines) = (new HashSet<string>(StringComparer.Ordinal), new HashSet<long>());
            foreach (var (subject, machine) in rows)
            {
                if (machine is { } id)
                    machines.Add(id);
                else
                    plans.Add(subject);
            }

            return machines.Count > MostReadSingly ? Everything : new(false, [.. plans], [.. machines]);
        }
    }
}
