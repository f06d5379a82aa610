using System.Collections.Immutable;
using System.Data.Common;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>A plan's text at some time.</summary>
/// <param name="Number">The revision, from 1.</param>
/// <param name="Body">The text.</param>
/// <param name="At">When it was loaded, UTC.</param>
/// <param name="By">Who loaded it.</param>
/// <param name="Reason">Why; empty for the first.</param>
public sealed record PlanRevision(int Number, string Body, DateTimeOffset At, string By, string Reason);

/// <summary>What the database knows about the consent to a plan.</summary>
/// <param name="FirstIntent">The hash of the intent with which the plan was made; empty where it is not known.</param>
/// <param name="Rules">The rule of every revision.</param>
/// <param name="Changes">Every change of the intent, oldest first.</param>
/// <param name="Approvals">Every approval, oldest first.</param>
/// <param name="EveryPlan">Whether the service asks for an approval of every plan.</param>
public sealed record StoredConsent(
    string FirstIntent,
    ImmutableSortedDictionary<int, ConsentRule> Rules,
    ImmutableArray<IntentChange> Changes,
    ImmutableArray<Approval> Approvals,
    bool EveryPlan
);

/// <summary>The approvals of plans, what they are judged by, and the revisions of plans.</summary>
public sealed class ApprovalTable(Database database)
{
    private const string EveryPlan = "every-plan-approved";

    /// <summary>Stores an approval.</summary>
    public Task AddAsync(string plan, Approval approval, Actor actor, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync(
                    """
                    INSERT INTO plan_approvals (plan, number, subject, intent, revision, changes, by_whom, at, reason)
                    SELECT @plan, COALESCE(MAX(number), 0) + 1, @Subject, @Intent, @Revision, @Changes, @By, @at, @Reason FROM
                      plan_approvals WHERE plan = @plan
                    """,
                    new
                    {
                        plan,
                        approval.Subject,
                        approval.Intent,
                        Revision = (long)approval.Revision,
                        Changes = (long)approval.Changes,
                        approval.By,
                        at = Micros.Of(approval.At),
                        approval.Reason,
                    },
                    t
                );
                await AuditTable.AddAsync(
                    c,
                    t,
                    approval.At,
                    actor,
                    "plan approve",
                    plan,
                    null,
                    null,
                    approval.Intent,
                    $"{approval.Subject}, revision {approval.Revision}: {approval.Reason}"
                );
                await Feed.AddAsync(c, t, approval.At, "plan", plan, "approved", actor);
                return 0;
            },
            stop
        );

    /// <summary>What consent to a plan is judged by.</summary>
    public Task<StoredConsent> ConsentAsync(string plan, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
            {
                var rules = await c.QueryAsync<RuleRow>("SELECT revision, consent FROM plan_revisions WHERE plan = @plan", new { plan });
                var changes = await c.QueryAsync<ChangeRow>(
                    "SELECT number, at, by_whom, what FROM plan_intent_changes WHERE plan = @plan ORDER BY number",
                    new { plan }
                );
                var approvals = await c.QueryAsync<Row>("SELECT * FROM plan_approvals WHERE plan = @plan ORDER BY number", new { plan });
                return new StoredConsent(
                    await c.ExecuteScalarAsync<string?>("SELECT first_intent FROM plans WHERE name = @plan", new { plan }) ?? "",
                    rules.ToImmutableSortedDictionary(
                        r => (int)r.Revision,
                        r => r.Consent.Length == 0 ? ConsentRule.None : JsonSerializer.Deserialize<ConsentRule>(r.Consent)!
                    ),
                    [.. changes.Select(r => new IntentChange((int)r.Number, Micros.Time(r.At), r.ByWhom, r.What))],
                    [
                        .. approvals.Select(r => new Approval(
                            r.Subject,
                            r.Intent,
                            (int)r.Revision,
                            (int)r.Changes,
                            r.ByWhom,
                            Micros.Time(r.At),
                            r.Reason
                        )),
                    ],
                    await c.ExecuteScalarAsync<string?>("SELECT value FROM settings WHERE name = @EveryPlan", new { EveryPlan }) == "yes"
                );
            },
            stop
        );

    /// <summary>Whether the service asks for an approval of every plan.</summary>
    public Task<bool> AsksForEveryPlanAsync(CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                await c.ExecuteScalarAsync<string?>("SELECT value FROM settings WHERE name = @EveryPlan", new { EveryPlan }) == "yes",
            stop
        );

    /// <summary>Says whether the service asks for an approval of every plan.</summary>
    public Task AskForEveryPlanAsync(bool asks, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var value = asks ? "yes" : "no";
                var before = await c.ExecuteScalarAsync<string?>("SELECT value FROM settings WHERE name = @EveryPlan", new { EveryPlan }, t)
                    ?? "no";
                await c.ExecuteAsync(
                    "INSERT INTO settings (name, value) VALUES (@EveryPlan, @value) ON CONFLICT (name) DO UPDATE SET value = "
                        + "excluded.value",
                    new { EveryPlan, value },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "setting change", EveryPlan, null, before, value, reason);
                await Feed.AddAsync(c, t, now, "plan", "*", "approval-rule", actor);
                return 0;
            },
            stop
        );

    /// <summary>All revisions of a plan, oldest first.</summary>
    public Task<IReadOnlyList<PlanRevision>> RevisionsAsync(string plan, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<PlanRevision>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<Row>(
                            "SELECT revision, body, at, by_whom, reason FROM plan_revisions WHERE plan = @plan ORDER BY revision",
                            new { plan }
                        )
                    ).Select(r => new PlanRevision((int)r.Revision, r.Body, Micros.Time(r.At), r.ByWhom, r.Reason)),
                ],
            stop
        );

    /// <summary>Notes in the caller's transaction that somebody changed what a plan is going to do.</summary>
    internal static Task ChangedAsync(DbConnection c, DbTransaction t, string plan, string what, string by, DateTimeOffset now) =>
        c.ExecuteAsync(
            """
            INSERT INTO plan_intent_changes (plan, number, at, by_whom, what)
            SELECT @plan, COALESCE(MAX(number), 0) + 1, @at, @by, @what FROM plan_intent_changes WHERE plan = @plan
            """,
            new
            {
                plan,
                at = Micros.Of(now),
                by,
                what,
            },
            t
        );

    private sealed record RuleRow
    {
        public long Revision { get; init; }

        public string Consent { get; init; } = "";
    }

    private sealed record ChangeRow
    {
        public long Number { get; init; }

        public long At { get; init; }

        public string ByWhom { get; init; } = "";

        public string What { get; init; } = "";
    }

    private sealed record Row
    {
        public string Subject { get; init; } = "";

        public string Intent { get; init; } = "";

        public long Revision { get; init; }

        public long Changes { get; init; }

        public string Body { get; init; } = "";

        public string ByWhom { get; init; } = "";

        public long At { get; init; }

        public string Reason { get; init; } = "";
    }
}
