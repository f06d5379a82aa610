using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Duties;
using GrandStair.Files.Catalogue;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

public sealed class DutyTests
{
    [Fact]
    public async Task A_duty_that_fails_or_ends_by_itself_is_restarted_and_counted()
    {
        await using var kit = await EngineKit.StartAsync(pace: 1);
        var host = kit.Duties;
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(TestContext.Current.CancellationToken);
        var starts = 0;
        var running = host.RunAsync(
            "reads",
            async ct =>
            {
                switch (Interlocked.Increment(ref starts))
                {
                    case 1:
                        throw new InvalidOperationException("what a hostile machine did");
                    case 2:
                        return;
                    // A cancellation that is not the stop's is a failure like any other.
                    case 3:
                        throw new OperationCanceledException();
                    default:
                        await Task.Delay(Timeout.Infinite, ct);
                        break;
                }
            },
            stop.Token
        );
        await Eventually.TrueAsync(
            () => Task.FromResult(starts == 4 && host.AreAllRunning),
            TimeSpan.FromSeconds(30),
            () => $"it runs again; it was started {starts} times"
        );
        var duty = Assert.Single(host.All);
        Assert.Equal(("reads", true, 3), (duty.Name, duty.IsRunning, duty.Failures));
        await stop.CancelAsync();
        await running;
        Assert.Equal(4, starts);
    }

    [Fact]
    public async Task A_duty_is_repeated_after_a_pause_counted_and_timed_and_goes_on_after_a_failure()
    {
        await using var kit = await EngineKit.StartAsync(pace: 1);
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(TestContext.Current.CancellationToken);
        var passes = 0;
        var running = kit.Duties.RunAsync(
            new Duty("counts", TimeSpan.FromMilliseconds(1), _ =>
                Interlocked.Increment(ref passes) == 3 ? throw new StoreException("away", "the database is away") : Task.CompletedTask
            )
            {
                IsSingle = true,
            },
            stop.Token
        );
        await Eventually.TrueAsync(() => Task.FromResult(passes > 5), TimeSpan.FromSeconds(30), () => $"it goes on; {passes} passes");
        var duty = Assert.Single(kit.Duties.All);
        Assert.Equal((true, 1), (duty.IsRunning, duty.Failures));
        Assert.True(duty.Passes >= 4 && duty.LastPass >= duty.LastFailed, duty.ToString());
        await stop.CancelAsync();
        await running;
    }

    [Fact]
    public async Task What_one_service_approves_another_one_on_the_same_database_takes_over()
    {
        var stop = TestContext.Current.CancellationToken;
        await using var kit = await EngineKit.StartAsync(pace: 1);
        var files = CatalogueFolder.Load(Path.Combine(Repository.Root, "catalogue", "brae-desktop"));
        files = files.SetItem("product.yaml", files["product.yaml"] + "# one line more\n");
        CatalogueContent content = new(CatalogueFolder.Hash(files), "Brae Desktop", files);
        var other = new CatalogueCache(new EngineKit.Documents(), new(kit.Database));
        foreach (var cache in new[] { kit.CatalogueCache, other })
            await cache.LoadAsync([content], kit.Clock.GetUtcNow(), stop);
        Assert.Equal(content.Hash, Assert.Single(other.Waiting).Value.Content.Hash);
        await other.TakeApprovedAsync(stop);
        Assert.Single(other.Waiting);

        await kit.CatalogueCache.ApproveAsync("Brae Desktop", content.Hash, "read", new("approver"), kit.Clock.GetUtcNow(), stop);
        Assert.NotEqual(content.Hash, other.Products["Brae Desktop"].Hash);
        await other.TakeApprovedAsync(stop);
        Assert.Empty(other.Waiting);
        Assert.Equal(content.Hash, other.Products["Brae Desktop"].Hash);
    }

    [Fact]
    public async Task Of_two_services_on_one_database_one_has_a_duty_and_the_other_takes_over_when_it_ends()
    {
        using var server = await PostgresServer.StartAsync();
        var where = await server.NewDatabaseAsync();
        await using var database = await Database.OpenAsync(where, TestContext.Current.CancellationToken);
        using var stopFirst = CancellationTokenSource.CreateLinkedTokenSource(TestContext.Current.CancellationToken);
        using var stopSecond = CancellationTokenSource.CreateLinkedTokenSource(TestContext.Current.CancellationToken);
        var (atOnce, most, firstRuns, secondRuns) = (0, 0, 0, 0);
        Func<CancellationToken, Task> Work(Action runs) =>
            async stop =>
            {
                runs();
                most = Math.Max(most, Interlocked.Increment(ref atOnce));
                try
                {
                    await Task.Delay(Timeout.Infinite, stop);
                }
                finally
                {
                    Interlocked.Decrement(ref atOnce);
                }
            };
        var first = new SingleDuty(new(database)).Of("plans", Work(() => firstRuns++))(stopFirst.Token);
        await Eventually.TrueAsync(() => Task.FromResult(firstRuns == 1), TimeSpan.FromSeconds(20), () => "the first has it");
        var second = new SingleDuty(new(database)).Of("plans", Work(() => secondRuns++))(stopSecond.Token);
        await Task.Delay(TimeSpan.FromSeconds(3), TestContext.Current.CancellationToken);
        Assert.Equal(0, secondRuns);
        await stopFirst.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => first);
        await Eventually.TrueAsync(() => Task.FromResult(secondRuns == 1), TimeSpan.FromSeconds(20), () => "the second has taken over");
        await stopSecond.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => second);
        Assert.Equal((1, 1, 1), (most, firstRuns, secondRuns));
    }
}
