using Google.OrTools.Sat;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Waves;

namespace TideStep.Solver;

/// <summary>The problem of a path as a general solver takes it: which version each component is at after each of so
/// many moves. Written from 3-planning, apart from the planner's search.</summary>
internal sealed class PathModel
{
    private sealed record Option(int Component, int From, int To, long Seconds, long Outage, bool Closes);

    private readonly EstateIndex _index;
    private readonly CpModel _model = new();
    private readonly List<LinearExpr> _criteria = [];

    public PathModel(PathRequest request, int moves)
    {
        _index = request.Index;
        var products = _index.Components.Select(c => _index.Catalogue.Find(c.Product)!).ToArray();
        var versions = products.Select(p => p.Releases.Select(r => r.Version).ToArray()).ToArray();
        var today = _index
            .Components.Select(
                (c, i) => Array.FindIndex(versions[i], v => v.Label == _index.Readings.Of(c.Members[0]).Running)
            )
            .ToArray();
        var options = Enumerable
            .Range(0, products.Length)
            .SelectMany(c => OptionsOf(c, products[c], versions[c]))
            .ToList();
        var at = new BoolVar[moves + 1, products.Length][];
        for (var t = 0; t <= moves; t++)
        for (var c = 0; c < products.Length; c++)
        {
            at[t, c] = [.. versions[c].Select((v, i) => _model.NewBoolVar($"at {t} {c} {v}"))];
            _model.AddExactlyOne(at[t, c]);
            if (t == 0)
                _model.Add(at[0, c][today[c]] == 1);
        }
        var taken = new BoolVar[moves][];
        for (var t = 0; t < moves; t++)
        {
            taken[t] = [.. options.Select((_, i) => _model.NewBoolVar($"take {t} {i}"))];
            _model.AddAtMostOne(taken[t]);
            if (t > 0)
                _model.Add(LinearExpr.Sum(taken[t]) <= LinearExpr.Sum(taken[t - 1])); // nothing is taken after a pause
            for (var i = 0; i < options.Count; i++)
                _model.AddImplication(taken[t][i], at[t, options[i].Component][options[i].From]);
            for (var c = 0; c < products.Length; c++)
            for (var v = 0; v < versions[c].Length; v++)
            {
                var (into, outOf) = (
                    taken[t].Where((_, i) => options[i].Component == c && options[i].To == v),
                    taken[t].Where((_, i) => options[i].Component == c && options[i].From == v)
                );
                _model.Add(at[t + 1, c][v] == at[t, c][v] + LinearExpr.Sum(into) - LinearExpr.Sum(outOf));
            }
        }
        foreach (var pair in _index.Pairs)
            Forbid(pair, products, versions, today, at, moves);
        var goals = request
            .Goal.Items.Select(item => (Component: _index.NumberOf(item.Component!), item.Range))
            .ToList();
        foreach (var (c, range) in goals)
        {
            // Newest first within one line: the distance is how many releases of the range are newer.
            var inRange = Enumerable
                .Range(0, versions[c].Length)
                .Where(v =>
                    Core.Versions.VersionRange.TryParse(range, products[c].Scheme, out _)!
                        .Contains(versions[c][v], products[c].IsRelease)
                )
                .ToList();
            for (var v = 0; v < versions[c].Length; v++)
                if (!inRange.Contains(v))
                    _model.Add(at[moves, c][v] == 0);
            _criteria.Add(
                LinearExpr.WeightedSum(
                    inRange.Select(v => at[moves, c][v]),
                    inRange.Select(v => (long)inRange.Count(o => o > v))
                )
            );
        }
        var others = Enumerable.Range(0, products.Length).Where(c => goals.All(g => g.Component != c)).ToList();
        _criteria.Add(LinearExpr.Sum(others.Select(c => 1 - at[moves, c][today[c]])));
        _criteria.Add(Each(o => o.Outage));
        _criteria.Add(Each(o => o.Closes ? 1 : 0));
        _criteria.Add(Each(_ => 1));
        _criteria.Add(Each(o => o.Seconds));

        LinearExpr Each(Func<Option, long> cost) =>
            LinearExpr.WeightedSum(taken.SelectMany(t => t), taken.SelectMany(_ => options.Select(cost)));
    }

    /// <summary>The least values of criteria 2 to 7, one after another, or null where there is no path of so many
    /// moves.</summary>
    public List<long>? Solve()
    {
        var values = new List<long>();
        foreach (var criterion in _criteria)
        {
            _model.Minimize(criterion);
            var solver = new CpSolver();
            if (solver.Solve(_model) != CpSolverStatus.Optimal)
                return null;
            values.Add((long)Math.Round(solver.ObjectiveValue));
            _model.Add(criterion == values[^1]);
        }
        return values;
    }

    private IEnumerable<Option> OptionsOf(int c, Product product, Core.Versions.Version[] versions)
    {
        for (var from = 0; from < versions.Length; from++)
            foreach (var jump in product.Jumps.Where(j => !j.Down && j.LeadsFrom(versions[from], product.IsRelease)))
            foreach (var figures in jump.Methods)
            {
                var (to, closes) = (Array.IndexOf(versions, jump.To), jump.Closes is not null);
                if (figures.Method == Method.Rolling)
                {
                    if (WavePlanner.Plan(_index, c, false).Plan is { } waves)
                        yield return new Option(
                            c,
                            from,
                            to,
                            (long)(waves.Waves.Length * (figures.Member + figures.Settle)).TotalSeconds,
                            0,
                            closes
                        );
                }
                else
                {
                    var outside = Service.Cascade(_index, [c], _ => false);
                    yield return new Option(
                        c,
                        from,
                        to,
                        (long)(figures.Outage + figures.Settle).TotalSeconds,
                        (long)figures.Outage.TotalSeconds * outside.Count,
                        closes
                    );
                }
            }
    }

    // A pair that may not stand may stand in no state; one that is only tolerated not in the last. Today's are
    // inherited.
    private void Forbid(
        EstatePair pair,
        Product[] products,
        Core.Versions.Version[][] versions,
        int[] today,
        BoolVar[,][] at,
        int moves
    )
    {
        Verdict Of(int va, int vb) =>
            VerdictOf
                .Pair(products[pair.A], versions[pair.A][va], products[pair.B], versions[pair.B][vb], pair.Kind)
                .Verdict;
        var now = Of(today[pair.A], today[pair.B]);
        for (var va = 0; va < versions[pair.A].Length; va++)
        for (var vb = 0; vb < versions[pair.B].Length; vb++)
        {
            var (verdict, stays) = (Of(va, vb), (va == today[pair.A] ? 1 : 0) + (vb == today[pair.B] ? 1 : 0));
            if (stays == 2 || (stays == 1 && verdict <= now) || verdict == Verdict.Supported)
                continue;
            for (var t = verdict == Verdict.Transitional ? moves : 0; t <= moves; t++)
                _model.AddBoolOr([at[t, pair.A][va].Not(), at[t, pair.B][vb].Not()]);
        }
    }
}
