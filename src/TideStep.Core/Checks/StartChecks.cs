using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Checks;

/// <summary>What a start would refuse, said beforehand and all at once: premises that are no more, words that are
/// missing, secrets that are not there; and what the catalogue leaves out of its jumps.</summary>
internal sealed class StartChecks(EstateIndex index, Plan plan, CheckContext context)
{
    private const string MakeAgain = "Make the plan again and compare the two.";

    public IEnumerable<Finding> All() => Premises().Concat(Ready()).Concat(Secrets()).Concat(Restarts());

    private IEnumerable<Finding> Premises()
    {
        if (context.Revisions is not { } now || plan.Kind != Plan.Upgrade)
            yield break;
        var before = plan.Premises;
        if (before.EstateRevision != now.Estate)
            yield return Say(
                WaiverRules.Premise,
                "estate",
                "the estate's document has changed since the plan was made",
                MakeAgain
            );
        if (before.CatalogueRevision != now.Catalogue)
            yield return Say(
                WaiverRules.Premise,
                "catalogue",
                "the catalogue has changed since the plan was made",
                MakeAgain
            );
        foreach (var (member, expected) in before.Running)
        {
            // What could not be read is told of as that.
            if (expected == "any" || context.Unreached.ContainsKey(member))
                continue;
            var found =
                index.Estate.FindMember(member) is { } known && index.Readings.Members.ContainsKey(member)
                    ? index.Readings.Of(known).Running ?? RunningText.Nothing
                    : "gone";
            if (found != expected)
                yield return Say(
                    WaiverRules.Premise,
                    member,
                    $"it runs {found}, and the plan expects {expected}",
                    MakeAgain
                ) with
                {
                    Node = index.Estate.FindMember(member)?.Node,
                    Found = found,
                    Needed = expected,
                };
        }
    }

    private IEnumerable<Finding> Ready() =>
        context.NotReady.Select((p, i) => Say(WaiverRules.Ready, i == 0 ? "plan" : $"plan {i + 1}", p.What, p.Hint));

    private IEnumerable<Finding> Secrets() =>
        plan
            .Blocks.SelectMany(b => b.Lanes)
            .SelectMany(l => l.Steps)
            .SelectMany(s => RunBinding.SecretsOf(s).Select(name => (Name: name, Step: s)))
            .GroupBy(s => s.Name)
            .Select(g => (g, Problem: context.Secret(g.Key)))
            .Where(g => g.Problem is not null)
            .Select(g =>
                Say(
                    WaiverRules.Secret,
                    g.g.Key,
                    $"{g.Problem!.What}; {g.g.First().Step.Title} on {g.g.First().Step.Member} needs it"
                        + (g.g.Count() > 1 ? $", and {g.g.Count() - 1} more" : ""),
                    g.Problem.Hint
                )
            );

    // A jump that owes a restart which no step makes leaves its version without effect.
    private IEnumerable<Finding> Restarts()
    {
        foreach (var move in plan.Moves)
        foreach (var taken in move.Jumps)
        {
            if (
                index.Catalogue.Find(taken.Product) is not { } product
                || product.Jumps.FirstOrDefault(j => j.Id == taken.Jump) is not { } jump
                || jump.Restarts is not (RestartScope.Node or RestartScope.Service)
            )
                continue;
            var steps = plan
                .Blocks.Where(b => b.Move == move.Number)
                .SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s => s.Member.StartsWith(taken.Component + "/", StringComparison.Ordinal))
                .ToList();
            if (!Restarted(jump.Restarts, steps))
                yield return Say(
                    "restart-owed",
                    taken.Component,
                    $"jump {jump.Id} owes a restart of the "
                        + $"{(jump.Restarts == RestartScope.Node ? "node" : "service")}, and "
                        + "no step makes it: the version would not be in effect",
                    "Give the jump or the returning routine a step that restarts, or say what the jump restarts.",
                    Level.Caution,
                    [move.Number]
                );
        }
    }

    // By a command or a person it may be made too; nobody can tell from outside.
    private static bool Restarted(RestartScope scope, List<PlanStep> steps) =>
        steps.All(s => s.Do is AwaitAction)
        || steps.Any(s => s.Do is CommandAction or PersonAction or RequestAction or QueryAction)
        || (
            scope == RestartScope.Node
                ? steps.Any(s => s.Do is RestartAction { Service: null })
                : steps.Any(s => s.Do is RestartAction) || steps.Any(s => s.Do is StartAction)
        );

    private static Finding Say(
        string check,
        string subject,
        string what,
        string? remedy,
        Level level = Level.Blocker,
        ImmutableArray<int> moves = default
    ) => new(check, subject, level, CheckResult.Failed, what, remedy, moves.IsDefault ? [] : moves);
}
