using GrandStair.Core.Access;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Runs;
using GrandStair.Service.Requests;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.ShareLinks;

/// <summary>What owners report about their machines after the upgrade. Each report becomes a follow-up of the machine's run.</summary>
internal sealed class SharedReports(SharedSlots slots, RunCommands commands, RunLog runs)
{
    private const int MostOpen = 10;

    /// <summary>Whether a problem of a machine can be reported at a link.</summary>
    public static bool IsPossible(Shown shown, Member member) =>
        shown.Link.Kind == ShareLinkKind.Owner && member is { Run: not null, Status: Status.Verified or Status.Done };

    /// <summary>What was reported at links of this owner, by machine, in the order in which it was.</summary>
    public async Task<ILookup<MachineId, FollowUp>> OfAsync(Shown shown, CancellationToken stop)
    {
        var ids = shown
            .Report.Slots.Select(s => shown.Members[s.Machine.Id])
            .Where(m => IsPossible(shown, m))
            .Select(m => m.Run!.Value)
            .ToArray();
        var found = ids.Length == 0 ? [] : await runs.SomeAsync(ids, stop);
        return found
            .SelectMany(r => r.State.FollowUps.Select(f => (r.State.Machine, FollowUp: f)))
            .Where(x => x.FollowUp.AddedBy == NameOf(shown))
            .ToLookup(x => new MachineId(x.Machine), x => x.FollowUp);
    }

    /// <summary>Keeps a report.</summary>
    /// <param name="secret">The link's secret.</param>
    /// <param name="machine">The machine's name.</param>
    /// <param name="words">What is wrong.</param>
    /// <param name="from">Where the report came from.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">Nothing can be reported about it here, too much is open already, or nothing is said.</exception>
    public async Task AddAsync(string secret, string machine, string words, string from, CancellationToken stop)
    {
        var shown = await slots.FindAsync(secret, stop);
        var line = shown.LineOf(machine);
        var member = shown.Members[line.Machine.Id];
        if (!IsPossible(shown, member))
            throw RefusedException.Conflict(
                "not-to-be-reported",
                $"Nothing can be reported about {line.Machine.Name} here: it is not upgraded yet, or this link is not its owner's."
            );
        if ((await OfAsync(shown, stop))[line.Machine.Id].Count(f => f.Closed is null) >= MostOpen)
            throw RefusedException.Conflict(
                "many-reports",
                $"{MostOpen} reports about {line.Machine.Name} are open already; {shown.Stored.RevisedBy} will see to them."
            );
        await commands.AddFollowUpAsync(
            member.Run!.Value,
            RequestFields.Text("what is wrong", words),
            "",
            null,
            null,
            new Actor(NameOf(shown), $"{from} by share link a{shown.Link.Id}"),
            stop
        );
    }

    private static string NameOf(Shown shown) => $"owner {shown.Link.Of}";
}
