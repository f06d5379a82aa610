using GrandStair.Engine.Duties;
using GrandStair.Testing;
using Microsoft.Extensions.Logging.Abstractions;
using Xunit;

namespace GrandStair.Engine.Tests;

public sealed class DutyTests
{
    [Fact]
    public async Task A_duty_that_fails_or_ends_by_itself_is_restarted_and_counted()
    {
        var host = new DutyHost(NullLogger<DutyHost>.Instance);
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(TestContext.Current.CancellationToken);
        var starts = 0;
        var running = host.RunAsync("reads", async ct =>
        {
            switch (Interlocked.Increment(ref starts))
            {
                case 1: throw new InvalidOperationException("what a hostile machine did");
                case 2: return;
                // A cancellation that is not the stop's is a failure like any other.
                case 3: throw new OperationCanceledException();
                default: await Task.Delay(Timeout.Infinite, ct); break;
            }
        }, stop.Token);
        await Eventually.TrueAsync(() => Task.FromResult(starts == 4 && host.AreAllRunning), TimeSpan.FromSeconds(30), () => $"it runs again; it was started {starts} times");
        var duty = Assert.Single(host.All);
        Assert.Equal(("reads", true, 3), (duty.Name, duty.IsRunning, duty.Failures));
        await stop.CancelAsync();
        await running;
        Assert.Equal(4, starts);
    }
}
