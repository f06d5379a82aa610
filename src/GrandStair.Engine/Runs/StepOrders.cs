using GrandStair.Connections;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Media;
using GrandStair.Engine.Secrets;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Runs;

/// <summary>Makes the orders that steps send to machines: their script, the values that it needs, and its secrets.</summary>
public sealed class StepOrders(
    CatalogueCache catalogues,
    PlanTable plans,
    StepScripts scripts,
    MediaSteps mediaSteps,
    SavedFileSteps savedFileSteps,
    ISecrets secrets,
    TimeProvider clock
)
{
    /// <summary>Why a step cannot be done; null where nothing is in its way.</summary>
    public async Task<string?> WhyNotAsync(RunState run, StepSpec step, Machine machine, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(run);
        ArgumentNullException.ThrowIfNull(step);
        return step.Kind switch
        {
            StepKind.FetchMedia => await mediaSteps.WhyNotAsync(
                await catalogues.ByHashAsync(run.CatalogueHash, stop),
                step,
                machine,
                clock.GetUtcNow(),
                stop
            ),
            StepKind.SaveFiles or StepKind.RestoreFiles => await savedFileSteps.WhyNotAsync(run, step, machine, stop),
            _ => null,
        };
    }

    /// <summary>Makes the order of a step, to be posted to its machine.</summary>
    /// <param name="claim">The run.</param>
    /// <param name="order">Its outstanding order.</param>
    /// <param name="step">The step.</param>
    /// <param name="machine">The machine on which it is done.</param>
    /// <param name="other">Where a run goes side by side, the other one of its two machines; else null.</param>
    /// <param name="stop">Cancels it.</param>
    public async Task<PostedOrder> MakeAsync(
        ClaimedRun claim,
        Order order,
        StepSpec step,
        Machine machine,
        Machine? other,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(claim);
        ArgumentNullException.ThrowIfNull(order);
        ArgumentNullException.ThrowIfNull(step);
        ArgumentNullException.ThrowIfNull(machine);
        var (run, now) = (claim.State, clock.GetUtcNow());
        var product = await catalogues.ByHashAsync(run.CatalogueHash, stop);
        var hop = product.Hops.Single(h => h.Name == run.CurrentLeg.Hop);
        var values = new SortedDictionary<string, string>(StringComparer.Ordinal)
        {
            ["order"] = order.Name.ToString(),
            ["run"] = $"r{run.Run}",
            ["machine"] = machine.Name,
            ["other_machine"] = other?.Name ?? "",
            ["other_address"] = other?.Connection.Address ?? "",
            ["hop"] = hop.Name,
            ["to"] = hop.To,
            ["build"] = product.BuildOf(hop, product.IssuesTouching(machine, now), run.CurrentLeg.LeastBuild) ?? "",
            ["patches"] = run.CurrentLeg.Patches is { } patches ? RunMachine.Name(patches) : "",
        };
        if (step.Kind == StepKind.CleanUp)
            values["keep"] = string.Join(' ', MediaSteps.Needed(run, product, machine, now).Select(m => m.Sha256).Distinct());
        var action = run.CurrentAction!.Value;
        var content = action == StepKind.Script ? await scripts.TakeAsync(run, step.Script!, order, machine, now, stop) : "";
        var handed = new SortedDictionary<string, string>(StringComparer.Ordinal);
        foreach (var name in action == StepKind.Script ? step.Secrets : [])
            handed[name] = await secrets.OfAsync(name, stop);
        var posted = new PostedOrder(order.Name, claim.Epoch, action, content, values) { Secrets = handed };
        switch (action)
        {
            case StepKind.FetchMedia:
                var (plan, _) = await catalogues.ReadPlanAsync((await plans.FindAsync(run.Plan, stop))!, stop);
                return await mediaSteps.FetchingAsync(posted, product, step, machine, plan.UplinkOf(machine.Site), now, stop);
            case StepKind.Script:
                return posted with { Media = MediaSteps.Needed(run, product, machine, now) };
            case StepKind.SaveFiles or StepKind.RestoreFiles:
                return await savedFileSteps.CompleteAsync(posted, run, step, stop);
            default:
                return posted;
        }
    }

    /// <summary>Keeps what follows from a step that ended well, before its end is recorded.</summary>
    public async Task EndedAsync(RunState run, StepSpec step, Machine machine, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(run);
        ArgumentNullException.ThrowIfNull(step);
        if (step.Kind is StepKind.FetchMedia or StepKind.CleanUp)
            await mediaSteps.EndedAsync(run, await catalogues.ByHashAsync(run.CatalogueHash, stop), step, machine, clock.GetUtcNow(), stop);
    }

    /// <summary>Deletes what steps left with the service for a run that is done and needs it no more.</summary>
    public Task ForgetAsync(RunState run, CancellationToken stop) => savedFileSteps.DropAsync(run, stop);
}
