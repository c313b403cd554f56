using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Paths;

/// <summary>A related pair in the state after a move, with its verdict and what gave it.</summary>
/// <param name="Inherited">Whether it stands today already, or no worse than today's: then it is a finding, never a
/// refusal.</param>
public sealed record StandingPair(
    string Component,
    string Version,
    string With,
    string At,
    RelationKind Relation,
    Verdict Verdict,
    bool Inherited,
    string Why
);

/// <summary>A component that moves though the goal does not name it, and what drives it.</summary>
public sealed record Driven(string Component, ImmutableArray<string> Because)
{
    /// <summary>Others of the same product that move for the same reason, each with its own neighbours; of such a group
    /// only the first has them.</summary>
    public ImmutableArray<string> Twins { get; init; } = [];
}

/// <summary>Tells of a path what its states are and why it does what it does.</summary>
internal sealed class PathExplanation(PathProblem problem, IReadOnlyList<MoveOption> moves)
{
    private const int MostReasons = 3;

    /// <summary>The pairs of what a move changed, as they stand after it; the others stand as before.</summary>
    public ImmutableArray<StandingPair> PairsAfter(MoveOption move, int[] state)
    {
        var moved = move.Jumps.Select(j => j.Component).ToHashSet();
        return
        [
            .. moved
                .SelectMany(c => problem.PairsOf[c])
                .Distinct()
                .Order()
                .Where(p => problem.Meets(p, state))
                .Select(p => Standing(p, state)),
        ];
    }

    private StandingPair Standing(int pair, int[] state)
    {
        var (a, b, kind) = problem.Index.Pairs[pair];
        var (verdict, inherited) = problem.Judge(pair, state);
        return new StandingPair(
            Id(a),
            problem.LabelOf(a, state[a]),
            Id(b),
            problem.LabelOf(b, state[b]),
            kind,
            verdict.Verdict,
            inherited,
            problem.Cited(verdict, pair, state[a], state[b]).Why
        );
    }

    /// <summary>Why each component moves that the goal does not name: what could not stand, or not be done, if it
    /// stayed.</summary>
    public ImmutableArray<Driven> Driven()
    {
        var passed = moves.SelectMany(m => m.Jumps).GroupBy(j => j.Component).ToDictionary(g => g.Key, g => g.ToList());
        var driven = passed.Keys.Where(c => problem.TargetOf[c] is null).Order().ToList();
        return
        [
            .. driven
                .GroupBy(c => (problem.Index.Components[c].Product, Alike(c, passed)))
                .SelectMany(twins =>
                    twins.Select(
                        (c, i) =>
                            new Driven(Id(c), [.. Reasons(c, passed).Distinct().Take(MostReasons)])
                            {
                                Twins = i == 0 ? [.. twins.Skip(1).Select(Id)] : [],
                            }
                    )
                )
                .OrderBy(d => d.Component, StringComparer.Ordinal),
        ];
    }

    // The first reason with products in the place of components: twins have the same.
    private string Alike(int c, Dictionary<int, List<Option>> passed)
    {
        _byProduct = true;
        var told = Reasons(c, passed).FirstOrDefault() ?? "";
        _byProduct = false;
        return told;
    }

    private bool _byProduct;

    private IEnumerable<string> Reasons(int c, Dictionary<int, List<Option>> passed)
    {
        var today = problem.Today[c];
        if (problem.Found[c].Length > 1)
            yield return $"it was found mixed: {problem.LabelOf(c, today)}";
        if (problem.Request.Goal.SupportedAt is { } date && !RemainingCost.MayEnd(problem, c, today))
            yield return $"{Id(c)} {problem.LabelOf(c, today)} is no longer supported on {date:yyyy-MM-dd}";
        if (problem.Owes(c))
        {
            yield return $"it owes a restart, {problem.LabelOf(c, today)}, and that goes before everything else";
            yield break;
        }
        foreach (var (other, jumps) in passed)
        foreach (var jump in jumps)
        foreach (var demand in jump.Requires.Concat(jump.Together))
            if (demand.Component == c && !demand.Allowed[today])
                yield return $"the jump {jump.Jump.Id} of {Id(other)} asks for another version of it than "
                    + $"{problem.LabelOf(c, today)}";
        var state = problem.Today.ToArray();
        // What the goal names comes first: peers drive each other, and say little.
        foreach (
            var pair in problem
                .PairsOf[c]
                .OrderByDescending(p =>
                    problem.TargetOf[
                        problem.Index.Pairs[p].A == c ? problem.Index.Pairs[p].B : problem.Index.Pairs[p].A
                    ]
                        is not null
                )
                .ThenBy(p => problem.Index.Pairs[p].Kind == RelationKind.Peer)
        )
        {
            var (a, b, kind) = problem.Index.Pairs[pair];
            var other = a == c ? b : a;
            if (!passed.TryGetValue(other, out var jumps))
                continue;
            foreach (var jump in jumps)
            {
                state[other] = jump.To;
                // A gap that the goal allows drives too: what is tested goes before what is only allowed.
                var gap =
                    problem.Judge(pair, state) is { Inherited: false, Verdict.Verdict: Verdict.Untested }
                    && !problem.AllowedByName(pair, state);
                if (gap || !(jump == jumps[^1] ? problem.MayStandAtEnd(pair, state) : problem.MayStand(pair, state)))
                {
                    var judged = problem.Cited(problem.Judge(pair, state).Verdict, pair, state[a], state[b]);
                    yield return $"{Id(a)} {problem.LabelOf(a, state[a])} {Word(kind)} {Id(b)} "
                        + $"{problem.LabelOf(b, state[b])} is {judged.Verdict.ToString().ToLowerInvariant()} "
                        + $"({judged.Why})";
                }
            }
            state[other] = problem.Today[other];
        }
    }

    private string Id(int c) => _byProduct ? problem.Index.Components[c].Product : problem.Index.Components[c].Id;

    private static string Word(RelationKind kind) =>
        kind switch
        {
            RelationKind.DependsOn => "that depends on",
            RelationKind.StandsOn => "that stands on",
            RelationKind.Inside => "inside",
            _ => "as a peer of",
        };
}
