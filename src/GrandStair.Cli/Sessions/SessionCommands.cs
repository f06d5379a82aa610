using System.CommandLine;

namespace GrandStair.Cli.Sessions;

internal static class SessionCommands
{
    public static Command Make() => new("session", "Sessions of people signed in to the console") { List(), End() };

    private static Command List()
    {
        var account = new Option<string?>("--account") { Description = "Only those of this account." };
        var command = new Command("list", "List your sessions (admins: all), newest first") { account };
        command.Asks(
            (parsed, client, stop) => client.SessionsAsync(parsed.GetValue(account), stop),
            (sessions, screen) =>
                screen.Table(
                    ["session", "account", "signed in by", "since?", "last used", "ends?", "from?", "browser?"],
                    sessions.Select(s =>
                        new[]
                        {
                            s.Id,
                            s.Account,
                            s.Way,
                            Screen.Time(s.Begun),
                            Screen.Time(s.LastUsed),
                            Screen.Time(s.Expires),
                            s.From,
                            s.Agent,
                        }
                    )
                )
        );
        return command;
    }

    private static Command End()
    {
        var id = new Argument<string>("session") { Description = "Id of the session, such as s3." };
        var command = new Command("end", "End a session") { id };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.EndSessionAsync(parsed.GetValue(id)!, stop);
                screen.Say($"Session **{parsed.GetValue(id)}** has ended.");
                return ExitStatus.Done;
            }
        );
        return command;
    }
}
