using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Paths;

/// <summary>What is to be known beside an answer: the pairs that nobody vouches for, what was found today, and how it
/// is told, twins together.</summary>
internal sealed class PathNotes(PathProblem problem, IReadOnlyList<MoveOption> moves)
{
    private readonly List<int[]> _states = States(problem, moves);

    private static List<int[]> States(PathProblem problem, IReadOnlyList<MoveOption> moves)
    {
        List<int[]> states = [problem.Today];
        foreach (var move in moves)
        {
            var state = states[^1].ToArray();
            foreach (var jump in move.Jumps)
                state[jump.Component] = jump.To;
            states.Add(state);
        }
        return states;
    }

    /// <summary>Every pair that is to be known of, each once.</summary>
    public ImmutableArray<NotedPair> Pairs() => [.. Relied().Concat(Inherited()).Concat(Stretched()).Distinct()];

    private IEnumerable<NotedPair> Relied() =>
        from state in _states.Skip(1)
        from pair in Enumerable.Range(0, problem.Index.Pairs.Length)
        where problem.Meets(pair, state)
        where problem.Judge(pair, state) is { Inherited: false, Verdict.Verdict: Verdict.Untested }
        select Noted(PairNote.Relied, pair, state);

    private IEnumerable<NotedPair> Inherited()
    {
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
        {
            var last = _states.FindLastIndex(s => StandsBadly(pair, s));
            if (last < 0)
                continue;
            // The move after the last state in which it stands is the one that cures it.
            var atEnd = last == _states.Count - 1;
            yield return Noted(PairNote.Inherited, pair, _states[atEnd ? last : 0]) with
            {
                CuredBy = atEnd ? null : last + 1,
            };
        }
    }

    private bool StandsBadly(int pair, int[] state) =>
        problem.Meets(pair, state)
        && problem.Judge(pair, state) is { Inherited: true, Verdict.Verdict: > Verdict.Supported };

    private NotedPair Noted(PairNote note, int pair, int[] state)
    {
        var (a, b, kind) = problem.Index.Pairs[pair];
        var verdict = problem.Judge(pair, state).Verdict;
        return new NotedPair(
            note,
            problem.Index.Components[a].Id,
            problem.LabelOf(a, state[a]),
            problem.Index.Components[b].Id,
            problem.LabelOf(b, state[b]),
            kind,
            verdict.Verdict
        )
        {
            Why = problem.Cited(verdict, pair, state[a], state[b]).Why,
        };
    }

    // Only what the path itself brings together, where it stays.
    private IEnumerable<NotedPair> Stretched()
    {
        var end = _states[^1];
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
        {
            var (a, b, _) = problem.Index.Pairs[pair];
            if ((end[a] == problem.Today[a] && end[b] == problem.Today[b]) || !problem.Meets(pair, end))
                continue;
            var verdict = problem.Judge(pair, end).Verdict;
            if (verdict.Verdict > Verdict.Transitional || verdict.Rules.IsEmpty)
                continue;
            var older = verdict.Rules.Select(r => Older(r, pair, end)).ToList();
            if (older.All(o => o is not null))
                yield return Noted(PairNote.Stretched, pair, end) with
                {
                    Why = older[0]!,
                };
        }
    }

    // A rule's document that is older than a release which its range reaches only for want of an upper bound.
    private string? Older(CompatibilityRule rule, int pair, int[] state)
    {
        if (rule is not RangeRule || rule.Source?.Date is not { } written)
            return null;
        var (a, b, kind) = problem.Index.Pairs[pair];
        // Of two peers of one product the rule speaks of both.
        var fromA = rule.End == Compatibility.VerdictOf.Ends(kind).Mine && rule.Other == problem.Products[b]!.Id;
        var (own, other) = fromA ? (a, b) : (b, a);
        return Newer(rule.This, own, state[own], written) ?? Newer(rule.At, other, state[other], written);

        string? Newer(Versions.VersionRange range, int c, int version, DateOnly day) =>
            version >= 0
            && !problem.IsMixed(c, version)
            && problem.Products[c] is { } product
            && product.ReleaseOf(problem.Versions[c][version]) is { Since: { } since } release
            && since > day
            && range.IsOpenAbove(problem.Versions[c][version], product.IsRelease)
                ? $"{rule.Id}, {rule.Source!.Title} of {day:yyyy-MM-dd}, says {range.Text}; {product.Id} "
                    + $"{release.Label} "
                    + $"is of {since:yyyy-MM-dd}"
                : null;
    }

    /// <summary>Requirements of the path's jumps on products that nothing is related to.</summary>
    public ImmutableArray<UnrelatedRequirement> Unrelated() =>
        [
            .. moves
                .SelectMany(m => m.Jumps)
                .SelectMany(j =>
                    j.Jump.Requires.Where(r => !problem.Index.IsRelatedTo(j.Component, r.Product))
                        .Select(r => new UnrelatedRequirement(
                            problem.Index.Components[j.Component].Id,
                            j.Jump.Id,
                            r.Product,
                            r.Range.Text
                        ))
                )
                .Distinct(),
        ];

    /// <summary>The same and what was found of the components, in sentences; what is alike is told once.</summary>
    public ImmutableArray<string> Told(
        ImmutableArray<NotedPair> pairs,
        ImmutableArray<UnrelatedRequirement> unrelated
    ) =>
        [
            .. Found(),
            .. Alike(pairs.Select(p => (Of(p), Together(p)))),
            .. Alike(
                unrelated.Select(u =>
                    (
                        (u.Component, (string?)null),
                        $"jump {u.Jump} requires {u.Product} {u.Range}, and nothing that {{0}} relates to is an "
                            + "instance of it: nobody can say whether that holds"
                    )
                )
            ),
        ];

    private static (string, string?) Of(NotedPair pair) => (pair.Component, pair.With);

    private string Together(NotedPair pair)
    {
        var verdict = pair.Verdict.ToString().ToLowerInvariant();
        var versions = $"{Product(pair.Component)} {pair.Version} with {Product(pair.With)} {pair.At}";
        return pair.Note switch
        {
            PairNote.Relied => $"untested, and relied on because the goal allows it: {versions} at {{0}} ({pair.Why})",
            PairNote.Stretched => $"only an old note vouches for {versions} at {{0}}: {pair.Why}",
            _ when moves.Count == 0 => $"today's pair {versions} at {{0}} is {verdict} ({pair.Why})",
            _ when pair.CuredBy is not null =>
                $"today's pair {versions} at {{0}} is {verdict} ({pair.Why}); move {pair.CuredBy} ends that",
            _ => $"{versions} at {{0}} is {verdict}, as today's pair is, and stays so at the end ({pair.Why})",
        };
    }

    private string Product(string component) => problem.Index.Components[problem.Index.NumberOf(component)].Product;

    // A sentence that is the same of several is said once, with all their names.
    private static IEnumerable<string> Alike(IEnumerable<((string One, string? Other) Who, string Sentence)> told) =>
        told.GroupBy(t => t.Sentence)
            .Select(g =>
                string.Format(
                    System.Globalization.CultureInfo.InvariantCulture,
                    g.Key.Replace("{0}", "\u0001").Replace("{", "{{").Replace("}", "}}").Replace("\u0001", "{0}"),
                    Listed([
                        .. g.Select(t => t.Who.Other is null ? t.Who.One : $"{t.Who.One}, {t.Who.Other}").Distinct(),
                    ])
                )
            );

    private static string Listed(List<string> names) =>
        names.Count == 1 ? names[0]
        : names.Any(n => n.Contains(',')) ? string.Join("; ", names)
        : $"{string.Join(", ", names.Take(names.Count - 1))} and {names[^1]}";

    private IEnumerable<string> Found()
    {
        var said = new List<((string, string?), string)>();
        for (var c = 0; c < problem.Index.Components.Length; c++)
        {
            var who = (problem.Index.Components[c].Id, (string?)null);
            if (problem.Stuck[c] is { } stuck)
                said.Add((who, $"not planned for: {{0}} ({stuck})"));
            if (problem.Found[c].Length > 1)
                said.Add((who, $"found mixed, {problem.LabelOf(c, problem.Today[c])}: {{0}}"));
            if (problem.Unsettled[c] is { Idle: [_, ..] idle })
                said.Add(
                    (
                        who,
                        $"{{0}} has members that run nothing: "
                            + string.Join(", ", idle.Select(i => $"{i.Member.Id} ({i.Installed} installed)"))
                            + "; they "
                            + "are settled before it moves"
                    )
                );
            if (problem.Unsettled[c] is { Owed: { } due })
                said.Add(
                    (
                        who,
                        problem.Pinned.Contains(c)
                            ? $"a restart is owed that would put {due} into effect: {{0}}; pinned, so keep it from any "
                                + "restart"
                            : $"a restart is owed that puts {due} into effect, and goes before everything else: {{0}}"
                    )
                );
            if (problem.LeadsDown[c])
                said.Add((who, "led down, for the goal lies below today's version: {0}"));
        }
        return Alike(said);
    }
}
