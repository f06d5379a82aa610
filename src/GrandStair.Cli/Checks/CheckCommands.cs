using System.CommandLine;
using GrandStair.Cli.Machines;

namespace GrandStair.Cli.Checks;

internal static class CheckCommands
{
    private static readonly Argument<string> Machine = new("machine") { Description = "The machine's name or id." };
    private static readonly Argument<string> Check = new("check") { Description = "The check's name; 'machine gate' shows it." };
    private static readonly Option<string> Reason = new("--reason")
    {
        Description = "Reason, recorded in the audit log with your name.",
        Required = true,
    };

    public static Command Make() =>
        new("check", "One check on one machine: recheck it, fix it, waive it")
        {
            Recheck(),
            Fix(),
            Fixes(),
            Waive(),
            Waivers(),
            EndWaiver(),
        };

    private static Command Recheck()
    {
        var command = new Command("recheck", "Read exactly what the check needs, now, and evaluate it") { Machine, Check };
        command.Asks(
            (parsed, client, stop) => client.RecheckAsync(parsed.GetValue(Machine)!, parsed.GetValue(Check)!, stop),
            MachineCommands.PrintGate
        );
        return command;
    }

    private static Command Fix()
    {
        var plan = new Option<string?>("--plan")
        {
            Description = "Plan whose windows and waivers count; omit for the one that the machine is in.",
        };
        var now = new Option<bool>("--now")
        {
            Description = "Run a script that restarts the machine at once, instead of in its next window.",
        };
        var command = new Command(
            "fix",
            "Run the check's fix script on the machine, then recheck; a script that restarts it waits for its next window"
        )
        {
            Machine,
            Check,
            plan,
            now,
            Reason,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.FixAsync(
                    parsed.GetValue(Machine)!,
                    parsed.GetValue(Check)!,
                    new(parsed.GetValue(Reason)!, parsed.GetValue(now)),
                    parsed.GetValue(plan),
                    stop
                ),
            (fix, screen) =>
                screen.Say(
                    fix.NotBefore is { } begins
                        ? $"Fix **{fix.Id}** ({fix.Script}) restarts **{fix.Machine}** and runs in its next window, "
                            + $"**{Screen.Time(begins)} UTC**; --now runs it at once."
                        : $"Fix **{fix.Id}** ({fix.Script}) is running on **{fix.Machine}**; 'gstair check fixes {fix.Machine}' says "
                            + $"how it went."
                )
        );
        return command;
    }

    private static Command Fixes()
    {
        var machine = new Argument<string?>("machine") { Arity = ArgumentArity.ZeroOrOne, Description = "Only those of this machine." };
        var command = new Command("fixes", "List the fix scripts that were run, newest first") { machine };
        command.Asks(
            (parsed, client, stop) => client.FixesAsync(parsed.GetValue(machine), stop),
            (fixes, screen) =>
                screen.Table(
                    ["fix", "machine", "check", "state", "check then?", "begun?", "by?", "said"],
                    fixes.Select(f =>
                        new[]
                        {
                            f.Id,
                            f.Machine,
                            f.Check,
                            Screen.Word(f.State),
                            Screen.Word(f.CheckState),
                            Screen.Time(f.Begun),
                            f.Actor,
                            f.Note.Split('\n')[^1],
                        }
                    )
                )
        );
        return command;
    }

    private static Command Waive()
    {
        var until = new Option<string>("--until")
        {
            Description = "Last day on which the waiver is valid, such as 2027-03-31.",
            Required = true,
        };
        var command = new Command(
            "waive",
            "Waive a required check for a machine until a day; the waiver lapses when the value gets worse or the check changes"
        )
        {
            Machine,
            Check,
            until,
            Reason,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.WaiveAsync(
                    parsed.GetValue(Machine)!,
                    parsed.GetValue(Check)!,
                    new(parsed.GetValue(Reason)!, parsed.GetValue(until)!),
                    stop
                ),
            MachineCommands.PrintGate
        );
        return command;
    }

    private static Command Waivers()
    {
        var command = new Command("waivers", "List all waivers, newest first");
        command.Asks(
            (_, client, stop) => client.WaiversAsync(stop),
            (waivers, screen) =>
                screen.Table(
                    ["waiver", "machine", "check", "state", "until", "by", "reason"],
                    waivers.Select(w => new[] { w.Id, w.Machine, w.Check, Screen.Word(w.State), Screen.Time(w.Until), w.By, w.Reason })
                )
        );
        return command;
    }

    private static Command EndWaiver()
    {
        var id = new Argument<string>("waiver") { Description = "The waiver's number, such as w3." };
        var command = new Command("end-waiver", "End a waiver early; the check blocks again") { id, Reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.EndWaiverAsync(parsed.GetValue(id)!, parsed.GetValue(Reason)!, stop);
                screen.Say($"Waiver **{parsed.GetValue(id)}** has ended.");
                return ExitStatus.Done;
            }
        );
        return command;
    }
}
