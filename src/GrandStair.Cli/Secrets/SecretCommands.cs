using System.CommandLine;

namespace GrandStair.Cli.Secrets;

internal static class SecretCommands
{
    private static readonly Argument<string> Name = new("secret") { Description = "The secret's name." };

    public static Command Make() =>
        new("secret", "Keys and passwords that the service uses (write-only)") { List(), Put(), Remove(), Rotate() };

    private static Command List()
    {
        var command = new Command("list", "List the names of the secrets, and when each was last used");
        command.Asks(
            (_, client, stop) => client.SecretsAsync(stop),
            (secrets, screen) =>
                screen.Table(
                    ["secret", "changed", "by", "last used"],
                    secrets.Select(s =>
                        new[] { s.Name, Screen.Time(s.Changed), s.ChangedBy, s.LastUsed is null ? "never" : Screen.Time(s.LastUsed) }
                    )
                )
        );
        return command;
    }

    private static Command Put()
    {
        var file = new Option<string?>("--file")
        {
            Description = "File with the secret, such as a private key (default: prompt, or standard input).",
        };
        var command = new Command(
            "put",
            "Add or replace a secret, which is stored encrypted. A private key's passphrase is the secret NAME.passphrase"
        )
        {
            Name,
            file,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var name = parsed.GetValue(Name)!;
                var value = parsed.GetValue(file) is { } path ? await File.ReadAllTextAsync(path, stop) : Hidden.Read($"{name}: ");
                await client.PutSecretAsync(name, value, stop);
                screen.Say($"Secret **{name}** is kept. Refer to it as secret:{name}");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Remove()
    {
        var reason = new Option<string>("--reason") { Description = "Reason, recorded in the audit log with your name.", Required = true };
        var command = new Command("remove", "Delete a secret") { Name, reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.RemoveSecretAsync(parsed.GetValue(Name)!, parsed.GetValue(reason)!, stop);
                screen.Say($"Secret **{parsed.GetValue(Name)}** was taken away.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Rotate()
    {
        var command = new Command("rotate", "Encrypt all secrets with a new key and delete the old keys");
        command.Asks(
            (_, client, stop) => client.RotateSecretsAsync(stop),
            (done, screen) => screen.Say($"**{done.Secrets}** secrets are encrypted with a new key; the keys before it are gone.")
        );
        return command;
    }
}
