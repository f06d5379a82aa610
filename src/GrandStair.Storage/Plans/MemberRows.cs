using System.Data.Common;
using Dapper;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Plans;

/// <summary>
/// Reads and writes members. What a change means is decided by <see cref="Member"/>; here it is applied to the newest rows.
/// </summary>
internal static class MemberRows
{
    // A plan's members in one query are faster than this many queries.
    private const int ManyAtOnce = 200;

    /// <summary>The members that a clause selects.</summary>
    public static async Task<IReadOnlyList<Member>> SelectAsync(DbConnection c, DbTransaction? t, string clause, object values) =>
        [.. (await c.QueryAsync<MemberRow>($"SELECT * FROM plan_members {clause}", values, t)).Select(r => r.ToMember())];

    /// <summary>
    /// Changes the members that a clause selects. Their rows are locked first, so that the change is of the newest state.
    /// </summary>
    /// <param name="dialect">The database's dialect.</param>
    /// <param name="c">The connection.</param>
    /// <param name="t">The transaction.</param>
    /// <param name="clause">The clause, beginning with <c>WHERE</c>.</param>
    /// <param name="values">Its parameters.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="change">The member after the change; the same one where nothing changes.</param>
    /// <returns>The members as they were before.</returns>
    public static async Task<IReadOnlyList<Member>> ChangeAsync(
        Dialect dialect,
        DbConnection c,
        DbTransaction t,
        string clause,
        object values,
        DateTimeOffset now,
        Func<Member, Member> change
    )
    {
        var before = await SelectAsync(c, t, $"{clause} ORDER BY machine_id {dialect.ForUpdate}", values);
        foreach (var member in before)
            await PutAsync(c, t, member, change(member), now);
        return before;
    }

    /// <summary>Writes a member whose row is locked, where it changed.</summary>
    public static async Task PutAsync(DbConnection c, DbTransaction t, Member before, Member after, DateTimeOffset now)
    {
        var counted = after.CountTimeChange(before, now);
        if (counted != before)
            await c.ExecuteAsync(Update, ValuesOf(counted), t);
    }

    /// <summary>Changes some members of a plan, each by its own change.</summary>
    /// <returns>The machines of those that there are.</returns>
    public static async Task<IReadOnlySet<MachineId>> ChangeAllAsync(
        Dialect dialect,
        DbConnection c,
        DbTransaction t,
        string plan,
        DateTimeOffset now,
        IReadOnlyDictionary<MachineId, Func<Member, Member>> changes
    )
    {
        Member Change(Member member) => changes.TryGetValue(member.Machine, out var change) ? change(member) : member;
        if (changes.Count > ManyAtOnce)
            return (await ChangeAsync(dialect, c, t, "WHERE plan = @plan", new { plan }, now, Change)).Select(m => m.Machine).ToHashSet();
        var found = new HashSet<MachineId>();
        foreach (var machine in changes.Keys.OrderBy(m => m.Value))
            if ((await ChangeAsync(dialect, c, t, OneMember, new { plan, id = machine.Value }, now, Change)).Count > 0)
                found.Add(machine);
        return found;
    }

    /// <summary>The clause that selects one member by <c>@plan</c> and <c>@id</c>.</summary>
    public const string OneMember = "WHERE plan = @plan AND machine_id = @id";

    /// <summary>Adds a member that the plan does not have yet.</summary>
    public static Task AddAsync(DbConnection c, DbTransaction t, Member member, DateTimeOffset now)
    {
        var nothing = new Member
        {
            Plan = member.Plan,
            Machine = member.Machine,
            Wave = member.Wave,
        };
        var added = member.CountTimeChange(nothing, now) with { Lapsed = member.Status == Status.NotReady ? now : null };
        return c.ExecuteAsync(Insert, ValuesOf(added), t);
    }

    private static readonly string[] Columns =
    [
        "wave",
        "status",
        "gate",
        "why",
        "method",
        "cannot_be_fixed",
        "slot_start",
        "slot_end",
        "slot_latest",
        "slot_stage",
        "slot_crew",
        "slot_sequence",
        "slot_changed",
        "planned_start",
        "planned_end",
        "change",
        "missed",
        "lapsed",
        "readied",
        "moved_reason",
        "moved_by",
        "tentative_start",
        "tentative_end",
        "tentative_stage",
        "tentative_crew",
        "rescheduled",
        "rescheduled_by",
        "rescheduled_reason",
        "run_id",
        "verified",
        "exemption",
        "exemption_reason",
        "exempted_by",
        "exempt_until",
    ];

    private static readonly string Update =
        $"UPDATE plan_members SET {string.Join(", ", Columns.Select(c => $"{c} = @{c}"))} WHERE plan = @plan AND machine_id = @machine_id";

    private static readonly string Insert =
        $"INSERT INTO plan_members (plan, machine_id, {string.Join(", ", Columns)}) "
        + $"VALUES (@plan, @machine_id, {string.Join(", ", Columns.Select(c => $"@{c}"))})";

    private static object ValuesOf(Member m) =>
        new
        {
            plan = m.Plan,
            machine_id = m.Machine.Value,
            wave = (long)m.Wave,
            status = m.Status.ToString(),
            gate = m.Gate.ToString(),
            why = m.Why,
            method = m.Method,
            cannot_be_fixed = m.CannotBeFixed ? 1L : 0L,
            slot_start = Micros.Of(m.Slot?.Start),
            slot_end = Micros.Of(m.Slot?.End),
            slot_latest = Micros.Of(m.Slot?.LatestTurn),
            slot_stage = Micros.Of(m.Slot?.StageFrom),
            slot_crew = m.Slot?.Crew,
            slot_sequence = (long)m.TimeChanges,
            slot_changed = Micros.Of(m.TimeChanged),
            planned_start = Micros.Of(m.PlannedStart),
            planned_end = Micros.Of(m.PlannedEnd),
            change = m.Change,
            missed = (long)m.Missed,
            lapsed = Micros.Of(m.Lapsed),
            readied = Micros.Of(m.Readied),
            moved_reason = m.MovedReason,
            moved_by = m.MovedBy,
            tentative_start = Micros.Of(m.Tentative?.Start),
            tentative_end = Micros.Of(m.Tentative?.End),
            tentative_stage = Micros.Of(m.Tentative?.StageFrom),
            tentative_crew = m.Tentative?.Crew,
            rescheduled = Micros.Of(m.Rescheduled),
            rescheduled_by = m.RescheduledBy,
            rescheduled_reason = m.RescheduledReason,
            run_id = m.Run,
            verified = Micros.Of(m.Verified),
            exemption = m.Exemption?.ToString(),
            exemption_reason = m.ExemptionReason,
            exempted_by = m.ExemptedBy,
            exempt_until = m.ExemptUntil?.ToString("yyyy-MM-dd", null),
        };
}

/// <summary>A row of <c>plan_members</c>.</summary>
internal sealed record MemberRow
{
    public string Plan { get; init; } = "";

    public long MachineId { get; init; }

    public long Wave { get; init; }

    public string Status { get; init; } = "";

    public string Gate { get; init; } = "";

    public string? Why { get; init; }

    public string? Method { get; init; }

    public long CannotBeFixed { get; init; }

    public long? SlotStart { get; init; }

    public long? SlotEnd { get; init; }

    public long? SlotLatest { get; init; }

    public long? SlotStage { get; init; }

    public string? SlotCrew { get; init; }

    public long? PlannedStart { get; init; }

    public long? PlannedEnd { get; init; }

    public string? Change { get; init; }

    public long Missed { get; init; }

    public long SlotSequence { get; init; }

    public long? SlotChanged { get; init; }

    public long? Lapsed { get; init; }

    public long? Readied { get; init; }

    public string? MovedReason { get; init; }

    public string? MovedBy { get; init; }

    public long? TentativeStart { get; init; }

    public long? TentativeEnd { get; init; }

    public long? TentativeStage { get; init; }

    public string? TentativeCrew { get; init; }

    public long? Rescheduled { get; init; }

    public string? RescheduledBy { get; init; }

    public string? RescheduledReason { get; init; }

    public long? RunId { get; init; }

    public long? Verified { get; init; }

    public string? Exemption { get; init; }

    public string? ExemptionReason { get; init; }

    public string? ExemptedBy { get; init; }

    public string? ExemptUntil { get; init; }

    public Member ToMember() =>
        new()
        {
            Plan = Plan,
            Machine = new(MachineId),
            Wave = (int)Wave,
            Status = Enum.Parse<Status>(Status),
            Gate = Enum.Parse<GateState>(Gate),
            Why = Why,
            Method = Method,
            CannotBeFixed = CannotBeFixed != 0,
            Slot = SlotStart is { } start
                ? new(Micros.Time(start), Micros.Time(SlotEnd!.Value), Micros.Time(SlotLatest!.Value))
                {
                    StageFrom = Micros.Time(SlotStage),
                    Crew = SlotCrew,
                }
                : null,
            PlannedStart = Micros.Time(PlannedStart),
            PlannedEnd = Micros.Time(PlannedEnd),
            Change = Change,
            Missed = (int)Missed,
            TimeChanges = (int)SlotSequence,
            TimeChanged = Micros.Time(SlotChanged),
            Lapsed = Micros.Time(Lapsed),
            Readied = Micros.Time(Readied),
            MovedReason = MovedReason,
            MovedBy = MovedBy,
            Tentative = TentativeStart is { } tentative
                ? new(Micros.Time(tentative), Micros.Time(TentativeEnd!.Value), Micros.Time(TentativeEnd.Value))
                {
                    StageFrom = Micros.Time(TentativeStage),
                    Crew = TentativeCrew,
                }
                : null,
            Rescheduled = Micros.Time(Rescheduled),
            RescheduledBy = RescheduledBy,
            RescheduledReason = RescheduledReason,
            Run = RunId,
            Verified = Micros.Time(Verified),
            Exemption = Exemption is null ? null : Enum.Parse<Exemption>(Exemption),
            ExemptionReason = ExemptionReason,
            ExemptedBy = ExemptedBy,
            ExemptUntil = ExemptUntil is null ? null : DateOnly.Parse(ExemptUntil, null),
        };
}
