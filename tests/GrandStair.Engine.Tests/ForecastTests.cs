using System.Text;
using GrandStair.Core.Access;
using GrandStair.Core.Rehearsals;
using GrandStair.Engine.Rehearsals;
using GrandStair.Files.Fleet;
using GrandStair.Storage.Fleet;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>What a forecast says, against what then happens.</summary>
public sealed class ForecastTests
{
    [Fact]
    public async Task What_the_forecast_says_of_the_demo_holds_as_often_as_it_says_and_after_the_pilot_alone_it_is_careful()
    {
        await using var kit = await EngineKit.StartAsync(pace: 1);
        var whole = await DemoAsync(kit);
        var product = kit.CatalogueCache.Products["Brae Desktop"];
        var truths = Truths(Path.Combine(Demo, "simulated.csv"));
        Assert.True(whole.Machines.Length > 200, $"{whole.Machines.Length} machines");

        // In one world all of another plan was measured before, in the other the pilot alone.
        var (known, pilot) = (new Held(), new Held());
        var worlds = Seeds.Cases(40);
        for (var seed = 1; seed <= worlds; seed++)
        {
            var history = new SimulatedWorldModel(product, truths, -seed);
            Rehearsal.Once(whole, history, EngineKit.Stop);
            Forecast(whole, new(product, truths, seed), history.Measured, seed, known);
            if (seed % 2 == 0)
                Forecast(whole, new(product, truths, seed), Measurements.None, seed, pilot);
        }

        TestContext.Current.TestOutputHelper?.WriteLine($"with a plan measured before: {known}; after the pilot alone: {pilot}");
        // Eight of ten belong between P10 and P90; what is counted may be off by two and a half standard deviations.
        var off = 2.5 * Math.Sqrt(worlds * 0.8 * 0.2);
        Assert.InRange(known.Inside, (worlds * 0.8) - off, (worlds * 0.8) + off);
        Assert.True(pilot.After <= Math.Max(2, worlds / 50), $"{pilot}");
    }

    /// <summary>Forecasts the rest of a plan when its pilot has passed, and sees what then happens.</summary>
    private static void Forecast(RehearsalCase whole, SimulatedWorldModel outside, Measurements before, int seed, Held held)
    {
        var pilot = Rehearsal
            .Once(whole with { Machines = [.. whole.Machines.Where(m => m.Wave == 0)] }, outside, EngineKit.Stop)
            .OfType<DateTimeOffset>()
            .Order()
            .ToArray();
        var passed = pilot[(int)Math.Ceiling(whole.Plan.Advance.Verified * pilot.Length) - 1] + whole.Plan.Advance.Soak;
        var rest = whole with
        {
            Machines = [.. whole.Machines.Where(m => m.Wave > 0)],
            Waves = [new(whole.From, true), default, default],
            From = passed,
        };
        var forecast = Rehearsal.Run(
            rest,
            new(Measurements.Together([before, outside.Measured])),
            new(60, (ulong)seed, TimeSpan.FromHours(54)),
            null,
            EngineKit.Stop
        );
        held.Add(forecast.Verified, Rehearsal.Once(rest, outside, EngineKit.Stop).Max()!.Value);
    }

    /// <summary>The demo's plan as it is before it starts.</summary>
    private static async Task<RehearsalCase> DemoAsync(EngineKit kit)
    {
        using var reader = new StreamReader(Path.Combine(Demo, "fleet.csv"), Encoding.UTF8);
        var file = new FleetFile(reader, "fleet.csv", new("inventory"), kit.CatalogueCache.Keys, kit.Clock.GetUtcNow());
        await new FleetTable(kit.Database).ImportAsync(file.Lines(), "inventory", new("planner"), kit.Clock.GetUtcNow(), EngineKit.Stop);
        await kit.Calendars.PutAsync(
            "kittiwake-berths",
            await File.ReadAllTextAsync(Path.Combine(Demo, "kittiwake-berths.ics"), EngineKit.Stop),
            new("planner"),
            EngineKit.Stop
        );
        var plan = await kit.Writer.CreateAsync(
            await File.ReadAllTextAsync(Path.Combine(Demo, "plan.yaml"), EngineKit.Stop),
            new("planner"),
            SiteScope.All,
            EngineKit.Stop
        );
        return await new RehearsalCases(kit.CatalogueCache, kit.Plans, kit.Writer, kit.Facts, kit.Clock).OfAsync(
            plan.Record,
            EngineKit.Stop
        );
    }

    private static string Demo => Path.Combine(Repository.Root, "demo-data", "northmere");

    private static Dictionary<string, Dictionary<string, string>> Truths(string file)
    {
        var lines = File.ReadAllLines(file);
        var heads = lines[0].Split(',');
        return lines
            .Skip(1)
            .Select(l => heads.Zip(l.Split(',')))
            .ToDictionary(l => l.First().Second, l => l.Skip(1).ToDictionary(c => c.First, c => c.Second));
    }

    /// <summary>How often a forecast held.</summary>
    private sealed class Held
    {
        private TimeSpan _wide;

        public int Inside { get; private set; }

        public int Before { get; private set; }

        public int After { get; private set; }

        public void Add(Spread said, DateTimeOffset actual)
        {
            _wide += said.P90!.Value - said.P10!.Value;
            if (said.Holds(actual))
                Inside++;
            else if (actual < said.P10)
                Before++;
            else
                After++;
        }

        public override string ToString() =>
            $"between P10 and P90 in {Inside} of {Inside + Before + After}, before in {Before}, after in {After}, "
            + $"{_wide.TotalDays / (Inside + Before + After):0.0} days apart";
    }
}
