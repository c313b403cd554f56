using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.People;
using TideStep.Engine.Plans;

namespace TideStep.Engine;

/// <summary>Whether a plan has what its estate demands besides its checks: a rehearsal, somebody's word.</summary>
/// <param name="rehearsals">Rehearsals of plans; null where none are kept.</param>
/// <param name="signOffs">People's words on plans; null where none are kept.</param>
public sealed class Readiness(RehearsalDesk? rehearsals, SignOffDesk? signOffs, TimeProvider time)
{
    /// <summary>What is missing.</summary>
    public async Task<ImmutableArray<Problem>> MissingAsync(Plan plan, CancellationToken ct)
    {
        var rehearsal = rehearsals is null ? null : await rehearsals.MissingAsync(plan, ct);
        var word = signOffs is null
            ? null
            : SignOffRules.Missing(plan, await signOffs.OfAsync(plan.Digest, ct), time.GetUtcNow());
        return [.. new[] { rehearsal, word }.OfType<Problem>()];
    }
}
