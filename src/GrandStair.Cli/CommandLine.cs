using System.CommandLine;
using GrandStair.Cli.Accounts;
using GrandStair.Cli.Audit;
using GrandStair.Cli.Calendars;
using GrandStair.Cli.Catalogue;
using GrandStair.Cli.Checks;
using GrandStair.Cli.Completion;
using GrandStair.Cli.Evidence;
using GrandStair.Cli.Exposure;
using GrandStair.Cli.Fleet;
using GrandStair.Cli.FollowUps;
using GrandStair.Cli.HostKeys;
using GrandStair.Cli.Login;
using GrandStair.Cli.Machines;
using GrandStair.Cli.Media;
using GrandStair.Cli.Nodes;
using GrandStair.Cli.Outcomes;
using GrandStair.Cli.Overview;
using GrandStair.Cli.Plans;
using GrandStair.Cli.Readiness;
using GrandStair.Cli.Runs;
using GrandStair.Cli.Scripts;
using GrandStair.Cli.Secrets;
using GrandStair.Cli.Sessions;
using GrandStair.Cli.Settings;
using GrandStair.Cli.ShareLinks;
using GrandStair.Cli.Sources;
using GrandStair.Cli.SupportCases;
using GrandStair.Cli.Tokens;

namespace GrandStair.Cli;

/// <summary>The client's command line.</summary>
public static class CommandLine
{
    private static readonly Lazy<RootCommand> Root = new(Make);

    /// <summary>Runs a command.</summary>
    /// <param name="words">The words after <c>gstair</c>.</param>
    /// <param name="streams">What it reads from and writes to; null for those of this process.</param>
    /// <returns>The exit status.</returns>
    public static async Task<int> RunAsync(IReadOnlyList<string> words, TerminalStreams? streams = null)
    {
        Terminal.Use(streams ?? TerminalStreams.OfProcess());
        var parsed = Root.Value.Parse(words);
        if (parsed.Errors.Count > 0 || UsageErrors.MisspeltOption(parsed) is not null)
        {
            foreach (var line in UsageErrors.Of(parsed))
                await Terminal.ErrorAsync($"gstair: {line}");
            await Terminal.ErrorAsync($"See '{string.Join(' ', Caller.Path(parsed).Prepend("gstair"))} --help'.");
            return ExitStatus.NotACommand;
        }

        return await parsed.InvokeAsync(
            new()
            {
                EnableDefaultExceptionHandler = false,
                Output = Terminal.Streams.Output,
                Error = Terminal.Streams.Error,
            }
        );
    }

    private static RootCommand Make()
    {
        var root = new RootCommand(
            """
            Grand Stair: upgrades a fleet from one major version to the next.

            A filter is a condition, such as: site = "Westhaven" and disk.system.free < 40 GiB
            Exit status: 0 done, 1 unexpected error, 2 usage error, 3 invalid request, 4 not found, 5 not allowed,
            6 no service, 7 machine not reached, 8 database locked or disk full, 9 import with skipped lines.
            """
        );
        Caller.AddTo(root);
        root.Options.OfType<VersionOption>().Single().Action = new VersionAction();
        root.Subcommands.Add(FleetCommands.Make());
        root.Subcommands.Add(MachineCommands.Make());
        root.Subcommands.Add(ReadinessCommands.Make());
        root.Subcommands.Add(CheckCommands.Make());
        root.Subcommands.Add(SupportCaseCommands.Make());
        root.Subcommands.Add(ExposureCommands.Make());
        root.Subcommands.Add(PlanCommands.Make());
        root.Subcommands.Add(ShareLinkCommands.Make());
        root.Subcommands.Add(CalendarCommands.Make());
        root.Subcommands.Add(MediaCommands.Make());
        root.Subcommands.Add(RunCommands.Make());
        root.Subcommands.Add(FollowUpCommands.Make());
        root.Subcommands.Add(SourceCommands.Make());
        root.Subcommands.Add(OutcomeCommands.Make());
        root.Subcommands.Add(OverviewCommands.Make());
        root.Subcommands.Add(CatalogueCommands.Make());
        root.Subcommands.Add(LoginCommands.MakeLogin());
        root.Subcommands.Add(LoginCommands.MakeLogout());
        root.Subcommands.Add(AccountCommands.Make());
        root.Subcommands.Add(TokenCommands.Make());
        root.Subcommands.Add(SessionCommands.Make());
        root.Subcommands.Add(SecretCommands.Make());
        root.Subcommands.Add(HostKeyCommands.Make());
        root.Subcommands.Add(ScriptCommands.Make());
        root.Subcommands.Add(AuditCommands.Make());
        root.Subcommands.Add(SettingCommands.Make());
        root.Subcommands.Add(NodeCommands.Make());
        root.Subcommands.Add(EvidenceCommands.Make());
        root.Subcommands.Add(CompletionCommands.MakeScript());
        root.Subcommands.Add(CompletionCommands.MakeComplete(root));
        root.Subcommands.Add(ReferenceCommand.Make(root));
        return root;
    }
}
