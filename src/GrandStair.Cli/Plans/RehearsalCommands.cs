using System.CommandLine;
using GrandStair.Client;
using GrandStair.Contracts;
using GrandStair.Core.Readings;

namespace GrandStair.Cli.Plans;

/// <summary>When a plan will be done: rehearsals with their what-ifs, and the forecast of a running plan.</summary>
internal static partial class PlanCommands
{
    private const int MostShown = 12;
    private static readonly TimeSpan Recheck = TimeSpan.FromMilliseconds(400);

    private static Command Rehearse()
    {
        var whatIf = new Option<string[]>("--if")
        {
            Description =
                "A what-if scenario, such as 'limits.all=12' or 'crews.harbour.hands=2'; separate several changes of one scenario with "
                + "';'. Repeat for several scenarios.",
        };
        var files = new Option<string[]>("--if-file")
        {
            Description = "A changed plan as a what-if scenario: a YAML file. Repeat for several.",
        };
        var draws = new Option<int>("--draws")
        {
            Description = "Number of simulations per scenario, 1 to 2000 (default: 200).",
            DefaultValueFactory = _ => 200,
        };
        var seed = new Option<long>("--seed")
        {
            Description = "Seed of the random numbers; the same seed gives the same result (default: 1).",
            DefaultValueFactory = _ => 1,
        };
        var fixing = new Option<string>("--fixing")
        {
            Description =
                "How long after its wave opens a machine that is not ready is usually fixed, such as '4 d', or 'never' (default: 4 d).",
            DefaultValueFactory = _ => "4 d",
        };
        var command = new Command(
            "rehearse",
            "Simulate a whole plan many times: when it will be complete, how likely it meets its deadline, and what delays it"
        )
        {
            Name,
            whatIf,
            files,
            draws,
            seed,
            fixing,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var plan = parsed.GetValue(Name)!;
                var whatIfs = (parsed.GetValue(whatIf) ?? [])
                    .Select(w => new WhatIfRequest([
                        .. w.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries),
                    ]))
                    .ToList();
                foreach (var file in parsed.GetValue(files) ?? [])
                    whatIfs.Add(new([], Path.GetFileName(file), await File.ReadAllTextAsync(file, stop)));
                var asked = await client.RehearseAsync(
                    plan,
                    new(parsed.GetValue(draws), parsed.GetValue(seed), HoursOf(parsed.GetValue(fixing)!), whatIfs),
                    stop
                );
                var view = await WaitAsync(client, plan, asked, screen, !parsed.GetValue(Caller.JsonOption), stop);
                if (!Caller.PrintedAsJson(parsed, view))
                    Print(view, screen);
                return view.State == "done" ? ExitStatus.Done : ExitStatus.NotPossible;
            }
        );
        return command;
    }

    private static Command Rehearsals()
    {
        var id = new Argument<long?>("rehearsal")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "Number of the rehearsal to show; without one, all are listed.",
        };
        var cancel = new Option<bool>("--cancel") { Description = "Cancel the rehearsal with this number." };
        var command = new Command("rehearsals", "List a plan's rehearsals, show the result of one, or cancel it") { Name, id, cancel };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var plan = parsed.GetValue(Name)!;
                if (parsed.GetValue(id) is not { } number)
                {
                    var all = await client.RehearsalsAsync(plan, stop);
                    if (Caller.PrintedAsJson(parsed, all))
                        return ExitStatus.Done;
                    screen.Table(
                        ["#rehearsal", "state", "#draws", "#done?", "asked (UTC)", "by?", "why"],
                        all.Select(r =>
                            new[]
                            {
                                $"{r.Id}",
                                Screen.Word(r.State),
                                $"{r.Draws}",
                                $"{r.Done * 100 / Math.Max(1, r.Total)} %",
                                Screen.Time(r.AskedAt),
                                r.AskedBy,
                                r.Why,
                            }
                        )
                    );
                    return ExitStatus.Done;
                }

                if (parsed.GetValue(cancel))
                {
                    await client.CancelRehearsalAsync(plan, number, stop);
                    screen.Say($"Rehearsal **{number}** was cancelled.");
                    return ExitStatus.Done;
                }

                var view = await client.RehearsalAsync(plan, number, stop);
                if (!Caller.PrintedAsJson(parsed, view))
                    Print(view, screen);
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Forecast()
    {
        var command = new Command("forecast", "Show when a running plan will be complete, as a range, against its deadline") { Name };
        command.Asks((parsed, client, stop) => client.ForecastAsync(parsed.GetValue(Name)!, stop), Print);
        return command;
    }

    /// <summary>Waits until a rehearsal is over, or until Ctrl+C is pressed.</summary>
    private static async Task<RehearsalView> WaitAsync(
        GrandStairClient client,
        string plan,
        RehearsalView view,
        Screen screen,
        bool tells,
        CancellationToken stop
    )
    {
        var told = DateTimeOffset.UtcNow;
        try
        {
            while (view.State is "waiting" or "running")
            {
                await Task.Delay(Recheck, stop);
                view = await client.RehearsalAsync(plan, view.Id, stop);
                if (!tells || view.State != "running" || DateTimeOffset.UtcNow - told < TimeSpan.FromSeconds(2))
                    continue;
                told = DateTimeOffset.UtcNow;
                screen.Hint($"{view.Done} of {view.Total} draws");
            }
        }
        catch (OperationCanceledException)
        {
            await client.CancelRehearsalAsync(plan, view.Id, CancellationToken.None);
            throw;
        }

        return view;
    }

    private static double HoursOf(string text) =>
        text == "never" ? 0
        : Units.Parse(text, ValueKind.Duration) is { } seconds and > 0 ? seconds / 3600
        : throw new IOException($"--fixing is '{text}'; expected a duration such as '4 d' or '36 h', or 'never'.");

    private static void Print(RehearsalView view, Screen screen)
    {
        if (view.State != "done")
        {
            screen.Say(
                $"Rehearsal **{view.Id}** is {Screen.Word(view.State)}{(view.Why is null ? "" : $": {view.Why}")}"
                    + $"{(view.State == "running" ? $", {view.Done} of {view.Total} draws" : "")}."
            );
            return;
        }

        Print(view.Results[0], screen);
        if (view.Results.Count > 1)
        {
            screen.Say("");
            screen.Say("Side by side, each with the same luck:");
            screen.Table(
                ["what if", "P10 (UTC)", "P50 (UTC)", "P90 (UTC)", "#in time", "#not verified?", "last site?", "delayed by?"],
                view.Results.Select(r =>
                    new[]
                    {
                        r.Name.Length == 0 ? "the plan as it is" : r.Name,
                        Screen.Time(r.Verified.P10),
                        Moment(r.Verified.P50),
                        Moment(r.Verified.P90),
                        r.InTime is { } share ? $"{share:P0}" : "",
                        $"{r.NotVerified.P50:0}",
                        r.Sites.FirstOrDefault()?.Site,
                        r.Sites.FirstOrDefault()?.Bottleneck,
                    }
                )
            );
        }

        var @fixed = view.FixingHours is { } hours
            ? $"made ready some {Units.Show(hours * 3600, ValueKind.Duration)} after its wave begins"
            : "never made ready";
        screen.Hint($"rehearsal {view.Id}: {view.Draws} draws from seed {view.Seed}; a machine that is not ready is {@fixed}");
    }

    private static void Print(ForecastView view, Screen screen)
    {
        var late = view.Late.Count(l => l.Misses >= 0.5);
        screen.Say(
            $"All that will be verified is so by **{Moment(view.Verified.P50)}** UTC in half of {view.Draws} draws; from "
                + $"{Screen.Time(view.Verified.P10)} (one in ten) to **{Moment(view.Verified.P90)}** (nine in ten)."
        );
        screen.Hint($"made {Screen.Time(view.Made)}, {Screen.Age(view.AgeSeconds)} ago");
        if (view.Outdated is { } changed)
            screen.Say(
                $"**Outdated**: {changed} since. A running plan gets a new forecast by itself; a rehearsal is asked for again with "
                    + $"'gstair plan rehearse'."
            );
        if (view.InTime is { } share)
            screen.Say($"In time for {view.Deadline}: **{share:P0}**.");
        if (view.NotVerified.P90 > 0)
            screen.Say(
                $"Not verified at all: {Between(view.NotVerified)} of {view.Machines} machines. Slots missed: {Between(view.MissedSlots)}."
            );
        screen.Table(
            ["wave", "begins (UTC)", "verified P10", "P50", "P90"],
            view.Waves.Select(w =>
                new[] { w.Wave, Moment(w.Begins.P50), Screen.Time(w.Verified.P10), Moment(w.Verified.P50), Moment(w.Verified.P90) }
            )
        );
        screen.Table(
            ["site", "#machines", "verified P50 (UTC)", "P90 (UTC)", "main delay", "#hours"],
            view.Sites.Take(MostShown)
                .Select(s =>
                    new[] { s.Site, $"{s.Machines}", Moment(s.Verified.P50), Moment(s.Verified.P90), s.Bottleneck, $"{s.Hours:0}" }
                )
        );
        if (view.Sites.Count > MostShown)
            screen.Hint($"{view.Sites.Count - MostShown} further sites are through earlier; --json has all");
        if (view.Late.Count == 0)
            return;
        screen.Say(late > 0 ? $"{Screen.Many(late, "machine")} more likely to miss than not:" : "Most likely to miss:");
        screen.Table(
            ["machine", "site?", "wave?", "status", "#late in", "why"],
            view.Late.Take(MostShown).Select(l => new[] { l.Machine, l.Site, l.Wave, Screen.Word(l.Status), $"{l.Misses:P0}", l.Why })
        );
    }

    private static string Between(AmountView amount) =>
        amount.P10 == amount.P90 ? $"{amount.P50:0}" : $"{amount.P10:0} to {amount.P90:0}, most likely {amount.P50:0}";

    private static string Moment(DateTimeOffset? time) => time is null ? "never" : Screen.Time(time);
}
