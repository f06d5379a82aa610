using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.Overview;

internal static class OverviewCommands
{
    private const int Width = 60;

    public static Command Make()
    {
        var plan = new Argument<string?>("plan")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "The plan's name (default: the newest that is running).",
        };
        var show = new Command("show", "Show a plan's progress, whether it meets its deadline, and what blocks it") { plan };
        show.Asks(
            async (parsed, client, stop) =>
            {
                var name = parsed.GetValue(plan)
                    ?? Current(await client.PlansAsync(stop))?.Name
                    ?? throw new IOException("There is no plan yet. 'gstair plan create FILE' makes one.");
                return await client.OverviewAsync(name, stop);
            },
            Print
        );
        return new("overview", "Plan summary") { show };
    }

    /// <summary>On how many machines it is not met, and on how many more it is unknown.</summary>
    private static string Blocked(InTheWayView way) =>
        way.Unknown == 0 ? $"{way.Machines}"
        : way.Machines == 0 ? $"{way.Unknown} unknown"
        : $"{way.Machines} + {way.Unknown} unknown";

    /// <summary>The running plan with most machines to go; where none is running, the newest.</summary>
    private static PlanRow? Current(IReadOnlyList<PlanRow> plans) =>
        plans.Reverse().Where(p => p.State == "started").MaxBy(p => p.ToGo) ?? plans.LastOrDefault();

    private static string Finish(ForecastView? forecast)
    {
        if (forecast?.Verified is not { P50: { } end } range)
            return "";
        var chance = forecast.InTime is { } likely ? $", {likely:P0} chance of meeting the deadline" : "";
        var latest = range.P90?.ToString("d MMM yyyy", null) ?? "never";
        return $", expected finish **{end:d MMM yyyy}** ({range.P10:d MMM} to {latest}){chance}; "
            + $"forecast made {Screen.Age(forecast.AgeSeconds)} ago";
    }

    private static void Print(OverviewView view, Screen screen)
    {
        var tally = view.Plan.Tally;
        var verified = tally["verified"] + tally["done"];
        var deadline = view.Plan.Deadline is null ? "" : $", deadline {view.Plan.Deadline}";
        screen.Say($"{view.Target}: **{verified} of {view.Plan.Machines}** verified{Finish(view.Forecast)}{deadline}");
        screen.Hint(
            $"plan {view.Plan.Name}, {Screen.Word(view.Plan.State)}{(view.Plan.Held is null ? "" : $", held: {view.Plan.Held}")} · "
                + $"{Screen.Time(view.Now)} UTC"
        );
        foreach (var wave in view.Waves)
        {
            var share = wave.Machines == 0 ? 0 : (double)(wave.Tally["verified"] + wave.Tally["done"]) / wave.Machines;
            screen.Say(
                $"{new string('█', (int)(share * Width / 2))}{new string('░', (Width / 2) - (int)(share * Width / 2))} {wave.Name}: "
                    + $"{wave.Tally["verified"] + wave.Tally["done"]} of {wave.Machines} verified, {Screen.Word(wave.State)}"
            );
        }

        screen.Say(
            $"■ {tally["done"]} done  ▲ {tally["verified"]} verified  ▶ {tally["running"]} running  ‖ {tally["parked"]} parked  "
                + $"○ {tally["scheduled"]} scheduled  ◇ {tally["ready"]} ready  ✕ {tally["not-ready"]} not ready  – {tally["exempt"]} "
                + $"exempt  ! {tally["stopped"]} stopped"
        );
        screen.Say("");
        screen.Say("**Blockers**");
        screen.Table(
            ["#machines", "what", "who", "what to do"],
            view.InTheWay.Select(w => new[] { Blocked(w), w.Title, w.By ?? "decide", w.Detail })
        );
        if (view.Next.Count > 0)
            screen.Say("**Next**");
        foreach (var next in view.Next)
            screen.Say(
                $"{$"{next.Machines}".PadLeft(4)}  {Screen.Time(next.From)} – {next.To:HH:mm} UTC, {next.Site}, {next.Staged} staged"
            );
    }
}
