using System.CommandLine;

namespace GrandStair.Cli.Calendars;

internal static class CalendarCommands
{
    private static readonly Argument<string> Name = new("calendar") { Description = "Name of the calendar, by which plans refer to it." };

    public static Command Make() =>
        new("calendar", "Calendars that plans refer to: when ships are berthed, when crews work, when a site is closed")
        {
            List(),
            Load(),
            Show(),
        };

    private static Command List()
    {
        var command = new Command("list", "List all calendars, and the plans that refer to them");
        command.Asks(
            (_, client, stop) => client.CalendarsAsync(stop),
            (all, screen) =>
            {
                if (all.Count == 0)
                    screen.Say("There are no calendars; 'gstair calendar load NAME FILE' brings one in.");
                else
                    screen.Table(
                        ["calendar", "#events", "loaded (UTC)", "by", "plans"],
                        all.Select(c => new[] { c.Name, $"{c.Events}", Screen.Time(c.Loaded), c.LoadedBy, string.Join(", ", c.Plans) })
                    );
            }
        );
        return command;
    }

    private static Command Load()
    {
        var file = new Argument<string>("file") { Description = "A file in the iCalendar format." };
        var command = new Command(
            "load",
            "Load a calendar, or replace the one of that name; plans that refer to it move the slots that no longer fit"
        )
        {
            Name,
            file,
        };
        command.Asks(
            async (parsed, client, stop) =>
            {
                await using var stream = File.OpenRead(parsed.GetValue(file)!);
                return await client.LoadCalendarAsync(parsed.GetValue(Name)!, stream, stop);
            },
            (row, screen) => screen.Say($"**{row.Name}** has {row.Events} events")
        );
        return command;
    }

    private static Command Show()
    {
        var command = new Command("show", "Print a calendar as it was loaded") { Name };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await using var calendar = await client.CalendarAsync(parsed.GetValue(Name)!, stop);
                await Caller.WriteAsync(calendar, null, screen, stop);
                return ExitStatus.Done;
            }
        );
        return command;
    }
}
