using System.Text.Json;
using GrandStair.Client;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Rehearsals and forecasts, through the client and the interface.</summary>
public sealed class RehearsalTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private ServiceProcess Service => fleet.Service;

    [Fact]
    public async Task A_plan_is_rehearsed_with_what_ifs_side_by_side_and_the_same_seed_says_the_same_again()
    {
        await PlanAsync("rehearsed");
        string[] words =
        [
            "plan",
            "rehearse",
            "rehearsed",
            "--draws",
            "60",
            "--seed",
            "4",
            "--if",
            "limits.all=1; advance.soak=9 d",
            "--if-file",
            fleet.Service.Write(Body("rehearsed").Replace("soak: 1 d", "soak: 0 d", StringComparison.Ordinal), "quick.yaml"),
        ];
        var told = await Service.OkAsync(words);
        Assert.Contains("All that will be verified is so by", told, StringComparison.Ordinal);
        Assert.Contains("Side by side, each with the same luck", told, StringComparison.Ordinal);
        Assert.Contains("quick.yaml", told, StringComparison.Ordinal);
        Assert.Contains("60 draws from seed 4", told, StringComparison.Ordinal);

        var (one, two) = (await ResultsAsync([.. words, "--json"]), await ResultsAsync([.. words, "--json"]));
        Assert.Equal(["", "limits.all=1, advance.soak=9 d", "quick.yaml"], one.Select(r => r.Name));
        Assert.True(
            one[1].Verified.P50 > one[0].Verified.P50 && one[2].Verified.P50 < one[0].Verified.P50,
            JsonSerializer.Serialize(one.Select(r => r.Verified))
        );
        // Time goes on between the two, and a slot may just be missed by that; who is lucky does not change.
        Assert.Equal(one.Select(r => r.NotVerified), two.Select(r => r.NotVerified));
        Assert.Contains("rehearsal", await Service.OkAsync("plan", "rehearsals", "rehearsed"), StringComparison.Ordinal);
        var newest = (await Service.Client.RehearsalsAsync("rehearsed", Stop))[0];
        Assert.Contains("Side by side", await Service.OkAsync("plan", "rehearsals", "rehearsed", $"{newest.Id}"), StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_cannot_be_rehearsed_is_told_at_once_with_what_was_expected()
    {
        await PlanAsync("refused");
        await RefusedAsync("what-if", new(WhatIfs: [new(["limit.all=2"])]));
        await RefusedAsync("what-if", new(WhatIfs: [new(["limits.all"])]));
        await RefusedAsync("file", new(WhatIfs: [new(["limits.all=none"])]));
        await RefusedAsync("draws", new(Draws: 0));
        await RefusedAsync("what-ifs", new(WhatIfs: [.. Enumerable.Repeat(new WhatIfRequest(["limits.all=3"]), 9)]));
        Assert.Equal(
            "unknown-rehearsal",
            (await Assert.ThrowsAsync<ServiceException>(() => Service.Client.RehearsalAsync("refused", 9999, Stop))).Name
        );
        Assert.Equal(
            "unknown-forecast",
            (await Assert.ThrowsAsync<ServiceException>(() => Service.Client.ForecastAsync("refused", Stop))).Name
        );
        var wrong = await Service.GstairAsync("plan", "rehearse", "refused", "--fixing", "soon");
        Assert.Equal(3, wrong.Exit);
        Assert.Contains("expected a duration such as '4 d'", wrong.Error, StringComparison.Ordinal);
        Assert.Empty(await Service.Client.RehearsalsAsync("refused", Stop));

        async Task RefusedAsync(string name, RehearsalRequest request) =>
            Assert.Equal(
                name,
                (await Assert.ThrowsAsync<ServiceException>(() => Service.Client.RehearseAsync("refused", request, Stop))).Name
            );
    }

    [Fact]
    public async Task A_long_rehearsal_is_cancelled_and_ends()
    {
        await PlanAsync("long");
        var whatIfs = Enumerable.Range(1, 8).Select(i => new WhatIfRequest([$"limits.all={i}"])).ToArray();
        var asked = await Service.Client.RehearseAsync("long", new(Draws: 2000, WhatIfs: whatIfs), Stop);
        var second = await Service.Client.RehearseAsync("long", new(Draws: 2000, WhatIfs: whatIfs), Stop);
        await Eventually.TrueAsync(
            async () => (await Service.Client.RehearsalAsync("long", asked.Id, Stop)).State != "waiting",
            TimeSpan.FromSeconds(30),
            () => "it begins"
        );
        Assert.Contains(
            "was cancelled",
            await Service.OkAsync("plan", "rehearsals", "long", $"{second.Id}", "--cancel"),
            StringComparison.Ordinal
        );
        Assert.Equal(
            ("cancelled", 18_000),
            (
                (await Service.Client.RehearsalAsync("long", second.Id, Stop)).State,
                (await Service.Client.RehearsalAsync("long", second.Id, Stop)).Total
            )
        );
        Assert.Equal(
            "rehearsal-over",
            (await Assert.ThrowsAsync<ServiceException>(() => Service.Client.CancelRehearsalAsync("long", second.Id, Stop))).Name
        );
        await Eventually.TrueAsync(
            async () => (await Service.Client.RehearsalAsync("long", asked.Id, Stop)) is { State: "done", Results.Count: 9 },
            TimeSpan.FromSeconds(120),
            () => "the first is done"
        );
    }

    [Fact]
    public async Task A_plan_running_has_a_forecast_that_the_overview_shows()
    {
        await PlanAsync("forecast");
        await Service.Client.AcknowledgeAsync("forecast", new("read"), Stop);
        await Service.Client.StartAsync("forecast", Stop);
        await Eventually.TrueAsync(
            async () => (await Service.Client.OverviewAsync("forecast", Stop)).Forecast is not null,
            TimeSpan.FromSeconds(60),
            () => "it is made"
        );
        var forecast = await Service.Client.ForecastAsync("forecast", Stop);
        Assert.Equal((100, 0.0), (forecast.Draws, forecast.From > DateTimeOffset.UtcNow.AddMinutes(1) ? 1 : 0));
        Assert.True(forecast.Verified.P10 <= forecast.Verified.P50, $"{forecast.Verified}");
        Assert.NotEmpty(forecast.Sites);
        Assert.Contains(
            "All that will be verified is so by",
            await Service.OkAsync("plan", "forecast", "forecast"),
            StringComparison.Ordinal
        );
        Assert.InRange(forecast.AgeSeconds, 0, 600);

        // While the plan is held no other forecast is made, and what was changed shows at once.
        await Eventually.TrueAsync(
            async () => (await Service.Client.ForecastAsync("forecast", Stop)).Outdated is null,
            TimeSpan.FromSeconds(60),
            () => "it counts what happened at the start"
        );
        await Service.Client.HoldAsync("forecast", "storm", Stop);
        Assert.Equal("the plan was changed by admin (hold)", (await Service.Client.ForecastAsync("forecast", Stop)).Outdated);
        Assert.Matches(@"Outdated: the plan was changed by admin \(hold\) since", await Service.OkAsync("plan", "forecast", "forecast"));
        Assert.Contains("expected finish", await Service.OkAsync("overview", "show", "forecast"), StringComparison.Ordinal);
    }

    private static string Body(string name) => SmallFleet.Plan.Replace("plan: small", $"plan: {name}", StringComparison.Ordinal);

    private async Task PlanAsync(string name)
    {
        using var yaml = new MemoryStream(System.Text.Encoding.UTF8.GetBytes(Body(name)));
        await Service.Client.CreatePlanAsync(yaml, Stop);
    }

    private async Task<IReadOnlyList<ForecastView>> ResultsAsync(string[] words) =>
        JsonSerializer.Deserialize<RehearsalView>(await Service.OkAsync(words), JsonSerializerOptions.Web)!.Results;
}
