using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.Settings;

internal static class SettingCommands
{
    public static Command Make() => new("setting", "Settings of the whole service") { Show(), Change() };

    private static Command Show()
    {
        var command = new Command("show", "Show the service's settings");
        command.Asks((_, client, stop) => client.SettingsAsync(stop), Print);
        return command;
    }

    private static Command Change()
    {
        var every = new Option<string?>("--every-plan-approved")
        {
            Description = "yes: every plan needs an approval, whatever its text says. no: each plan's text decides.",
        };
        every.AcceptOnlyFromAmong("yes", "no");
        var hosts = new Option<string?>("--media-hosts")
        {
            Description =
                "Hosts from which the service may download media, separated by commas, such as downloads.example,mirror.example:8443; "
                + "'' for none.",
        };
        var reason = new Option<string>("--reason") { Description = "Reason, recorded in the audit log with your name.", Required = true };
        var command = new Command(
            "change",
            "Change the service's settings (admins only). Plans that have started without an approval that is now needed are put on hold"
        )
        {
            every,
            hosts,
            reason,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.ChangeSettingsAsync(
                    new(
                        parsed.GetValue(every) is { } asked ? asked == "yes" : null,
                        parsed.GetValue(hosts)?.Split(',', StringSplitOptions.RemoveEmptyEntries),
                        parsed.GetValue(reason)!
                    ),
                    stop
                ),
            Print
        );
        return command;
    }

    private static void Print(SettingsView settings, Screen screen)
    {
        screen.Say(
            settings.EveryPlanApproved
                ? "**Every plan** needs an approval, whatever its own text says."
                : "A plan needs an approval where its own text says so."
        );
        screen.Say(
            settings.MediaHosts.Count == 0
                ? "The service downloads no media by itself; '--media-hosts' allows hosts."
                : $"The service may download media from **{string.Join(", ", settings.MediaHosts)}**."
        );
    }
}
