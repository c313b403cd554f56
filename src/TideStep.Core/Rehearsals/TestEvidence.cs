using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Rehearsals;

/// <summary>That a plan's steps were carried out in a test estate: by which run's report, which component stood for
/// which, and until when it counts.</summary>
public sealed record TestEvidence(
    string Plan,
    string Run,
    string Estate,
    ImmutableSortedDictionary<string, string> Map,
    string By,
    DateTimeOffset At
);

/// <summary>Holds a run's report from a test estate against a plan; pure. Only the same steps of the same jumps are
/// evidence for the plan's steps.</summary>
public static class TestEvidenceRules
{
    /// <summary>The digests of the steps that a plan takes, by component and step.</summary>
    public static ImmutableArray<ReportStep> StepsOf(Plan plan) =>
        [
            .. plan
                .Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s => s.Digest is not null)
                .Select(s => new ReportStep(s.Component, s.Name, s.Digest!))
                .Distinct()
                .OrderBy(s => s.Component, StringComparer.Ordinal)
                .ThenBy(s => s.Step, StringComparer.Ordinal),
        ];

    /// <param name="map">Which component of the test estate stood for which of the plan's; one of the same name stands
    /// for itself.</param>
    public static Checked<TestEvidence> Of(
        Plan plan,
        RunReport report,
        IReadOnlyDictionary<string, string> map,
        string by,
        DateTimeOffset now
    )
    {
        var findings = new Findings();
        if (report.End != RunReport.EndWord(RunEnd.Completed))
            findings.Add(
                $"run {report.Run} is no evidence: it is {report.End}",
                null,
                "Only a run that completed shows that the steps work."
            );
        if (report.Estate == plan.Estate)
            findings.Add($"run {report.Run} was in the plan's own estate", null, "A rehearsal is made in another.");
        foreach (var wrong in map.Keys.Where(k => plan.Moves.SelectMany(m => m.Components).All(c => c != k)))
            findings.Add(
                $"the plan moves no component '{wrong}'",
                null,
                Nearest.Hint(wrong, plan.Moves.SelectMany(m => m.Components).Distinct())
            );
        var needed = StepsOf(plan);
        foreach (var component in plan.Moves.SelectMany(m => m.Components).Distinct())
        {
            var stood = map.GetValueOrDefault(component, component);
            var (want, has) = (
                JumpsOf(plan.Moves, component),
                report.Jumps.Where(j => j.Component == stood).Select(j => (j.Jump, j.From, j.To)).ToList()
            );
            if (has.Count == 0)
            {
                findings.Add(
                    $"{component}: the report moves no component '{stood}'",
                    null,
                    "Say which stood for it, as in --map ledger-north=ledger-test."
                );
                continue;
            }
            if (!want.SequenceEqual(has))
                findings.Add(
                    $"{component}: {stood} went {string.Join(", ", has.Select(j => $"{j.From} to {j.To}"))}, "
                        + $"the plan goes {string.Join(", ", want.Select(j => $"{j.From} to {j.To}"))}",
                    null,
                    "Rehearse the same jumps."
                );
            foreach (
                var step in needed.Where(n =>
                    n.Component == component
                    && report.Steps.All(s => s.Component != stood || s.Step != n.Step || s.Digest != n.Digest)
                )
            )
                findings.Add(
                    $"{component}: its step '{step.Step}' "
                        + (
                            report.Steps.Any(s => s.Component == stood && s.Step == step.Step)
                                ? "was another one"
                                : "was not taken"
                        )
                        + $" there",
                    null,
                    "Rehearse with the catalogue that the plan was made from."
                );
        }
        return new Checked<TestEvidence>(
            findings.Any
                ? null
                : new TestEvidence(
                    plan.Digest,
                    report.Run,
                    report.Estate,
                    map.ToImmutableSortedDictionary(m => m.Key, m => m.Value, StringComparer.Ordinal),
                    by,
                    now
                ),
            findings.All
        );
    }

    private static List<(string Jump, string From, string To)> JumpsOf(
        IEnumerable<PlannedMove> moves,
        string component
    ) => [.. moves.SelectMany(m => m.Jumps).Where(j => j.Component == component).Select(j => (j.Jump, j.From, j.To))];
}
