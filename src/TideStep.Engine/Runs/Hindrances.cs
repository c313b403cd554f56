using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Engine.Estates;
using TideStep.Engine.Plans;
using TideStep.Engine.Surveys;

namespace TideStep.Engine.Runs;

/// <summary>What stands in the way of a plan's start: a word that is missing, premises that hold no longer, checks that
/// nobody accepted.</summary>
/// <param name="checks">Proves plans ready; null where nothing is checked.</param>
internal sealed class Hindrances(EstateDesk estates, MemberReader reader, Readiness readiness, CheckDesk? checks)
{
    // Everything that stands in the way at once: what is not ready, the premises, and the checks, which leave these out
    // so that each is said once.
    public async Task<(ImmutableArray<Problem> Problems, Core.Checks.CheckRound? Round)> FindAsync(
        Plan plan,
        string? run,
        ImmutableSortedDictionary<string, string> before,
        string by,
        CancellationToken ct
    )
    {
        var standing = (await readiness.MissingAsync(plan, ct)).AddRange(await PremisesAsync(plan, before, ct));
        var (problems, round) = await ProveAsync(plan, run, by, ct);
        return ([.. standing, .. problems], round);
    }

    public async Task<ImmutableSortedDictionary<string, string>> ReadAsync(
        EstateIndex index,
        Plan plan,
        CancellationToken ct
    ) =>
        await reader.RunningAsync(
            index.Estate,
            index.Catalogue,
            plan.Premises.Running.Keys.Select(m => index.Estate.FindMember(m)).OfType<Member>(),
            ct
        );

    public async Task<ImmutableArray<Problem>> PremisesAsync(
        Plan plan,
        ImmutableSortedDictionary<string, string> found,
        CancellationToken ct
    )
    {
        var problems = ImmutableArray.CreateBuilder<Problem>();
        const string again = "Make the plan again and compare the two.";
        var (estate, catalogue) = await estates.RevisionsAsync(ct);
        if (plan.Premises.EstateRevision != estate)
            problems.Add(new Problem("the estate's document has changed since the plan was made", null, again));
        if (plan.Premises.CatalogueRevision != catalogue)
            problems.Add(new Problem("the catalogue has changed since the plan was made", null, again));
        foreach (var (member, expected) in plan.Premises.Running)
        {
            var now = found.GetValueOrDefault(member, "gone");
            if (expected == "any" || now == expected)
                continue;
            problems.Add(
                new Problem(
                    $"{member} runs {now}, the plan expects {expected}",
                    null,
                    now == "unreachable"
                        ? "Look at the node; a run starts only when every member concerned can be read."
                        : again
                )
            );
        }
        return problems.ToImmutable();
    }

    // Blockers that nobody accepted keep a run from starting; cautions and advice go with it into the journal.
    private async Task<(ImmutableArray<Problem> Problems, Core.Checks.CheckRound? Round)> ProveAsync(
        Plan plan,
        string? run,
        string by,
        CancellationToken ct
    )
    {
        if (checks is null)
            return ([], null);
        var round = await checks.RunAsync(plan, survey: true, by, run, ct);
        if (!round.Ok)
            return (round.Problems, null);
        return (
            [
                // Premises and words are said by the start itself.
                .. round
                    .Value!.Blocking.Where(f =>
                        f.Check is not (Core.Checks.WaiverRules.Premise or Core.Checks.WaiverRules.Ready)
                    )
                    .Select(f => new Problem(
                        $"{f.Subject}: {f.Check} "
                            + $"{(f.Result == Core.Checks.CheckResult.Open ? "is open" : "failed")}: {f.What}",
                        null,
                        Hint(plan, f)
                    )),
            ],
            round.Value
        );
    }

    // Whether somebody's word helps is said only where it would be taken.
    private static string? Hint(Plan plan, Core.Checks.Finding finding)
    {
        if (!Core.Checks.WaiverRules.MayBeAccepted(finding))
            return finding.Remedy;
        var accept = $"tidestep check waive {PlanName(plan)} {Quoted(finding.Id)} --reason '...'";
        return finding.Remedy is { } remedy ? $"{remedy} Or accept it: {accept}" : $"Accept it: {accept}";
    }

    private static string Quoted(string text) => $"'{text.Replace("'", "'\\''", StringComparison.Ordinal)}'";

    private static string PlanName(Plan plan) =>
        plan.Digest is ['s', 'h', 'a', ..] digest ? digest[7..17] : plan.Digest;
}
