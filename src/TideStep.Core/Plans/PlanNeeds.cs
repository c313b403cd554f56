using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Plans;

/// <summary>What a plan needs besides its steps: answers, artefacts and what people have to do.</summary>
public static class PlanNeeds
{
    /// <summary>Every question once, with the goal's answer or what holds otherwise; a question that nobody answered is
    /// a problem.</summary>
    public static ImmutableArray<PlannedAnswer> Answers(PathAnswer path, Findings findings)
    {
        var found = ImmutableArray.CreateBuilder<PlannedAnswer>();
        var asked = path
            .Moves.SelectMany(
                (m, i) => m.Jumps.SelectMany(j => j.Jump.Questions.Select(q => (Question: q, Move: i + 1, j.Jump)))
            )
            .GroupBy(q => q.Question.Id)
            .ToList();
        foreach (var group in asked.OrderBy(g => g.Key, StringComparer.Ordinal))
        {
            var question = group.First().Question;
            var given = path.Asked.Answers.GetValueOrDefault(question.Id);
            if ((given ?? question.Otherwise) is { } answer)
                found.Add(
                    new PlannedAnswer(
                        question.Id,
                        question.Asks,
                        answer,
                        given is not null,
                        [.. group.Select(g => g.Move).Distinct()]
                    )
                );
            else
                findings.Add(
                    $"move {group.First().Move} asks '{question.Asks}', and nobody has answered",
                    group.First().Jump.Place,
                    $"Add to the goal: answers: {{{question.Id}: ...}}."
                );
        }
        return found.ToImmutable();
    }

    /// <summary>Answers that nothing on the path asks for: a slip of the pen, or a jump that is done already.</summary>
    public static IEnumerable<string> Strays(PathAnswer path)
    {
        var asked = path.Moves.SelectMany(m => m.Jumps).SelectMany(j => j.Jump.Questions).Select(q => q.Id).ToHashSet();
        return path
            .Asked.Answers.Keys.Where(id => !asked.Contains(id))
            .Select(id =>
                $"the goal answers '{id}', which nothing on this path "
                + $"asks{(Nearest.Hint(id, asked) is { } hint ? $"; {hint}" : "")}"
            );
    }

    /// <summary>The artefacts of every jump for each host variant, and those of the jumps that lead back.</summary>
    public static ImmutableArray<PlannedArtefact> Artefacts(EstateIndex index, PathAnswer path, Findings findings)
    {
        var needs = new List<(ArtefactNeed Need, string Node, int Move, bool Back)>();
        for (var i = 0; i < path.Moves.Length; i++)
            foreach (var jump in path.Moves[i].Jumps)
            {
                var (component, product) = (
                    index.Estate.Find(jump.Component)!,
                    index.Catalogue.Find(index.Estate.Find(jump.Component)!.Product)!
                );
                foreach (var node in component.Members.Select(m => m.Node))
                {
                    Needed(jump.Jump, component, node, i + 1, false);
                    foreach (
                        var back in product.Jumps.Where(b =>
                            b.Down && b.To.Equals(jump.From) && b.LeadsFrom(jump.To, product.IsRelease)
                        )
                    )
                        Needed(back, component, node, i + 1, true);
                }
            }
        return
        [
            .. needs
                .GroupBy(n => (n.Need.Id, n.Need.File, n.Back))
                .Select(g => new PlannedArtefact(
                    g.Key.Id,
                    g.Key.File,
                    g.First().Need.Sha256,
                    g.First().Need.Bytes,
                    [.. g.Select(n => n.Node).Distinct().Order(StringComparer.Ordinal)],
                    [.. g.Select(n => n.Move).Distinct()],
                    g.Key.Back
                )),
        ];

        void Needed(Jump jump, Component component, string node, int move, bool back)
        {
            foreach (var variants in jump.Artefacts.GroupBy(a => a.Id))
            {
                var fitting = variants
                    .Where(a => a.For.All(t => TraitOf(index, component, node, t.Key) == t.Value))
                    .ToList();
                if (fitting.Count > 0)
                    needs.Add((fitting.MaxBy(a => a.For.Count)!, node, move, back));
                else
                    findings.Add(
                        $"{component.Id} on {node}: no variant of the artefact '{variants.Key}' of jump "
                            + $"{jump.Id} is for it",
                        jump.Place,
                        $"It comes for "
                            + (
                                string.Join(
                                    " or ",
                                    variants.Select(a => string.Join(" and ", a.For.Select(t => $"{t.Key} {t.Value}")))
                                )
                            )
                            + $"; the node has "
                            + (
                                string.Join(
                                    ", ",
                                    variants
                                        .SelectMany(a => a.For.Keys)
                                        .Distinct()
                                        .Select(t => $"{t} {TraitOf(index, component, node, t) ?? "not said"}")
                                )
                            )
                            + $"."
                    );
            }
        }
    }

    /// <summary>What the products of all components that the work touches ask before and after it. Of a replaced
    /// component the members that stay for good are not known; its questions are left out.</summary>
    public static ImmutableArray<PlannedAsk> Asks(EstateIndex index, PathAnswer path, IEnumerable<Block> blocks)
    {
        var replaced = path
            .Moves.Where(m => m.Method == Method.Replace)
            .SelectMany(m => m.Jumps)
            .Select(j => j.Component)
            .ToHashSet();
        var touched = blocks
            .SelectMany(b => b.Lanes.SelectMany(l => l.Steps.Select(s => s.Component)).Concat(b.ComponentsOut))
            .ToHashSet();
        return
        [
            .. index
                .Components.Where(c => touched.Contains(c.Id) && !replaced.Contains(c.Id))
                .OrderBy(c => c.Id, StringComparer.Ordinal)
                .SelectMany(c =>
                    index
                        .Catalogue.Find(c.Product)!
                        .Asks.Select(a => new PlannedAsk(
                            c.Id,
                            a,
                            KnownReadings.KindOf(
                                new Expressions.Reference(a.Of, [], null),
                                index.Catalogue.Find(c.Product)!.Readings
                            ) ?? Expressions.ValueKind.Text,
                            [.. c.Members.Select(m => m.Id)]
                        ))
                ),
        ];
    }

    /// <summary>The variant of an artefact that is for a member's host; null where none is, or where the jump has no
    /// artefact of that identifier.</summary>
    public static ArtefactNeed? VariantFor(EstateIndex index, Member member, Jump jump, string id) =>
        jump
            .Artefacts.Where(a =>
                a.Id == id
                && a.For.All(t => TraitOf(index, index.Estate.Find(member.Component)!, member.Node, t.Key) == t.Value)
            )
            .MaxBy(a => a.For.Count);

    private static string? TraitOf(EstateIndex index, Component component, string node, string trait) =>
        index.Estate.Nodes[node].Traits.TryGetValue(trait, out var own)
            ? own
            : component.Traits.GetValueOrDefault(trait);

    private static bool Does(Jump jump, string step) =>
        jump.Ahead.Contains(step) || jump.Change.Contains(step) || jump.AfterAll.Contains(step);

    /// <summary>What the jumps and the problems known of the releases ask people to do, by its time.</summary>
    public static ImmutableArray<PlannedTask> Tasks(EstateIndex index, PathAnswer path)
    {
        var found = new List<PlannedTask>();
        for (var i = 0; i < path.Moves.Length; i++)
            foreach (var jump in path.Moves[i].Jumps)
            {
                foreach (var task in jump.Jump.Tasks)
                    found.Add(
                        new PlannedTask(task.When, i + 1, jump.Component, task.Title)
                        {
                            Instructions = task.Instructions,
                            Owner = task.Owner,
                            Ahead = task.Ahead > TimeSpan.Zero ? task.Ahead : null,
                        }
                    );
                foreach (
                    var problem in index
                        .Catalogue.Find(index.Estate.Find(jump.Component)!.Product)!
                        .ReleaseOf(jump.To)
                        ?.Problems
                        ?? []
                )
                    // What a step of the plan itself does is nobody's task.
                    if (problem.Prevent is { } prevent && !Does(jump.Jump, prevent))
                        found.Add(
                            new PlannedTask(
                                TaskTime.Before,
                                i + 1,
                                jump.Component,
                                $"{prevent} (known of {jump.To}: {problem.What})"
                            )
                        );
            }
        return [.. found.OrderBy(t => t.When).ThenBy(t => t.Move)];
    }
}
