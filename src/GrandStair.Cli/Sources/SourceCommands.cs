using System.CommandLine;

namespace GrandStair.Cli.Sources;

internal static class SourceCommands
{
    public static Command Make() => new("source", "Where readings come from besides files and the machines themselves") { List(), Read() };

    private static Command List()
    {
        var command = new Command("list", "List the sources, when each was last read, and the result");
        command.Asks(
            (_, client, stop) => client.SourcesAsync(stop),
            (sources, screen) =>
                screen.Table(
                    ["source", "kind", "where?", "read every?", "last read", "#machines", "trouble"],
                    sources.Select(s =>
                        new[]
                        {
                            s.Name,
                            s.Kind,
                            s.Where,
                            s.EverySeconds is { } every ? Screen.Age(every) : "on demand",
                            Screen.Time(s.LastRead),
                            $"{s.Machines}",
                            s.Trouble,
                        }
                    )
                )
        );
        return command;
    }

    private static Command Read()
    {
        var name = new Argument<string>("source") { Description = "The source's name." };
        var command = new Command("read", "Read a source now") { name };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var view = await client.ReadSourceAsync(parsed.GetValue(name)!, stop);
                if (!Caller.PrintedAsJson(parsed, view))
                {
                    screen.Say(
                        $"**{view.Machines}** machines read from {view.Name}, **{view.Added}** of them new, **{view.Problems.Count}** "
                            + $"{(view.Problems.Count == 1 ? "problem" : "problems")}"
                    );
                    foreach (var problem in view.Problems)
                        await Terminal.ErrorAsync(problem);
                }

                return view.Problems.Count > 0 ? ExitStatus.LinesLeftOut : ExitStatus.Done;
            }
        );
        return command;
    }
}
