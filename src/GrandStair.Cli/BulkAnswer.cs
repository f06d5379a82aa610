using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli;

/// <summary>What came of a command about several things, for people and programs.</summary>
internal static class BulkAnswer
{
    /// <summary>Prints for how many it was done, and why it was not for the others.</summary>
    /// <param name="parsed">The command as it was given.</param>
    /// <param name="result">What came of it.</param>
    /// <param name="thing">What one of them is called: <c>follow-up</c>.</param>
    /// <param name="done">What was done: <c>closed</c>.</param>
    /// <param name="screen">Where to print.</param>
    /// <returns>The exit status.</returns>
    public static async Task<int> TellAsync(ParseResult parsed, BulkResult result, string thing, string done, Screen screen)
    {
        if (!Caller.PrintedAsJson(parsed, result))
        {
            screen.Say($"{Screen.Many(result.Done, thing)} {done}");
            foreach (var why in result.Refused)
                await Terminal.ErrorAsync($"gstair: Not {done}: {why}");
        }

        return result.Refused.Count == 0 ? ExitStatus.Done : ExitStatus.NotPossible;
    }
}
