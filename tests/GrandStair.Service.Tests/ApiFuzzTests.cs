using GrandStair.Testing;
using GrandStair.Testing.Fuzzing;
using Xunit;

namespace GrandStair.Service.Tests;

public sealed class ApiFuzzTests
{
    [Fact]
    public async Task Every_call_with_changed_bodies_as_every_caller_gets_an_answer_that_is_no_fault_and_shows_nothing_hidden()
    {
        await using var service = await ServiceProcess.StartAsync("--rate", "100000");
        using var fuzz = await FuzzFleet.PrepareAsync(service, seed: 20270111, TestContext.Current.CancellationToken);
        var wrong = await fuzz.RunAsync(long.MaxValue, TimeSpan.FromSeconds(45), TestContext.Current.CancellationToken);
        Assert.True(wrong.Count == 0, string.Join("\n\n", wrong));
        Assert.True(
            fuzz.Statuses.GetValueOrDefault(200) > 50
                && fuzz.Statuses.GetValueOrDefault(400) > 50
                && fuzz.Statuses.GetValueOrDefault(403) > 50,
            string.Join(", ", fuzz.Statuses)
        );
    }
}
