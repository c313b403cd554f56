using System.Runtime.CompilerServices;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Storage;

namespace TideStep.Engine.Artefacts;

/// <summary>Which artefacts are still needed, by which plans and on which nodes: those of plans made lately that no run
/// has carried out to its end, and of runs under way.</summary>
public sealed class ArtefactNeeds(IDocumentStore documents, IJournal journal, TimeProvider time)
{
    private static readonly TimeSpan Lately = TimeSpan.FromDays(60);
    private const int Page = 100;

    /// <summary>By the artefact's name.</summary>
    public async Task<IReadOnlyDictionary<string, List<(string Plan, string Node)>>> FindAsync(CancellationToken ct)
    {
        var runs = (await RunsAsync(ct)).ToLookup(r => r.Plan);
        var needed = new Dictionary<string, List<(string, string)>>();
        await foreach (var stored in PlansAsync(ct))
        {
            if (stored.Kind != Plan.Upgrade)
                continue;
            var its = runs[stored.Digest].ToList();
            if (
                its.Count > 0
                && its.All(r => r.Ended is not null)
                && its.Any(r => r.Ended == RunReport.EndWord(RunEnd.Completed))
            )
                continue;
            // A plan that was damaged is not carried out.
            if (stored.Damaged is not null)
                continue;
            foreach (var (artefact, node) in Staging.WantedBy(EstateDesk.Read(stored)))
            {
                if (!needed.TryGetValue(artefact, out var list))
                    needed[artefact] = list = [];
                list.Add((stored.Digest, node));
            }
        }
        return needed;
    }

    private async Task<List<StoredRun>> RunsAsync(CancellationToken ct)
    {
        var all = new List<StoredRun>();
        while (true)
        {
            var page = await journal.RunsAsync(openOnly: false, Page, all.LastOrDefault()?.Id, ct);
            all.AddRange(page);
            if (page.Count < Page)
                return all;
        }
    }

    private async IAsyncEnumerable<StoredPlan> PlansAsync([EnumeratorCancellation] CancellationToken ct)
    {
        string? after = null;
        while (true)
        {
            var page = await documents.PlansAsync(Page, after, ct);
            foreach (var stored in page)
            {
                if (stored.At < time.GetUtcNow() - Lately)
                    yield break;
                yield return stored;
            }
            if (page.Count < Page)
                yield break;
            after = page[^1].Digest;
        }
    }
}
