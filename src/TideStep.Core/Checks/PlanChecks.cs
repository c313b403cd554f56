using System.Collections.Immutable;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Checks;

/// <summary>A round of checks: when, of which plan, on readings of when, and what was found, the worst first.</summary>
public sealed record CheckRound(
    DateTimeOffset At,
    string Plan,
    DateTimeOffset ReadingsOf,
    ImmutableArray<Finding> Findings
)
{
    /// <summary>What stands in the way of a run: blockers that failed or are open, and that nobody accepted.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public IEnumerable<Finding> Blocking => Findings.Where(f => f.Stands(Level.Blocker));
}

/// <summary>Proves a plan ready, or says by numbers what it lacks.</summary>
public static class PlanChecks
{
    /// <summary>Puts the prerequisites of the plan's jumps and the built-in checks to the readings.</summary>
    public static CheckRound Of(EstateIndex index, Plan plan, CheckContext context) =>
        new(
            context.Now,
            plan.Digest,
            index.Readings.Taken,
            [
                .. PrerequisiteChecks
                    .Of(index, plan, context)
                    .Concat(new BuiltInChecks(index, plan, context).All())
                    .Concat(new ComponentChecks(index, plan, context).All())
                    .Concat(new HostChecks(index, plan, context).All())
                    .Concat(ArtefactChecks.Of(plan, context))
                    .Concat(new StartChecks(index, plan, context).All())
                    .GroupBy(f => f.Id)
                    .Select(Together)
                    .Select(f =>
                        f.Result is CheckResult.Failed or CheckResult.Open
                        && context.Waivers.LastOrDefault(w => w.Covers(f, context.Now)) is { } waiver
                            ? f with
                            {
                                Waived = waiver,
                            }
                            : f
                    )
                    .OrderBy(f =>
                        f.Result is CheckResult.Failed or CheckResult.Open
                            ? f.Waived is null
                                ? 0
                                : 1
                            : 2
                    )
                    .ThenByDescending(f => f.Level)
                    .ThenBy(f => f.Result)
                    .ThenBy(f => f.Moves.IsEmpty ? 0 : f.Moves[0])
                    .ThenBy(f => f.Check, StringComparer.Ordinal)
                    .ThenBy(f => f.Subject, StringComparer.Ordinal),
            ]
        );

    // The same question asked for several moves is one finding, the worst answer of them.
    private static Finding Together(IEnumerable<Finding> same) =>
        same.Take(2).ToList() is [var only]
            ? only
            : same.OrderBy(f =>
                    f.Result switch
                    {
                        CheckResult.Failed => 0,
                        CheckResult.Open => 1,
                        CheckResult.Passed => 2,
                        _ => 3,
                    }
                )
                .First() with
            {
                Moves = [.. same.SelectMany(f => f.Moves).Distinct().Order()],
            };
}
