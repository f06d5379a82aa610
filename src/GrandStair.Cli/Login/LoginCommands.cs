using System.CommandLine;
using GrandStair.Client;

namespace GrandStair.Cli.Login;

internal static class LoginCommands
{
    public static Command MakeLogin()
    {
        var token = new Option<bool>("--token")
        {
            Description = "Sign in with a token, which is prompted for or read from standard input.",
        };
        var command = new Command(
            "login",
            "Sign this terminal in: through the identity provider with a code entered in any browser, or with a token"
        )
        {
            token,
        };
        command.SetAction(
            async (parsed, stop) =>
            {
                var screen = new Screen();
                return await Caller.ProtectAsync(parsed, async () =>
                {
                    var service = Caller.ServiceOf(parsed);
                    using var nobody = new GrandStairClient(service, "");
                    var ways = await nobody.SignInWaysAsync(stop);
                    var login =
                        parsed.GetValue(token) || ways.Terminal is null
                            ? new Login(
                                Hidden
                                    .Read(
                                        ways.Terminal is null && !parsed.GetValue(token)
                                            ? "This service has no provider for terminals; token: "
                                            : "Token: "
                                    )
                                    .Trim()
                            )
                            : await DeviceFlow.RunAsync(
                                ways.Terminal,
                                (page, code) => screen.Say($"Go to **{page}** in a browser anywhere, and type **{code}**"),
                                stop
                            );
                    using var client = new GrandStairClient(service, login.Token);
                    var session = await client.SessionAsync(stop);
                    LoginStore.Put(service, login);
                    screen.Say(
                        $"You are **{session.Actor}** at {LoginStore.Name(service)}: "
                            + $"{string.Join(", ", session.Roles.DefaultIfEmpty("no role"))} for "
                            + $"{Accounts.AccountCommands.Where(session.Sites)}"
                    );
                    return ExitStatus.Done;
                });
            }
        );
        return command;
    }

    public static Command MakeLogout()
    {
        var command = new Command("logout", "Sign this terminal out");
        command.SetAction((parsed, _) => Caller.ProtectAsync(parsed, () =>
                {
                    LoginStore.Put(Caller.ServiceOf(parsed), null);
                    return Task.FromResult(ExitStatus.Done);
                }));
        return command;
    }
}
