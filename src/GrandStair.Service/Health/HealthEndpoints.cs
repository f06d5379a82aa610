using GrandStair.Contracts;
using GrandStair.Core.Waves;
using GrandStair.Engine.Duties;
using GrandStair.Service.Audit;
using GrandStair.Storage.Feeds;
using Prometheus;

namespace GrandStair.Service.Health;

/// <summary>How a background duty is doing, as health shows it.</summary>
/// <param name="Name">The duty.</param>
/// <param name="Running">Whether it runs; false while it waits to be restarted.</param>
/// <param name="Failures">How often it failed since the process started.</param>
/// <param name="LastFailed">When it failed last, UTC; null for never.</param>
internal sealed record DutyHealth(string Name, bool Running, int Failures, DateTimeOffset? LastFailed);

/// <summary>How the service is doing.</summary>
/// <param name="Status"><c>ok</c>; <c>degraded</c> while a duty waits to be restarted; <c>alarm</c> where the audit is not what was
/// sealed.</param>
/// <param name="Audit"><c>ok</c> or <c>alarm</c>.</param>
/// <param name="Duties">The background duties of this process.</param>
/// <param name="TimeZones">The version of its time zone data, such as <c>2026a</c>.</param>
internal sealed record ServiceHealth(string Status, string Audit, IReadOnlyList<DutyHealth> Duties, string TimeZones);

/// <summary>What monitoring asks, without an account: it names no machine, plan or person, and no text of an error.</summary>
internal static class HealthEndpoints
{
    /// <summary>What people with an account ask of the background duties of this process.</summary>
    public static void MapDuties(this RouteGroupBuilder api) =>
        api.MapGet("/duties", (DutyHost duties) =>
                duties
                    .All.Select(d => new DutyView(
                        d.Name,
                        d.IsRunning,
                        d.Passes,
                        d.LastPass,
                        d.LastPass is null ? null : d.Took.TotalSeconds,
                        d.Failures,
                        d.LastFailed
                    ))
                    .ToArray()
            )
            .WithName("ListDuties");

    public static void MapHealth(this WebApplication app)
    {
        // Of the other meters only that of the run-time: labels of others name hosts.
        Metrics.ConfigureMeterAdapter(options =>
            options.InstrumentFilterPredicate = instrument => instrument.Meter.Name is DutyHost.MeterName or "System.Runtime"
        );
        app.MapMetrics("/metrics").ExcludeFromDescription();
        app.MapGet("/health/live", () => Results.Ok("live")).ExcludeFromDescription();
        app.MapGet("/health/ready", async (Feed feed, DutyHost duties, AuditAlarm alarm, CancellationToken stop) =>
            {
                // Only whether the database answers is public; the number of changes is not.
                await feed.NewestAsync(stop);
                var status =
                    alarm.IsRaised ? "alarm"
                    : duties.AreAllRunning ? "ok"
                    : "degraded";
                // A duty that waits to be restarted does not make the service unready; the body reports it.
                return Results.Ok(
                    new ServiceHealth(
                        status,
                        alarm.IsRaised ? "alarm" : "ok",
                        [.. duties.All.Select(d => new DutyHealth(d.Name, d.IsRunning, d.Failures, d.LastFailed))],
                        ZoneData.Version
                    )
                );
            })
            .ExcludeFromDescription();
    }
}
