using System.CommandLine;
using GrandStair.Cli.Fleet;
using GrandStair.Contracts;

namespace GrandStair.Cli.Machines;

internal static class MachineCommands
{
    private static readonly Argument<string> Name = new("machine") { Description = "The machine's name or id." };

    public static Command Make() =>
        new("machine", "Find machines; readings, gate and runs of one")
        {
            FleetCommands.List(),
            Show(),
            Gate(),
            Read(),
            History(),
            Refer(),
            Pin(),
            Remove(),
            Restore(),
        };

    private static Command Show()
    {
        var command = new Command("show", "Show a machine's readings and which source each comes from") { Name };
        command.Asks((parsed, client, stop) => client.MachineAsync(parsed.GetValue(Name)!, stop), Print);
        return command;
    }

    private static Command Gate()
    {
        var product = new Option<string?>("--product")
        {
            Description = "The product (default: that of the plan the machine is in, or that it runs).",
        };
        var release = new Option<string?>("--release") { Description = "Target release (default: the recommended one)." };
        var plan = new Option<string?>("--plan") { Description = "Use this plan's target and methods." };
        var command = new Command("gate", "Show whether a machine is ready, and what blocks it: found, required, fix")
        {
            Name,
            product,
            release,
            plan,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.GateAsync(parsed.GetValue(Name)!, parsed.GetValue(product), parsed.GetValue(release), parsed.GetValue(plan), stop),
            PrintGate
        );
        return command;
    }

    private static Command Read()
    {
        var command = new Command("read", "Read the machine now") { Name };
        command.Asks((parsed, client, stop) => client.ReadAsync(parsed.GetValue(Name)!, stop), Print);
        return command;
    }

    private static Command History()
    {
        var key = new Argument<string>("key") { Description = "The reading's key, such as disk.system.free." };
        var command = new Command("history", "Show the history of a reading, by source") { Name, key };
        command.Asks(
            (parsed, client, stop) => client.HistoryAsync(parsed.GetValue(Name)!, parsed.GetValue(key)!, stop),
            (readings, screen) =>
                screen.Table(
                    ["seen", "ago", "value", "source"],
                    readings.Select(r => new[] { Screen.Time(r.Seen), Screen.Age(r.AgeSeconds), r.Shown, r.Source })
                )
        );
        return command;
    }

    private static Command Refer()
    {
        var file = new Option<string?>("--out") { Description = "The file to write (default: NAME-referral.zip)." };
        var command = new Command("support-pack", "Write a support bundle for the vendor: a report, the readings and the detailed log")
        {
            Name,
            file,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var name = parsed.GetValue(Name)!;
                await using var pack = await client.ReferralAsync(name, stop);
                await Caller.WriteAsync(
                    pack,
                    parsed.GetValue(file)
                        ?? $"{string.Concat(name.Select(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.' ? c : '_'))}-referral.zip",
                    screen,
                    stop
                );
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Pin()
    {
        var key = new Option<string>("--key")
        {
            Description = "The host key as in known_hosts, such as \"ssh-ed25519 AAAA…\".",
            Required = true,
        };
        var reason = new Option<string>("--reason")
        {
            Description = "Reason for replacing the pinned key, recorded in the audit log with your name.",
            Required = true,
        };
        var command = new Command("pin", "Pin a machine's host key") { Name, key, reason };
        command.Asks(
            (parsed, client, stop) => client.PinAsync(parsed.GetValue(Name)!, new(parsed.GetValue(key)!, parsed.GetValue(reason)!), stop),
            (connection, screen) => screen.Say($"Pinned **{connection.HostKey}**")
        );
        return command;
    }

    private static Command Remove()
    {
        var names = new Argument<string[]>("machine") { Arity = ArgumentArity.OneOrMore, Description = "Names or ids of machines." };
        var reason = new Option<string>("--reason") { Description = "Why, recorded in the audit log with your name.", Required = true };
        var command = new Command("remove", "Remove machines from the fleet; their runs, readings and audit entries stay")
        {
            names,
            reason,
        };
        command.Asks(
            (parsed, client, stop) => client.RemoveMachinesAsync(new(parsed.GetValue(names)!, parsed.GetValue(reason)!), stop),
            (removed, screen) => screen.Say($"**{removed.Removed:N0}** removed. 'gstair machine restore NAME' brings one back.")
        );
        return command;
    }

    private static Command Restore()
    {
        var reason = new Option<string>("--reason") { Description = "Why, recorded in the audit log with your name.", Required = true };
        var command = new Command("restore", "Bring a removed machine back into the fleet") { Name, reason };
        command.Asks((parsed, client, stop) => client.RestoreMachineAsync(parsed.GetValue(Name)!, parsed.GetValue(reason)!, stop), Print);
        return command;
    }

    private static void Print(MachineView view, Screen screen)
    {
        var m = view.Machine;
        if (view.Removed is { } removed)
            screen.Say($"**Removed** from the fleet on {Screen.Time(removed.At)} UTC by {removed.By}: {removed.Reason}");
        screen.Say(
            $"**{m.Name}** ({m.Id}): {m.Product ?? "product not known"} {m.Version}, "
                + $"{m.Site}{(view.Silent ? "; **silent**: nothing was heard of it for a week" : "")}"
        );
        if (view.Pair is { } pair)
            screen.Say(
                pair.State switch
                {
                    "replaced" => $"**Replaced by {pair.Other}**",
                    "stands-by" => $"**Stands by** to take the place of {pair.Other}",
                    "took-over" => $"Took the place of {pair.Other}",
                    _ => $"To be replaced by {pair.Other}",
                }
            );
        var by = view.Connection;
        var at = by.Address.Length > 0 ? $" at {by.User}@{by.Address}:{by.Port}, host key {by.HostKey ?? "not pinned"}" : "";
        screen.Hint(
            $"reached by {by.Kind}{at} · group {m.Group} · owner {m.Owner} · tags {string.Join(", ", m.Tags.DefaultIfEmpty("none"))}"
        );
        foreach (var place in view.Places)
            screen.Say(
                $"In plan **{place.Plan}**, wave {place.Wave}: "
                    + $"**{Screen.Word(place.Status)}**{(place.Why is null ? "" : $": {place.Why}")}"
                    + $"{(place.SlotStart is null ? "" : $", slot {Screen.Time(place.SlotStart)} UTC")}"
                    + $"{(place.Run is null ? "" : $", run {place.Run}")}"
            );
        foreach (var run in view.Runs.Where(r => r.Suspended.Count > 0))
            screen.Say($"**Suspended** by run {run.Run}: {string.Join(", ", run.Suspended)}");
        screen.Table(
            ["key", "value", "seen", "source", ""],
            view.Readings.Select(r => new[] { r.Key, r.Shown, $"{Screen.Age(r.AgeSeconds)} ago", r.Source, Differs(view, r) })
        );
    }

    private static string Differs(MachineView view, ReadingView reading) =>
        view.Conflicts.FirstOrDefault(d => d.Key == reading.Key) is { } other
            ? $"differs from {other.Source} {Screen.Age(other.AgeSeconds)} ago: {other.Shown}"
            : "";

    /// <summary>Shows a gate: what is in the way, then every check.</summary>
    public static void PrintGate(GateView gate, Screen screen)
    {
        if (gate.Arrived)
        {
            screen.Say($"**{gate.Machine}** runs {gate.Target} already");
            return;
        }

        if (gate.PartlyTo is { } partly)
            screen.Say(
                $"**{gate.Machine}** is **partly upgraded** to {partly}: retry it, run a fix script, roll it back or exempt it from "
                    + $"its plan"
            );
        screen.Say($"**{gate.Machine}** to {gate.Target}: the gate is **{gate.Gate}**{(gate.Why is null ? "" : $": {gate.Why}")}");
        screen.Hint(
            $"route {string.Join(" → ", gate.Legs.Select(Leg).DefaultIfEmpty("none"))}"
                + $"{(gate.Build is null ? "" : $" · build {gate.Build} or later")} · {gate.OutageMinutes:0} min out of "
                + $"service{(gate.Until is null ? "" : $" · valid until {Screen.Time(gate.Until)} UTC")}"
        );
        if (gate.Offer != "to-all")
            screen.Hint($"the release is phased in: {Offer(gate.Offer)}");
        if (gate.Overridden is { } chosen)
            screen.Say($"Method **{chosen.Method}** was chosen by {chosen.By}: {chosen.Reason}");
        foreach (var other in gate.Alternatives)
            screen.Hint($"not by {string.Join(" → ", other.Hops)}: {other.Why}");
        foreach (var rejected in gate.Rejected)
            screen.Hint($"{rejected.Method} not possible: {rejected.Why}");
        foreach (var check in gate.Checks.Where(c => c.State is "unmet" or "unknown"))
        {
            screen.Say("");
            screen.Say(
                $"**{check.Title}** ({check.Name}: {check.Need}, "
                    + $"{check.State}{(check.Component is null ? "" : $", component {check.Component}")}"
                    + $"{(gate.Legs.Count > 1 ? $", leg {check.Leg}" : "")})"
            );
            foreach (var seen in check.Seen)
                screen.Say(
                    $"  found     {seen.Key} = "
                        + $"{seen.Shown}{(seen.AgeSeconds is null ? "" : $", {Screen.Age(seen.AgeSeconds)} ago, by {seen.Source}")}"
                        + $"{(seen.Note is null || seen.Note == seen.Shown ? "" : $" ({seen.Note})")}"
                );
            screen.Say($"  required  {check.Wanted}");
            screen.Say($"  fix       {check.Fix.Words} ({check.Fix.By}{(check.Fix.Minutes is { } minutes ? $", {minutes:0} min" : "")})");
            if (check.State == "unknown")
                screen.Hint($"            read it again first: gstair check recheck {gate.Machine} {check.Name}");
            if (check.Fix.Script is not null)
                screen.Hint(
                    $"            gstair check fix {gate.Machine} {check.Name} --reason "
                        + $"…{(check.Fix.Restarts ? "   (restarts it, in its next window)" : "")}"
                );
            if (check.Lapsed is not null)
                screen.Say($"  lapsed    {check.Lapsed}");
            else if (check.Waivable)
                screen.Hint($"            can be waived: gstair check waive {gate.Machine} {check.Name} --until DAY --reason …");
        }

        foreach (var check in gate.Checks.Where(c => c.Waiver is not null))
            screen.Say(
                $"**{check.Title}** is waived by {check.Waiver!.By} until {Screen.Time(check.Waiver.Until)} UTC: {check.Waiver.Reason}"
            );

        if (gate.Checks.Count > 0)
            screen.Table(["check", "need", "state"], gate.Checks.Select(c => new[] { c.Title, c.Need, Screen.Word(c.State) }));
        else if (gate.Gate == "undecided")
            screen.Hint($"A reading is missing. 'gstair machine read {gate.Machine}' reads the machine; an import can bring it too.");
    }

    private static string Offer(string offer) =>
        offer switch
        {
            "offered" => "offered to this machine",
            "not-yet" => "not offered to this machine yet",
            _ => "it is unknown whether it is offered to this machine",
        };

    private static string Leg(LegView leg) =>
        $"{leg.Hop}{(leg.Method is null ? "" : $" by {leg.Method}, preserves {leg.Preserves}")}"
        + $"{(leg.Edition is null ? "" : $", as {leg.Edition}")}"
        + $"{(leg.Brings.Count == 0 ? "" : $", brings {string.Join(", ", leg.Brings.Select(b => $"{b.Key} {b.Value}"))}")}";
}
