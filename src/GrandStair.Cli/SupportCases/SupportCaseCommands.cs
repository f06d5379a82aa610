using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.SupportCases;

/// <summary>Cases with the vendor's support.</summary>
internal static class SupportCaseCommands
{
    private static readonly Argument<string> Id = new("case") { Description = "The case, such as c3; 'case list' shows them." };

    public static Command Make() =>
        new("case", "Cases with the vendor's support: number, who has to act next, appointment, result")
        {
            List(),
            Show(),
            Open(),
            Note(),
            Book(),
            CancelAppointment(),
            Close(),
        };

    private static Command List()
    {
        var machine = new Option<string?>("--machine") { Description = "Only cases about this machine." };
        var state = new Option<string?>("--state") { Description = "Only cases in this state: with-support, with-us or closed." };
        state.AcceptOnlyFromAmong("with-support", "with-us", "closed");
        var limit = new Option<int>("--limit") { Description = "Maximum number of entries.", DefaultValueFactory = _ => 100 };
        var command = new Command("list", "List cases, newest first") { machine, state, limit };
        command.Asks(
            (parsed, client, stop) =>
                client.SupportCasesAsync(parsed.GetValue(machine), parsed.GetValue(state), parsed.GetValue(limit), stop),
            (page, screen) =>
            {
                screen.Table(
                    ["case", "number", "with?", "state", "machines", "appointment (UTC)", "about"],
                    page.Items.Select(c =>
                        new[] { c.Id, c.Reference, c.With, Screen.Word(c.State), Machines(c), Screen.Time(c.Appointment?.From), c.About }
                    )
                );
                if (page.Items.Count < page.Total)
                    screen.Hint($"{page.Total - page.Items.Count} more; narrow it with --machine or --state, or raise --limit.");
            }
        );
        return command;
    }

    private static Command Show()
    {
        var command = new Command("show", "Show a case with all that was done and said") { Id };
        command.Asks((parsed, client, stop) => client.SupportCaseAsync(parsed.GetValue(Id)!, stop), Print);
        return command;
    }

    private static Command Open()
    {
        var machines = new Argument<string[]>("machines")
        {
            Description = "The machines that it is about, by name or id.",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var run = new Option<string?>("--run") { Description = "The run that it is about, such as r118, with its machine." };
        var number = new Option<string>("--number") { Description = "The number that support gave the case.", Required = true };
        var with = new Option<string>("--with") { Description = "With whom the case is.", Required = true };
        var about = new Option<string>("--about") { Description = "What it is about, in a sentence.", Required = true };
        var command = new Command("open", "Record a case that you opened with support; 'machine support-pack' writes what support needs")
        {
            machines,
            run,
            number,
            with,
            about,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.OpenSupportCaseAsync(
                    new(
                        parsed.GetValue(number)!,
                        parsed.GetValue(with)!,
                        parsed.GetValue(about)!,
                        parsed.GetValue(machines),
                        parsed.GetValue(run)
                    ),
                    stop
                ),
            Print
        );
        return command;
    }

    private static Command Note()
    {
        var text = new Argument<string>("text") { Description = "What was done or said." };
        var state = new Option<string?>("--state") { Description = "Who has to act next: with-support or with-us (default: as before)." };
        state.AcceptOnlyFromAmong("with-support", "with-us");
        var command = new Command("note", "Record what was done or said, and who has to act next") { Id, text, state };
        command.Asks(
            (parsed, client, stop) =>
                client.NoteSupportCaseAsync(parsed.GetValue(Id)!, new(parsed.GetValue(text)!, parsed.GetValue(state)), stop),
            Print
        );
        return command;
    }

    private static Command Book()
    {
        var from = new Option<DateTimeOffset>("--from") { Description = "When it begins, such as 2027-02-08T09:00Z.", Required = true };
        var minutes = new Option<int>("--minutes") { Description = "How long it lasts.", DefaultValueFactory = _ => 60 };
        var crew = new Option<string?>("--crew")
        {
            Description = "Crew that has to be there: the appointment takes one of its hands, and no upgrade gets it then.",
        };
        var plan = new Option<string?>("--plan") { Description = "Plan that names the crew (default: the plan that the machine is in)." };
        var command = new Command("book", "Book an appointment for a case, in place of an earlier one") { Id, from, minutes, crew, plan };
        command.Asks(
            (parsed, client, stop) =>
                client.BookAppointmentAsync(
                    parsed.GetValue(Id)!,
                    new(parsed.GetValue(from), parsed.GetValue(minutes), parsed.GetValue(crew), parsed.GetValue(plan)),
                    stop
                ),
            Print
        );
        return command;
    }

    private static Command CancelAppointment()
    {
        var reason = new Option<string>("--reason") { Description = "Reason, recorded in the audit log with your name.", Required = true };
        var command = new Command("cancel-appointment", "Cancel the appointment of a case; its crew is free again") { Id, reason };
        command.Asks((parsed, client, stop) => client.CancelAppointmentAsync(parsed.GetValue(Id)!, parsed.GetValue(reason)!, stop), Print);
        return command;
    }

    private static Command Close()
    {
        var result = new Option<string>("--result") { Description = "What came of it.", Required = true };
        var command = new Command("close", "Close a case with its result") { Id, result };
        command.Asks(
            (parsed, client, stop) => client.CloseSupportCaseAsync(parsed.GetValue(Id)!, new(parsed.GetValue(result)!), stop),
            Print
        );
        return command;
    }

    private static void Print(SupportCaseView view, Screen screen)
    {
        screen.Say($"Case **{view.Id}**, number **{view.Reference}** with {view.With}: {Screen.Word(view.State)}");
        screen.Say(view.About);
        screen.Say($"machines: {string.Join(", ", view.Machines)}{(view.Run is null ? "" : $"; run {view.Run}")}");
        if (view.Appointment is { } a)
            screen.Say(
                $"appointment: **{Screen.Time(a.From)}** to {Screen.Time(a.To)} UTC{(a.Crew is null ? "" : $", with {a.Crew}")}"
                    + (a.Over ? " (over)" : "")
            );
        screen.Table(
            ["when (UTC)", "who", "what"],
            view.Notes.Prepend(new(view.Opened, view.OpenedBy, "Opened")).Select(n => new[] { Screen.Time(n.At), n.By, n.Text })
        );
    }

    private static string Machines(SupportCaseView of) =>
        of.Machines.Count == 1 ? of.Machines[0] : $"{of.Machines[0]} and {of.Machines.Count - 1} more";
}
