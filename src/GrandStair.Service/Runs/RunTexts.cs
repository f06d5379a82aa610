using GrandStair.Core.Runs;
using GrandStair.Files.Evidence;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>What the steps of a run recorded and printed, as files.</summary>
internal sealed class RunTexts(RunRecordTable records, RunOutputTable outputs)
{
    /// <summary>The files of a run: <c>records/1-record.tsv</c>, <c>outputs/1-apply-image-1.txt</c>.</summary>
    public async Task<IReadOnlyList<EvidenceFile>> OfAsync(long run, CancellationToken stop)
    {
        var files = new List<EvidenceFile>();
        foreach (var recorded in await records.OfAsync(run, stop))
            files.Add(new($"records/{recorded.Leg}-{recorded.Step}.tsv", recorded.Record.Text));
        foreach (var (order, _, _) in await outputs.OfAsync(run, stop))
            files.Add(new($"outputs/{order.Leg}-{order.Step}-{order.Attempt}.txt", OutputText.Plain(await outputs.TextAsync(order, stop))));
        return files;
    }
}
