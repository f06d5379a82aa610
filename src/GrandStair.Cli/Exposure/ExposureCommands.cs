using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.Exposure;

internal static class ExposureCommands
{
    public static Command Make() => new("exposure", "Which machines run what, and when their support ends") { Show() };

    private static Command Show()
    {
        var product = new Option<string?>("--product") { Description = "Only this product." };
        var by = new Option<string?>("--by")
        {
            Description = "Count the machines whose support ends on or before this day, such as 2027-03-31.",
        };
        var command = new Command("show", "Show machines per release, end of support and days left; the earliest end first")
        {
            product,
            by,
        };
        command.Asks(
            (parsed, client, stop) => client.ExposureAsync(parsed.GetValue(product), parsed.GetValue(by), stop),
            (views, screen) =>
            {
                foreach (var view in views)
                    Print(view, screen);
            }
        );
        return command;
    }

    private static void Print(ExposureView view, Screen screen)
    {
        screen.Say(
            $"**{view.Product}**: {view.Machines} machines{(view.Recommended is null ? "" : $", recommended is {view.Recommended}")}; "
                + $"**{view.Fallen}** out of support{(view.By is null ? "" : $", **{view.Falling}** by {view.By}")}"
        );
        screen.Table(
            ["release", "edition", "status", "#machines", "support ends", "#days left"],
            view.Releases.Select(r =>
                new[]
                {
                    r.Name,
                    r.Edition,
                    Screen.Word(r.Status),
                    $"{r.Machines}",
                    r.SupportEnds ?? "not known",
                    r.DaysLeft is { } days
                        ? days > 0
                            ? $"{days}"
                            : $"over for {1 - days}"
                        : "",
                }
            )
        );
    }
}
