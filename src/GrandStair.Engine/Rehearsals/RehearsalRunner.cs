using System.Diagnostics;
using GrandStair.Core.Access;
using GrandStair.Core.Plans;
using GrandStair.Core.Refusals;
using GrandStair.Core.Rehearsals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Durations;
using GrandStair.Engine.Duties;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Rehearsals;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Rehearsals;

/// <summary>Where rehearsals are asked for and made, and where the forecasts of running plans are kept up to date.</summary>
public sealed class RehearsalRunner(
    RehearsalTable table,
    RehearsalCases cases,
    MeasuredRuns measured,
    PlanTable plans,
    CatalogueCache catalogues,
    IDocuments documents,
    Feed feed,
    TimeProvider clock,
    ILogger<RehearsalRunner> log
)
{
    /// <summary>How many draws a rehearsal may have.</summary>
    public const int MostDraws = 2000;

    /// <summary>How many what-ifs may stand beside the plan.</summary>
    public const int MostWhatIfs = 8;

    /// <summary>How many rehearsals of one plan may wait.</summary>
    public const int MostWaiting = 5;

    /// <summary>How many draws a forecast is made of.</summary>
    public const int ForecastDraws = 100;

    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(300);
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(700);

    private static readonly WorkShare Forecasting = new(TimeSpan.FromSeconds(10));
    private readonly Dictionary<string, (long Position, long Due)> _forecast = new(StringComparer.Ordinal);

    /// <summary>Asks for a rehearsal; it is made by whichever worker comes to it.</summary>
    /// <returns>Its number.</returns>
    /// <exception cref="RefusedException">It cannot be made as it is asked for.</exception>
    public async Task<long> AskAsync(PlanRecord plan, RehearsalAsked asked, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(asked);
        if (plan.State == PlanStatus.Ended)
            throw RefusedException.Conflict("plan-ended", $"Plan '{plan.Name}' has ended; there is nothing to rehearse.");
        if (asked.Draws is < 1 or > MostDraws)
            throw RefusedException.Invalid("draws", $"{asked.Draws} draws cannot be made; expected 1 to {MostDraws}.");
        if (asked.WhatIfs.Count > MostWhatIfs)
            throw RefusedException.Invalid(
                "what-ifs",
                $"There are {asked.WhatIfs.Count} what-ifs; expected at most {MostWhatIfs} at once."
            );
        if ((await table.OfAsync(plan.Name, stop)).Count(r => r.State == RehearsalState.Waiting) >= MostWaiting)
            throw RefusedException.Conflict(
                "rehearsals-wait",
                $"{MostWaiting} rehearsals of plan '{plan.Name}' wait already; cancel one, or wait until they are done."
            );
        // What is wrong in a what-if is told now, and not when it is its turn.
        foreach (var whatIf in asked.WhatIfs)
            catalogues.ReadPlan(BodyOf(plan, whatIf));
        return await table.AskAsync(plan.Name, plan.Revision, asked, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Makes the rehearsals that are asked for, and keeps forecasts up to date.</summary>
    public Duty Duty => new("rehearsals", Tick, WorkAsync);

    private async Task WorkAsync(CancellationToken stop)
    {
        if (await table.ClaimAsync(stop) is { } next)
            await MakeAsync(next, stop);
        else
            await ForecastAsync(stop);
    }

    private async Task MakeAsync(StoredRehearsal rehearsal, CancellationToken stop)
    {
        using var cancelled = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var done = 0;
        var beating = BeatAsync(rehearsal.Id, () => Volatile.Read(ref done), cancelled);
        try
        {
            var plan = (await plans.FindAsync(rehearsal.Plan, stop))!;
            var experience = await LearntAsync(plan, stop);
            var results = new List<Rehearsed>();
            foreach (var whatIf in rehearsal.Asked.WhatIfs.Prepend(new("", [], null)))
            {
                var @case = results.Count == 0 ? await cases.OfAsync(plan, stop) : await cases.OfAsync(plan, BodyOf(plan, whatIf), stop);
                var before = done;
                results.Add(
                    await RunAsync(
                        rehearsal.Asked,
                        whatIf,
                        @case,
                        experience,
                        d => Volatile.Write(ref done, before + d),
                        0,
                        cancelled.Token
                    )
                );
            }

            await table.EndAsync(rehearsal, results, null, clock.GetUtcNow(), stop);
        }
        catch (OperationCanceledException) when (!stop.IsCancellationRequested)
        {
            log.LogInformation("Rehearsal {Rehearsal} of plan {Plan} was cancelled", rehearsal.Id, rehearsal.Plan);
        }
        catch (Exception error) when (error is RefusedException or FormatException)
        {
            await table.EndAsync(rehearsal, null, error.Message, clock.GetUtcNow(), stop);
        }
        catch (Exception error) when (error is not (OperationCanceledException or StoreException or System.Data.Common.DbException))
        {
            // It would go wrong again and again.
            log.LogError(error, "Rehearsal {Rehearsal} of plan {Plan} failed", rehearsal.Id, rehearsal.Plan);
            await table.EndAsync(
                rehearsal,
                null,
                "Something went wrong that should not; the service's log says what.",
                clock.GetUtcNow(),
                stop
            );
        }
        finally
        {
            await cancelled.CancelAsync();
            await beating;
        }
    }

    /// <summary>Reports a rehearsal's progress until it is over, and ends it where it was cancelled.</summary>
    private async Task BeatAsync(long id, Func<int> done, CancellationTokenSource cancelled)
    {
        try
        {
            while (await table.AdvanceAsync(id, done(), cancelled.Token))
                await Task.Delay(Beat, cancelled.Token);
            await cancelled.CancelAsync();
        }
        catch (OperationCanceledException) { }
    }

    /// <summary>What was measured of a plan's product so far: once for all that is compared.</summary>
    private async Task<Experience> LearntAsync(PlanRecord plan, CancellationToken stop) =>
        await measured.ExperienceAsync(await catalogues.ByHashAsync(plan.CatalogueHash, stop), stop);

    private static async Task<Rehearsed> RunAsync(
        RehearsalAsked asked,
        WhatIf whatIf,
        RehearsalCase @case,
        Experience experience,
        Action<int>? progress,
        int processors,
        CancellationToken stop
    )
    {
        // It takes all processors for a while; on a thread of its own nothing else waits for it.
        var forecast = await Task.Factory.StartNew(
            () =>
                Rehearsal.Run(
                    @case,
                    experience,
                    new(asked.Draws, (ulong)asked.Seed, asked.Fixing) { Processors = processors },
                    progress,
                    stop
                ),
            stop,
            TaskCreationOptions.LongRunning,
            TaskScheduler.Default
        );
        return new(whatIf.Name, whatIf.Changes, @case.Plan.Deadline, forecast);
    }

    private async Task ForecastAsync(CancellationToken stop)
    {
        // A forecast that was made is no reason for another.
        var position = await feed.NewestButAsync("forecast", stop);
        foreach (var plan in (await plans.AllAsync(stop)).Where(p => p is { State: PlanStatus.Started, Held: null }))
        {
            var before = _forecast.GetValueOrDefault(plan.Name, (-1, 0));
            if (before.Position == position || Stopwatch.GetTimestamp() < before.Due)
                continue;
            var begun = Stopwatch.GetTimestamp();
            var asked = new RehearsalAsked(ForecastDraws, (long)RehearsalSettings.Usual.Seed, RehearsalSettings.Usual.Fixing, []);
            var rest = new Rest();
            await table.PutForecastAsync(
                plan.Name,
                plan.Revision,
                asked,
                await RunAsync(
                    asked,
                    new("", [], null),
                    await cases.OfAsync(plan, stop),
                    await LearntAsync(plan, stop),
                    _ => rest.Take(stop),
                    1,
                    stop
                ),
                position,
                clock.GetUtcNow(),
                stop
            );
            // What changed while it was made counts for the next one.
            _forecast[plan.Name] = (position, Forecasting.NextAfter(begun));
        }
    }

    private string BodyOf(PlanRecord plan, WhatIf whatIf)
    {
        try
        {
            return documents.ChangePlan(whatIf.Body ?? plan.Body, whatIf.Changes);
        }
        catch (FormatException wrong)
        {
            throw RefusedException.Invalid("what-if", wrong.Message);
        }
    }
}
