using GrandStair.Connections;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Runs;

/// <summary>
/// Does the steps that list what a machine has. They change nothing on the machine, so that a step of which a killed service has written
/// no result is simply done again.
/// </summary>
public sealed class RecordSteps(ConnectionSet connections, RunRecordTable records, StepScripts scripts)
{
    /// <summary>Does a step of the kind <c>record</c> or <c>compare</c>.</summary>
    /// <param name="state">The run.</param>
    /// <param name="order">Its outstanding order.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>What came of it.</returns>
    /// <exception cref="ConnectionException">The machine could not be asked.</exception>
    public async Task<RunEvent> DoAsync(RunState state, Order order, Machine machine, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(state);
        ArgumentNullException.ThrowIfNull(order);
        ArgumentNullException.ThrowIfNull(machine);
        var step = state.NextStep!;
        SystemRecord found;
        try
        {
            found = SystemRecord.Parse(await ListAsync(state, step, order, machine, now, stop));
        }
        catch (FormatException error)
        {
            return new OrderEnded(now, "worker", order.Name, OrderResult.Failed, null, error.Message);
        }

        if (step.Kind == StepKind.Record)
        {
            await records.PutAsync(state.Run, new(state.Leg + 1, step.Name, now, found), stop);
            return new OrderEnded(now, "worker", order.Name, OrderResult.Ok, 0, $"{found.Entries.Length} entries recorded");
        }

        var before = (await records.OfAsync(state.Run, stop)).FirstOrDefault(r => r.Leg == state.Leg + 1 && r.Step == step.With);
        return before is null
            ? new OrderEnded(now, "worker", order.Name, OrderResult.Failed, null, $"nothing was recorded by step '{step.With}'")
            : Compared.From(now, "worker", order.Name, before.Record.DifferencesTo(found, step.Rules));
    }

    private async Task<string> ListAsync(
        RunState state,
        StepSpec step,
        Order order,
        Machine machine,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var content = await scripts.TakeAsync(state, step.Script!, order, machine, now, stop);
        var output = (await connections.Of(machine).ReadAsync(machine, [content], [], stop))[0];
        return output.Incomplete is { } why ? throw new FormatException($"the list is not complete: {why}") : output.Text;
    }
}
