using System.CommandLine;
using System.Reflection;
using GrandStair.Client;

namespace GrandStair.Cli.Completion;

/// <summary>Completion in the shell: of commands and options, and of the conditions, machines and plans that the service knows.</summary>
internal static class CompletionCommands
{
    private const int MostNames = 50;
    private static readonly string[] Shells = ["bash", "zsh", "fish", "powershell"];
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(3);

    public static Command MakeScript()
    {
        var shell = new Argument<string>("shell") { Description = string.Join(", ", Shells) };
        shell.AcceptOnlyFromAmong(Shells);
        var command = new Command("completion", "Print a shell completion script, such as: source <(gstair completion bash)") { shell };
        command.SetAction(parsed =>
        {
            using var script = Assembly.GetExecutingAssembly().GetManifestResourceStream($"completion.{parsed.GetValue(shell)}")!;
            using var reader = new StreamReader(script);
            Terminal.Streams.Output.Write(reader.ReadToEnd());
            return ExitStatus.Done;
        });
        return command;
    }

    /// <summary>The command that the script calls.</summary>
    public static Command MakeComplete(RootCommand root)
    {
        var word = new Option<string?>("--word") { Description = "The word being completed.", Arity = ArgumentArity.ZeroOrOne };
        var before = new Argument<string[]>("before")
        {
            Arity = ArgumentArity.ZeroOrMore,
            Description = "The words before the one being completed.",
        };
        var command = new Command("complete", "Print the possible completions of a word") { before, word };
        command.Hidden = true;
        command.SetAction(
            async (parsed, stop) =>
            {
                using var patience = CancellationTokenSource.CreateLinkedTokenSource(stop);
                patience.CancelAfter(Patience);
                var written = parsed.GetValue(word) ?? "";
                foreach (var line in await OffersAsync(root.Parse([.. parsed.GetValue(before)!, written]), written, patience.Token))
                    Terminal.Line(line);
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static async Task<IEnumerable<string>> OffersAsync(ParseResult parsed, string word, CancellationToken stop)
    {
        if (Written(parsed, word) is not { } name)
            return parsed
                .GetCompletions()
                .Select(c => c.Label)
                .Where(l => l.StartsWith(word, StringComparison.Ordinal) && !l.StartsWith('/') && l != "-?" && l != "-h")
                .Select(l => l + " ");
        try
        {
            using var client = await Caller.ConnectAsync(parsed, stop);
            return name switch
            {
                "machine" => (
                    await client.MachinesAsync($"name like \"{word.Replace("\"", "", StringComparison.Ordinal)}*\"", MostNames, stop)
                ).Items.Select(m => m.Name + " "),
                "plan" => (await client.PlansAsync(stop))
                    .Select(p => p.Name)
                    .Where(p => p.StartsWith(word, StringComparison.OrdinalIgnoreCase))
                    .Select(p => p + " "),
                _ => await ConditionsAsync(client, word, stop),
            };
        }
        catch (Exception error) when (error is ServiceException or IOException or OperationCanceledException)
        {
            // A shell that waits for a word has no room for an error; the command itself tells it.
            return [];
        }
    }

    /// <summary>
    /// The whole of the condition with each offer at its end. A lone offer is shown with what may follow it, since the shell closes the
    /// quote after a lone one.
    /// </summary>
    private static async Task<IEnumerable<string>> ConditionsAsync(GrandStairClient client, string word, CancellationToken stop)
    {
        var completion = await client.CompleteAsync(word, stop);
        string[] offers = [.. completion.Offers.Select(o => $"{word[..completion.From]}{o.Text}")];
        if (offers.Length > 1)
            return offers;
        var whole = offers.Length == 1 ? offers[0] : word;
        var next = await client.CompleteAsync($"{whole} ", stop);
        return next.Offers.Select(o => $"{whole} {o.Text}");
    }

    /// <summary>The name of the argument or option whose value the last word is, where the service knows its values.</summary>
    private static string? Written(ParseResult parsed, string word)
    {
        if (word.StartsWith('-'))
            return null;
        var symbols = parsed
            .CommandResult.Children.Where(c => c.Tokens.Any(t => t.Value == word))
            .Select(c =>
                c switch
                {
                    System.CommandLine.Parsing.ArgumentResult argument => argument.Argument.Name,
                    System.CommandLine.Parsing.OptionResult option => option.Option.Name.TrimStart('-'),
                    _ => "",
                }
            );
        return symbols.Select(s => s is "where" or "search" ? "condition" : s).LastOrDefault(s => s is "condition" or "machine" or "plan");
    }
}
