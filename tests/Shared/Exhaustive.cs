using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Estates;
using Version = TideStep.Core.Versions.Version;

namespace TideStep.Tests;

/// <summary>A yardstick that shares no search code with the planner: it walks every sequence of moves, joint ones
/// included, on a tiny estate and keeps the best.</summary>
internal sealed class Exhaustive(EstateIndex index, Goal goal, bool joint = true)
{
    private sealed record Taken(int Component, Version To, Jump Jump, Method Method);

    /// <summary>A move: its jumps by component, each one's in their sequence.</summary>
    private sealed record Step(List<Taken> Jumps)
    {
        public string Text(EstateIndex index) =>
            string.Join("+", Jumps.Select(j => $"{index.Components[j.Component].Id}@{j.To}"));
    }

    private readonly Version[] _today =
    [
        .. index.Components.Select(c =>
            index.Catalogue.Find(c.Product)!.Scheme.TryParse(index.Readings.Of(c.Members[0]).Running!)!
        ),
    ];
    private readonly Dictionary<string, List<Step>> _joints = [];
    private (List<long> Cost, List<Step> Steps)? _best;

    /// <summary>The best sequence as text with its criteria (1, 2, ... 10), or null where no sequence reaches the
    /// goal.</summary>
    public static (string Path, string Criteria)? Best(EstateIndex index, Goal goal, bool joint = true)
    {
        var search = new Exhaustive(index, goal, joint);
        search.Walk([], search._today);
        if (search._best is not { } best)
            return null;
        return (
            string.Join(
                " ",
                best.Steps.Select(s =>
                    $"{s.Text(index)}/{string.Join("+", s.Jumps.Select(j => $"{j.Method}.{j.Jump.Id}"))}"
                )
            ),
            string.Join(",", best.Cost)
        );
    }

    private Product ProductOf(int c) => index.Catalogue.Find(index.Components[c].Product)!;

    private void Walk(List<Step> steps, Version[] state)
    {
        if (Ends(steps, state) is { } cost && (_best is null || Before(cost, steps)))
            _best = (cost, [.. steps]);
        foreach (var step in Singles(state).Concat(joint ? Joints(state, int.MaxValue) : []))
        {
            steps.Add(step);
            Walk(steps, After(state, step.Jumps));
            steps.RemoveAt(steps.Count - 1);
        }
    }

    private static Version[] After(Version[] state, IEnumerable<Taken> jumps)
    {
        var next = (Version[])state.Clone();
        foreach (var jump in jumps)
            next[jump.Component] = jump.To;
        return next;
    }

    private IEnumerable<Taken> JumpsOf(int c, Version from)
    {
        foreach (var jump in ProductOf(c).Jumps)
            if (!jump.Down && jump.From.Contains(from, ProductOf(c).IsRelease) && jump.To > from)
                foreach (var method in jump.Methods)
                    if (method.Method != Method.Rolling || index.Components[c].Members.Length > 1)
                        yield return new Taken(c, jump.To, jump, method.Method);
    }

    private List<Step> Singles(Version[] state) =>
        [
            .. Enumerable
                .Range(0, state.Length)
                .SelectMany(c => JumpsOf(c, state[c]))
                .Where(t => Demanded(state, [t]) && Allowed(After(state, [t]), ending: false))
                .Select(t => new Step([t])),
        ];

    /// <summary>All joint moves that can't be taken apart, tried one set after another, the smaller first.</summary>
    private List<Step> Joints(Version[] state, int most)
    {
        if (most < 2)
            return [];
        var key = $"{most} {string.Join(' ', state.Select(v => v.Label))}";
        if (_joints.TryGetValue(key, out var known))
            return known;
        var all = new List<List<Taken>> { new() };
        for (var c = 0; c < state.Length; c++)
            all = [.. all.SelectMany(set => Chains(c, state[c]).Select(chain => set.Concat(chain).ToList()))];
        var whole = all.Where(set =>
                set.Count > 1
                && set.Count <= most
                && Connected(set)
                && Demanded(state, set)
                && Allowed(After(state, set), ending: false)
            )
            .ToList();
        return _joints[key] = [
            .. whole.Where(set => !Reaches(state, After(state, set), set.Count, [])).Select(set => new Step(set)),
        ];
    }

    private IEnumerable<List<Taken>> Chains(int c, Version from)
    {
        yield return [];
        foreach (var taken in JumpsOf(c, from))
            if (taken.Method is Method.Offline or Method.SideBySide)
                foreach (var rest in Chains(c, taken.To))
                    yield return [taken, .. rest];
    }

    private bool Connected(List<Taken> set)
    {
        var components = set.Select(t => t.Component).ToHashSet();
        var seen = new HashSet<int> { components.First() };
        for (var grew = true; grew; )
        {
            grew = false;
            foreach (var pair in index.Pairs)
                if (
                    components.Contains(pair.A)
                    && components.Contains(pair.B)
                    && seen.Contains(pair.A) != seen.Contains(pair.B)
                )
                    grew = seen.Add(pair.A) | seen.Add(pair.B);
        }
        return seen.Count == components.Count;
    }

    // Whether moves of fewer jumps each lead from one state to the other, no component passing its last version.
    private bool Reaches(Version[] state, Version[] end, int jumps, HashSet<string> seen)
    {
        if (state.SequenceEqual(end))
            return true;
        if (!seen.Add(string.Join(' ', state.Select(v => v.Label))))
            return false;
        return Singles(state)
            .Where(_ => jumps > 1)
            .Concat(Joints(state, jumps - 1))
            .Select(s => After(state, s.Jumps))
            .Where(next => Enumerable.Range(0, next.Length).All(c => next[c] <= end[c]))
            .Any(next => Reaches(next, end, jumps, seen));
    }

    private bool Demanded(Version[] state, List<Taken> set)
    {
        var after = After(state, set);
        bool Moves(int c) => set.Any(t => t.Component == c);
        foreach (var taken in set)
        foreach (var o in Neighbours(taken.Component))
        {
            bool In(Requirement r, Version v) => r.Range.Contains(v, ProductOf(o).IsRelease);
            foreach (var r in taken.Jump.Requires.Where(r => r.Product == index.Components[o].Product))
                if (!In(r, state[o]) && !(Moves(o) && In(r, after[o])))
                    return false;
            foreach (var r in taken.Jump.Together.Where(r => r.Product == index.Components[o].Product))
                if (!In(r, state[o]) && !(Moves(o) && In(r, after[o])))
                    return false;
        }
        return true;
    }

    private IEnumerable<int> Neighbours(int c) =>
        index.Pairs.Where(p => p.A == c || p.B == c).Select(p => p.A == c ? p.B : p.A);

    private PairVerdict Judge(EstatePair p, Version[] state) =>
        VerdictOf.Pair(ProductOf(p.A), state[p.A], ProductOf(p.B), state[p.B], p.Kind);

    private bool Inherited(EstatePair p, Version[] state)
    {
        var (a, b) = (state[p.A].Equals(_today[p.A]), state[p.B].Equals(_today[p.B]));
        return (a && b) || ((a || b) && Judge(p, state).Verdict <= Judge(p, _today).Verdict);
    }

    private bool Allowed(Version[] state, bool ending) =>
        index.Pairs.All(p =>
            Inherited(p, state)
            || Judge(p, state).Verdict <= (ending ? Verdict.Supported : Verdict.Transitional)
            || (goal.AllowUntested && Judge(p, state).Verdict == Verdict.Untested)
        );

    private List<long>? Ends(List<Step> steps, Version[] state)
    {
        if (steps.Count > 0 && !Allowed(state, ending: true))
            return null;
        var cost = new List<long> { 0 };
        foreach (var item in goal.Items)
        {
            var c = index.NumberOf(item.Component!);
            var range = TideStep.Core.Versions.VersionRange.TryParse(item.Range, ProductOf(c).Scheme, out _)!;
            if (!range.Contains(state[c], ProductOf(c).IsRelease))
                return null;
            cost.Add(
                ProductOf(c)
                    .Releases.Count(r => range.Contains(r.Version, ProductOf(c).IsRelease) && r.Version > state[c])
            );
        }
        var named = goal.Items.Select(i => index.NumberOf(i.Component!)).ToHashSet();
        long outage = 0,
            closing = 0,
            minutes = 0,
            after = 0,
            transitional = 0;
        var walked = (Version[])_today.Clone();
        var relied = new HashSet<(EstatePair, string, string)>();
        foreach (var step in steps)
        {
            if (closing > 0)
                after += step.Jumps.Count;
            closing += step.Jumps.Count(j => j.Jump.Closes is not null);
            var (outages, takes) = Times(step);
            (outage, minutes) = (outage + outages, minutes + takes);
            walked = After(walked, step.Jumps);
            if (index.Pairs.Any(p => Judge(p, walked).Verdict == Verdict.Transitional))
                transitional++;
            foreach (var p in index.Pairs)
                if (Judge(p, walked).Verdict == Verdict.Untested && !Inherited(p, walked))
                    relied.Add((p, walked[p.A].Label, walked[p.B].Label));
        }
        cost[0] = relied.Count;
        var middle = new Dictionary<string, long>
        {
            ["others"] = Enumerable
                .Range(0, state.Length)
                .Count(c => !named.Contains(c) && !state[c].Equals(_today[c])),
            ["outage"] = outage,
            ["closing"] = closing,
            ["jumps"] = steps.Sum(s => s.Jumps.Count),
            ["minutes"] = minutes,
        };
        cost.AddRange(goal.Order.Concat(GoalDocument.OrderWords).Distinct().Select(w => middle[w]));
        cost.AddRange([after, transitional]);
        for (var c = 0; c < state.Length; c++)
            if (!named.Contains(c))
                cost.Add(state[c].Equals(_today[c]) ? 0 : ProductOf(c).Releases.Count(r => r.Version > state[c]));
        return cost;
    }

    private (long Outage, long Takes) Times(Step step)
    {
        var components = step.Jumps.Select(j => j.Component).ToHashSet();
        if (step.Jumps[0].Method == Method.Rolling)
        {
            var rolling = step.Jumps[0].Jump.By(Method.Rolling)!;
            return (
                0,
                (long)
                    (
                        index.Components[components.First()].Members.Length * (rolling.Member + rolling.Settle)
                    ).TotalSeconds
            );
        }
        var (length, first, settle) = (0.0, 0.0, 0.0);
        foreach (var c in components)
        {
            var installs = step
                .Jumps.Where(j => j.Component == c && j.Method == Method.SideBySide)
                .Select(j => j.Jump.By(j.Method)!.Install.TotalSeconds)
                .ToList();
            (first, length) = (first + installs.FirstOrDefault(), length + installs.Skip(1).Sum());
        }
        foreach (var jump in step.Jumps)
            (length, settle) = (
                length + jump.Jump.By(jump.Method)!.Outage.TotalSeconds,
                Math.Max(settle, jump.Jump.By(jump.Method)!.Settle.TotalSeconds)
            );
        return ((long)length * Dependants(components).Count, (long)(length + first + settle));
    }

    private HashSet<int> Dependants(HashSet<int> found)
    {
        for (var grew = true; grew; )
        {
            grew = false;
            for (var o = 0; o < index.Components.Length; o++)
                if (
                    index
                        .Components[o]
                        .Relations.Any(r => r.Kind == RelationKind.DependsOn && found.Contains(index.NumberOf(r.To)))
                )
                    grew |= found.Add(o);
        }
        return found;
    }

    private bool Before(List<long> cost, List<Step> steps)
    {
        var (other, others) = _best!.Value;
        for (var i = 0; i < cost.Count; i++)
            if (cost[i] != other[i])
                return cost[i] < other[i];
        string Text(List<Step> s, int at) => at < s.Count ? s[at].Text(index) : "";
        for (var i = 0; i < Math.Max(steps.Count, others.Count); i++)
            if (string.CompareOrdinal(Text(steps, i), Text(others, i)) is var order and not 0)
                return order < 0;
        var (mine, theirs) = (steps.SelectMany(s => s.Jumps).ToList(), others.SelectMany(s => s.Jumps).ToList());
        for (var i = 0; i < mine.Count; i++)
            if (mine[i].Method != theirs[i].Method)
                return mine[i].Method < theirs[i].Method;
        for (var i = 0; i < mine.Count; i++)
            if (string.CompareOrdinal(mine[i].Jump.Id, theirs[i].Jump.Id) is var order and not 0)
                return order < 0;
        return false;
    }
}
