using GrandStair.Contracts;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.SupportCases;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.SupportCases;

namespace GrandStair.Service.SupportCases;

/// <summary>The support cases about machines that the caller sees.</summary>
internal sealed class ScopedSupportCases(SupportCaseTable cases, ScopedFleet fleet, DomainClock clock)
{
    /// <summary>The cases, newest first; also those that are closed.</summary>
    public async Task<IReadOnlyList<SupportCase>> AllAsync(CancellationToken stop)
    {
        var machines = await fleet.AllAsync(stop);
        return [.. (await cases.AllAsync(stop)).Where(c => c.Machines.Any(machines.ContainsKey))];
    }

    /// <summary>The cases about a machine, newest first; also those that are closed.</summary>
    public async Task<IReadOnlyList<SupportCase>> OfMachineAsync(MachineId machine, CancellationToken stop) =>
        [.. (await AllAsync(stop)).Where(c => c.Machines.Contains(machine))];

    /// <summary>A case, by how it is written.</summary>
    /// <exception cref="Core.Refusals.RefusedException">There is none that the caller sees.</exception>
    public async Task<SupportCase> FindAsync(string name, CancellationToken stop)
    {
        var id = RequestFields.Number('c', name);
        return (await AllAsync(stop)).FirstOrDefault(c => c.Id == id) ?? throw SupportCaseTable.Unknown(name);
    }

    /// <summary>A case, to change it.</summary>
    /// <exception cref="Core.Refusals.RefusedException">There is none that the caller sees.</exception>
    /// <exception cref="NotAllowedException">It is also about machines at other sites than the caller's.</exception>
    public async Task<SupportCase> WholeAsync(string name, CancellationToken stop)
    {
        var found = await FindAsync(name, stop);
        var machines = await fleet.AllAsync(stop);
        return found.Machines.All(machines.ContainsKey)
            ? found
            : throw new NotAllowedException(
                $"Case {found.Name} is also about machines at other sites. Ask someone whose account is for all of them."
            );
    }

    /// <summary>A case as the caller sees it.</summary>
    public async Task<SupportCaseView> ShowAsync(SupportCase @case, CancellationToken stop) =>
        Show(@case, await fleet.AllAsync(stop), clock.GetUtcNow());

    /// <summary>A case, with those of its machines that are among some.</summary>
    public static SupportCaseView Show(SupportCase @case, IReadOnlyDictionary<MachineId, Machine> machines, DateTimeOffset now) =>
        new(
            @case.Name,
            @case.Reference,
            @case.With,
            @case.About,
            RunMachine.Name(@case.State),
            [.. @case.Machines.Where(machines.ContainsKey).Select(m => machines[m].Name)],
            @case.Run is { } run ? $"r{run}" : null,
            @case.Appointment is { } a ? new(a.From, a.To, a.Crew?.Name, a.Crew?.Plan, a.To <= now) : null,
            @case.Result,
            @case.Opened,
            @case.OpenedBy,
            @case.Closed,
            [.. @case.Notes.Select(n => new SupportCaseNoteView(n.At, n.By, n.Text))]
        );
}
