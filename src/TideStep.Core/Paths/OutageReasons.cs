using TideStep.Core.Catalogue;

namespace TideStep.Core.Paths;

/// <summary>Says of a move that takes somebody out why nothing stands in which everybody goes on serving.</summary>
internal sealed class OutageReasons(PathProblem problem)
{
    private static readonly Method[] _serving = [Method.Rolling, Method.Replace, Method.TwoSlot];

    // Only here are options kept that a guard refuses.
    private readonly Lazy<PathProblem> _relaxed = new(() =>
        new PathProblem(problem.Request, problem.Targets, problem.Pinned, relaxed: true)
    );

    /// <summary>The reason, null where nobody is out.</summary>
    /// <param name="move">The move.</param>
    /// <param name="before">The state that it begins in.</param>
    public string? Of(MoveOption move, int[] before) =>
        move.OutageSeconds == 0 ? null
        : move.IsJoint ? Apart(move, before)
        : _serving.Contains(move.Jumps[0].Method) ? InWaves(move)
        : Single(move.Jumps[0]);

    private string InWaves(MoveOption move) =>
        $"{Listed(move.Out.Select(c => problem.Index.Components[c].Product).Distinct())} may go out with "
        + $"its node: no guard "
        + "keeps a member in service";

    private string Single(Option option)
    {
        var (c, product) = (option.Component, problem.Products[option.Component]!);
        var jumps = problem.IsMixed(c, option.From)
            ? [option.Jump]
            : problem
                .Jumps[c]
                .Where(j =>
                    j.To.Equals(option.Jump.To)
                    && (
                        problem.IsAbsent(c, option.From)
                            ? j.FromNone
                            : j.LeadsFrom(problem.Versions[c][option.From], product.IsRelease)
                    )
                )
                .ToList();
        var serving = jumps.SelectMany(j => j.Methods.Where(m => _serving.Contains(m.Method))).ToList();
        if (serving.Count == 0)
            return $"jump {Listed(jumps.Select(j => j.Id))} is described by "
                + $"{Listed(jumps.SelectMany(j => j.Methods).Select(m => m.Method.Word()).Distinct())} "
                + $"only, by none of "
                + $"{Listed(_serving.Select(m => m.Word()))}";
        if (!problem.Request.Methods.IsDefaultOrEmpty && !serving.Any(m => problem.Request.Methods.Contains(m.Method)))
            return $"only {Listed(problem.Request.Methods.Select(m => m.Word()))} may be used";
        var others = _relaxed
            .Value.Options[c][option.From]
            .Where(o => o.To == option.To && serving.Contains(o.Figures));
        var refused = others.Where(o => o.Refused is not null).ToList();
        return refused.Count > 0
            ? refused[0].Refused!.What
            : $"{Listed(others.Select(o => o.Method.Word()).Distinct())} would take more by the criteria: "
                + $"{others.Min(o => o.OutageSeconds) / 60.0:0.#} outage min";
    }

    // The first thing that stands against taking one of them alone.
    private string Apart(MoveOption move, int[] before)
    {
        foreach (var option in move.Jumps.Where(o => o.From == before[o.Component]))
        {
            var state = before.ToArray();
            if (option.Together.Where(d => !d.IsMet(state[d.Component])).ToList() is [var tied, ..])
                return $"jump {option.Jump.Id} goes together with one of {Id(tied.Component)}";
            if (option.Requires.Where(d => !d.IsMet(state[d.Component])).ToList() is [var unmet, ..])
                return PathReasons.Unmet(problem, option, unmet.Component, state[unmet.Component]).What;
            state[option.Component] = option.To;
            foreach (var pair in problem.PairsOf[option.Component])
                if (!problem.MayStand(pair, state))
                    return $"{PathReasons.OfPair(problem, pair, state, problem.Judge(pair, state).Verdict).What}";
        }
        return "taken one by one they would pass a state that is not allowed";
    }

    private string Id(int component) => problem.Index.Components[component].Id;

    private static string Listed(IEnumerable<string> words)
    {
        var all = words.ToList();
        return all.Count < 2 ? string.Concat(all) : $"{string.Join(", ", all.SkipLast(1))} or {all[^1]}";
    }
}
