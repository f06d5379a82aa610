using System.CommandLine;
using System.Globalization;

namespace GrandStair.Cli.Nodes;

internal static class NodeCommands
{
    public static Command Make() => new("node", "The service process that answers") { Duties() };

    private static Command Duties()
    {
        var command = new Command("duties", "List its background duties: passes, duration, failures");
        command.Asks(
            (_, client, stop) => client.DutiesAsync(stop),
            (duties, screen) =>
                screen.Table(
                    ["duty", "state", "#passes", "last pass (UTC)?", "#took?", "#failures", "last failed (UTC)?"],
                    duties.Select(d =>
                        new[]
                        {
                            d.Name,
                            d.Running ? "running" : "restarting",
                            d.Passes == 0 ? "" : $"{d.Passes:N0}",
                            Screen.Time(d.LastPass),
                            d.TookSeconds is { } took ? string.Create(CultureInfo.InvariantCulture, $"{took * 1000:0} ms") : "",
                            $"{d.Failures}",
                            Screen.Time(d.LastFailed),
                        }
                    )
                )
        );
        return command;
    }
}
