using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.FollowUps;

/// <summary>What is left to do on machines after their upgrade.</summary>
internal static class FollowUpCommands
{
    private static readonly Argument<string[]> Names = new("follow-ups")
    {
        Description = "The follow-ups as RUN/NAME, such as r118/devices; 'follow-up list' shows them.",
        Arity = ArgumentArity.OneOrMore,
    };
    private static readonly Option<DateOnly?> Due = new("--due")
    {
        Description = "The last day on which it is in time, such as 2027-02-08.",
    };

    public static Command Make() =>
        new("follow-up", "What is left to do on machines after their upgrade: a run is done once all of it is closed")
        {
            List(),
            Add(),
            Assign(),
            Fix(),
            Close(),
        };

    private static Command List()
    {
        var plan = new Option<string?>("--plan") { Description = "Only the follow-ups of this plan." };
        var owner = new Option<string?>("--owner") { Description = "Only those that this person or team is to do." };
        var overdue = new Option<bool>("--overdue") { Description = "Only those whose day is over." };
        var closed = new Option<bool>("--closed") { Description = "Those that are closed, in place of those that are open." };
        var limit = new Option<int>("--limit") { Description = "Maximum number of entries.", DefaultValueFactory = _ => 100 };
        var command = new Command("list", "List what is open, what is due first at the top") { plan, owner, overdue, closed, limit };
        command.Asks(
            (parsed, client, stop) =>
                client.FollowUpsAsync(
                    parsed.GetValue(plan),
                    parsed.GetValue(owner),
                    parsed.GetValue(overdue),
                    parsed.GetValue(limit),
                    stop,
                    parsed.GetValue(closed)
                ),
            Print
        );
        return command;
    }

    private static Command Add()
    {
        var run = new Argument<string>("run") { Description = "The run, such as r118." };
        var title = new Option<string>("--title") { Description = "What is left to do, or what is wrong.", Required = true };
        var fix = new Option<string?>("--fix") { Description = "How it is done." };
        var owner = new Option<string?>("--owner") { Description = "Who is to do it." };
        var command = new Command("add", "Add a follow-up to a run") { run, title, fix, owner, Due };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var view = await client.AddFollowUpAsync(
                    parsed.GetValue(run)!,
                    new(parsed.GetValue(title)!, parsed.GetValue(fix), parsed.GetValue(owner), parsed.GetValue(Due)),
                    stop
                );
                if (!Caller.PrintedAsJson(parsed, view))
                    screen.Say($"Added **{view.Run.Run}/{view.FollowUps[^1].Name}** on {view.Run.Machine}: {view.FollowUps[^1].Title}");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Assign()
    {
        var owner = new Option<string?>("--owner") { Description = "Who is to do them; '' for nobody." };
        var command = new Command("assign", "Say who is to do follow-ups, and by when") { Names, owner, Due };
        command.Calls(
            async (parsed, client, screen, stop) =>
                await BulkAnswer.TellAsync(
                    parsed,
                    await client.AssignFollowUpsAsync(new(Chosen(parsed), parsed.GetValue(owner), parsed.GetValue(Due)), stop),
                    "follow-up",
                    "assigned",
                    screen
                )
        );
        return command;
    }

    private static Command Fix()
    {
        var now = new Option<bool>("--now")
        {
            Description = "Run a script that restarts its machine at once; without it, such a script waits for the machine's next window.",
        };
        var reason = new Option<string>("--reason") { Description = "Why, recorded in the audit log with your name.", Required = true };
        var command = new Command("fix", "Run the scripts of follow-ups; a follow-up is closed if its check is met afterwards")
        {
            Names,
            now,
            reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var result = await client.FixFollowUpsAsync(new(Chosen(parsed), parsed.GetValue(reason)!, parsed.GetValue(now)), stop);
                var status = await BulkAnswer.TellAsync(parsed, result, "script", "sent", screen);
                if (result.Done > 0 && !parsed.GetValue(Caller.JsonOption))
                    screen.Hint("'gstair follow-up list' shows how they go; where the check is met afterwards, the follow-up is closed.");
                return status;
            }
        );
        return command;
    }

    private static Command Close()
    {
        var reason = new Option<string>("--reason")
        {
            Description = "What was done, recorded in the audit log with your name.",
            Required = true,
        };
        var command = new Command("close", "Close follow-ups") { Names, reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
                await BulkAnswer.TellAsync(
                    parsed,
                    await client.CloseFollowUpsAsync(new(Chosen(parsed), parsed.GetValue(reason)!), stop),
                    "follow-up",
                    "closed",
                    screen
                )
        );
        return command;
    }

    /// <exception cref="IOException">A name is not written as one.</exception>
    private static FollowUpName[] Chosen(ParseResult parsed) =>
        [
            .. parsed
                .GetValue(Names)!
                .Select(name =>
                    name.Split('/') is [{ Length: > 0 } run, { Length: > 0 } one]
                        ? new FollowUpName(run, one)
                        : throw new IOException($"'{name}' is no follow-up; expected RUN/NAME, such as r118/devices.")
                ),
        ];

    private static void Print(Page<FollowUpRow> page, Screen screen)
    {
        if (page.Total == 0)
        {
            screen.Say("No follow-ups.");
            return;
        }

        if (page.Items[0].FollowUp.Closed is not null)
        {
            PrintClosed(page, screen);
            return;
        }

        var overdue = page.Items.Count(r => r.FollowUp.Overdue);
        screen.Say($"{Screen.Many(page.Total, "follow-up")} open{(overdue > 0 ? $", **{overdue}** overdue" : "")}");
        screen.Table(
            ["follow-up", "machine", "site?", "for", "due", "what"],
            page.Items.Select(r =>
                new[]
                {
                    $"{r.Run}/{r.FollowUp.Name}",
                    r.Machine,
                    r.Site,
                    r.FollowUp.Owner ?? "nobody yet",
                    r.FollowUp.Due is { } due ? $"{due:yyyy-MM-dd}{(r.FollowUp.Overdue ? " overdue" : "")}" : "",
                    r.FollowUp.Title + (r.FollowUp.AddedBy is { } by ? $" [{by}]" : "") + Tell(r.FollowUp.Script),
                }
            )
        );
        if (page.Items.Count < page.Total)
            screen.Hint($"{page.Total - page.Items.Count} more; narrow it with --plan or --owner, or raise --limit.");
    }

    /// <summary>How the script of a follow-up goes, or that there is one.</summary>
    private static string Tell(FollowUpScript? script) =>
        script switch
        {
            null => "",
            { Fix: null } => " [by script]",
            { Ended: null, Begins: { } begins } => $" [{script.Fix} runs from {Screen.Time(begins)}]",
            _ => $" [{script.Fix}: {script.Said}]",
        };

    private static void PrintClosed(Page<FollowUpRow> page, Screen screen)
    {
        screen.Say($"{Screen.Many(page.Total, "follow-up")} closed");
        screen.Table(
            ["follow-up", "machine", "closed (UTC)", "by?", "what", "what was done"],
            page.Items.Select(r =>
                new[]
                {
                    $"{r.Run}/{r.FollowUp.Name}",
                    r.Machine,
                    Screen.Time(r.FollowUp.Closed),
                    r.FollowUp.By,
                    r.FollowUp.Title,
                    r.FollowUp.Because,
                }
            )
        );
    }
}
