using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>Somebody's yes to what a plan, or a wave of it, is going to do.</summary>
/// <param name="Subject"><c>plan</c>, or the wave's name behind <c>wave </c>.</param>
/// <param name="Intent">The hash of what was approved.</param>
/// <param name="Revision">The plan's revision at that time.</param>
/// <param name="By">Who said yes.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Reason">What was said with it.</param>
public sealed record Approval(string Subject, string Intent, int Revision, string By, DateTimeOffset At, string Reason);

/// <summary>A plan's text at some time.</summary>
/// <param name="Number">The revision, from 1.</param>
/// <param name="Body">The text.</param>
/// <param name="At">When it was loaded, UTC.</param>
/// <param name="By">Who loaded it.</param>
/// <param name="Reason">Why; empty for the first.</param>
public sealed record PlanRevision(int Number, string Body, DateTimeOffset At, string By, string Reason);

/// <summary>The approvals and the revisions of plans.</summary>
public sealed class ApprovalTable(Database database)
{
    /// <summary>Keeps an approval. One of the same thing that was given before stays.</summary>
    public Task AddAsync(string plan, Approval approval, Actor actor, CancellationToken stop) => database.WriteAsync(
        async (c, t) =>
        {
            var isNew = await c.ExecuteAsync(
                "INSERT INTO plan_approvals (plan, subject, intent, revision, by_whom, at, reason) VALUES (@plan, @Subject, @Intent, @Revision, @By, @at, @Reason) ON CONFLICT DO NOTHING",
                new { plan, approval.Subject, approval.Intent, Revision = (long)approval.Revision, approval.By, at = Micros.Of(approval.At), approval.Reason },
                t);
            if (isNew == 0) return 0;
            await AuditTable.AddAsync(c, t, approval.At, actor, "plan approve", plan, null, null, approval.Intent, $"{approval.Subject}, revision {approval.Revision}: {approval.Reason}");
            await Feed.AddAsync(c, t, approval.At, "plan", plan, "approved", actor);
            return 1;
        },
        stop);

    /// <summary>All approvals of a plan, oldest first.</summary>
    public Task<IReadOnlyList<Approval>> OfAsync(string plan, CancellationToken stop) => database.ReadAsync<IReadOnlyList<Approval>>(
        async c => [.. (await c.QueryAsync<Row>("SELECT * FROM plan_approvals WHERE plan = @plan ORDER BY at", new { plan })).Select(r => new Approval(r.Subject, r.Intent, (int)r.Revision, r.ByWhom, Micros.Time(r.At), r.Reason))], stop);

    /// <summary>All revisions of a plan, oldest first.</summary>
    public Task<IReadOnlyList<PlanRevision>> RevisionsAsync(string plan, CancellationToken stop) => database.ReadAsync<IReadOnlyList<PlanRevision>>(
        async c => [.. (await c.QueryAsync<Row>("SELECT * FROM plan_revisions WHERE plan = @plan ORDER BY revision", new { plan })).Select(r => new PlanRevision((int)r.Revision, r.Body, Micros.Time(r.At), r.ByWhom, r.Reason))], stop);

    private sealed record Row
    {
        public string Subject { get; init; } = "";

        public string Intent { get; init; } = "";

        public long Revision { get; init; }

        public string Body { get; init; } = "";

        public string ByWhom { get; init; } = "";

        public long At { get; init; }

        public string Reason { get; init; } = "";
    }
}
