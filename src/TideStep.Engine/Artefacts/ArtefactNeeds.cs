using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Artefacts;

/// <summary>Which artefacts are still needed, by which plans and on which nodes: those of plans made lately that no run
/// has carried out to its end, and of runs under way.</summary>
public sealed class ArtefactNeeds(IDocumentStore documents, IJournal journal, TimeProvider time)
{
    private static readonly TimeSpan Lately = TimeSpan.FromDays(60);
    private const int MostPlans = 100;

    /// <summary>By the artefact's name.</summary>
    public async Task<IReadOnlyDictionary<string, List<(string Plan, string Node)>>> FindAsync(CancellationToken ct)
    {
        var runs = (await journal.RunsAsync(openOnly: false, 500, null, ct)).ToLookup(r => r.Plan);
        var needed = new Dictionary<string, List<(string, string)>>();
        foreach (var stored in await documents.PlansAsync(MostPlans, ct))
        {
            if (stored.At < time.GetUtcNow() - Lately || stored.Kind != Plan.Upgrade)
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
}
