using System.CommandLine;
using GrandStair.Files.Evidence;

namespace GrandStair.Cli.Evidence;

internal static class EvidenceCommands
{
    public static Command Make() => new("evidence", "Evidence packs of runs; 'gstair run evidence' writes them") { Verify() };

    private static Command Verify()
    {
        var file = new Argument<string>("file")
        {
            Description = "An evidence pack. It is verified on this computer; no service is needed.",
        };
        var key = new Option<string?>("--key")
        {
            Description = "SHA-256 of the public key that must have signed it, as 'gstair audit verify' shows it.",
        };
        var command = new Command("verify", "Verify that no byte of an evidence pack was changed") { file, key };
        command.SetAction(
            async (parsed, stop) =>
            {
                var screen = new Screen();
                return await Caller.ProtectAsync(parsed, async () =>
                {
                    await using var pack = File.OpenRead(parsed.GetValue(file)!);
                    var verdict = EvidencePack.Verify(pack);
                    string[] faults =
                        parsed.GetValue(key) is { } wanted && wanted != verdict.Key
                            ?
                            [
                                .. verdict.Faults,
                                verdict.Key.Length == 0
                                    ? "No key that signed it can be read."
                                    : $"It was signed by another key ({verdict.Key}) than the one that was expected.",
                            ]
                            : [.. verdict.Faults];
                    if (
                        !Caller.PrintedAsJson(
                            parsed,
                            new
                            {
                                verdict.Files,
                                verdict.Key,
                                Faults = faults,
                            }
                        )
                    )
                    {
                        foreach (var fault in faults)
                            screen.Say($"  {fault}");
                        screen.Say(
                            faults.Length == 0 ? $"**{verdict.Files}** files, every byte as it was signed." : "**Not** as it was signed."
                        );
                        if (verdict.Key.Length > 0)
                            screen.Hint($"key {verdict.Key}");
                    }

                    return faults.Length == 0 ? ExitStatus.Done : ExitStatus.NotPossible;
                });
            }
        );
        return command;
    }
}
