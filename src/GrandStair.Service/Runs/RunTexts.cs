using System.Text.Json;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Runs;
using GrandStair.Files.Evidence;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>What the steps of a run recorded and printed, and what was accepted for its plan, as files.</summary>
internal sealed class RunTexts(RunRecordTable records, RunOutputTable outputs, DecisionTable decisions)
{
    /// <summary>
    /// The files of a run: <c>records/1-record.tsv</c>, <c>outputs/1-apply-image-1.txt</c>, and <c>accepted.json</c> with what was
    /// acknowledged for its plan, and the licence terms that were accepted.
    /// </summary>
    public async Task<IReadOnlyList<EvidenceFile>> OfAsync(RunState state, Product product, CancellationToken stop)
    {
        var (run, files) = (state.Run, new List<EvidenceFile>());
        var given = await decisions.AcknowledgedAsync(state.Plan, stop);
        files.Add(new("accepted.json", JsonSerializer.Serialize(given, RunEvidence.Indented)));
        files.AddRange(
            product
                .Releases.SelectMany(r => r.Terms)
                .Where(t => given.Any(g => g.Kind == Acknowledgement.LicenceTerms && g.Covers == FileChange.Hash(t.Text)))
                .Select(t => new EvidenceFile($"terms/{t.File}", t.Text))
                .DistinctBy(f => f.Name)
        );
        foreach (var recorded in await records.OfAsync(run, stop))
            files.Add(new($"records/{recorded.Leg}-{recorded.Step}.tsv", recorded.Record.Text));
        foreach (var (order, _, _) in await outputs.OfAsync(run, stop))
            files.Add(new($"outputs/{order.Leg}-{order.Step}-{order.Attempt}.txt", OutputText.Plain(await outputs.TextAsync(order, stop))));
        return files;
    }
}
