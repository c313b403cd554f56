using System.Globalization;

namespace TideStep.Tests.Yardstick;

/// <summary>The best path and its cost as the criteria of 3-planning give it.</summary>
/// <param name="Moves">The moves as criterion 12 writes them, with their methods and jumps.</param>
internal sealed record Right(string Moves, string Cost);

/// <summary>Walks every state of a tiny estate with everything that later costs depend on, and so knows the best path.
/// It shares nothing with the planner: no versions, no rules, no waves, no search.</summary>
internal sealed class Checker
{
    private const int Mixed = 100;
    private const int Absent = 101;
    private const int Unknown = -1;

    private sealed record Made(int C, DrawnJump Jump, DrawnWay Way);

    private sealed record Step(List<Made> Jumps, int[] After, long Outage, long Minutes);

    private sealed record Label(int[] State, long[] Cost, bool Closed, string Relied, string Turns, List<Step> Steps);

    private readonly Drawn _d;
    private readonly int[] _today;
    private readonly int[][] _found;
    private readonly int?[] _owed;
    private readonly bool[] _down;
    private readonly Dictionary<int, (bool[] Range, bool Ranked)> _goal = [];
    private readonly List<int> _ranked = [];
    private readonly int _most;

    private Checker(Drawn d, int most)
    {
        (_d, _most) = (d, most);
        var n = d.Components.Count;
        (_today, _found, _owed, _down) = (new int[n], new int[n][], new int?[n], new bool[n]);
        for (var c = 0; c < n; c++)
            Find(c);
        foreach (var (c, range, wish) in d.Goal)
        {
            if (wish == Wish.AtLeast && d.Components[c].Members.All(m => m.Running >= 0 && range[m.Running]))
                continue;
            _goal[c] = (range, wish == Wish.To);
            if (wish == Wish.To)
                _ranked.Add(c);
            if (_found[c].Length > 0)
            {
                var top = _found[c].Max();
                _down[c] = !range[top] && !Product(c).Versions.Where((v, i) => v.Known && range[i] && i > top).Any();
            }
        }
    }

    /// <summary>The best path, or null where there is none; or that it would take too long to know.</summary>
    public static (Right? Right, bool TooMany) Best(Drawn d, int most = 1_500)
    {
        var checker = new Checker(d, most);
        return checker.Walk();
    }

    private DrawnProduct Product(int c) => _d.Products[_d.Components[c].Product];

    private void Find(int c)
    {
        var members = _d.Components[c].Members;
        _found[c] = [.. members.Select(m => m.Running).Where(v => v >= 0).Distinct().Order()];
        var idle = members.Any(m => m.Running == -1 && m.Installed >= 0);
        var owed = members.Where(m => m.Running >= 0 && m.Installed >= 0 && m.Installed != m.Running).ToList();
        if (owed.Count > 0)
            _owed[c] = owed[0].Installed;
        _today[c] =
            members.All(m => m is { Running: -1, Installed: -1 }) ? Absent
            : _found[c].Length == 0 ? Unknown
            : _found[c].Length > 1 || idle || owed.Count > 0 ? Mixed
            : _found[c][0];
    }

    private IEnumerable<int> VersionsOf(int c, int at) => at == Mixed ? _found[c] : [at];

    private bool IsToday(int c, int v) => v == _today[c] || _found[c].Contains(v);

    private bool Runs(int at) => at is not (Absent or Unknown);

    // Who is out in a state: members that ran nothing are back once their component was settled or installed.
    private Outages OutagesIn(int[] state, int? own = null) =>
        new(
            _d,
            (c, m) =>
                _d.Components[c].Members[m] is var member
                && (!member.InService || (member.Running < 0 && (state[c] == _today[c]))),
            c => state[c] == Absent
        );

    private bool Met(int c, int at, bool[] range) => Runs(at) && VersionsOf(c, at).All(v => range[v]);

    private IEnumerable<int> Related(int c) =>
        Enumerable
            .Range(0, _d.Components.Count)
            .Where(o =>
                o != c
                && (_d.Components[c].Relations.Any(r => r.To == o) || _d.Components[o].Relations.Any(r => r.To == c))
            );

    private IEnumerable<DrawnJump> JumpsFrom(int c, int[] state)
    {
        var at = state[c];
        if (at == Unknown || _d.Pins.Contains(c))
            yield break;
        // Every owed restart that can be made comes before all else.
        if (
            Enumerable.Range(0, state.Length).Any(o => o != c && Owes(o) && state[o] == Mixed)
            && !(Owes(c) && at == Mixed)
        )
            yield break;
        bool Leads(DrawnJump j, int v) => !j.FromNone && j.From[v] && (j.Down ? j.To < v : j.To > v);
        var idle = _d.Components[c].Members.Where(m => m.Running == -1 && m.Installed >= 0).Select(m => m.Installed);
        foreach (var jump in Product(c).Jumps)
            if (
                at == Absent ? jump.FromNone
                : at != Mixed ? Leads(jump, at) && (!jump.Down || _down[c])
                : _owed[c] is { } due ? jump.To == due && Leads(jump, _found[c][0])
                : _found[c].Contains(jump.To)
                    && _found[c].Where(v => v != jump.To).Concat(idle).All(v => Leads(jump, v))
            )
                yield return jump;
    }

    private bool Owes(int c) =>
        _owed[c] is { } due
        && !_d.Pins.Contains(c)
        && Product(c)
            .Jumps.Any(j =>
                j.To == due && !j.FromNone && j.From[_found[c][0]] && (j.Down ? due < _found[c][0] : due > _found[c][0])
            );

    private bool Demanded(int c, DrawnJump jump, Func<int, bool[], bool> met) =>
        jump
            .Requires.Concat(jump.Together)
            .All(demand =>
                Related(c).Where(o => _d.Components[o].Product == demand.Product).All(o => met(o, demand.Range))
            );

    // ---- pairs

    private IEnumerable<(int A, int B, Touch Touch, bool Needs)> Pairs()
    {
        for (var a = 0; a < _d.Components.Count; a++)
            foreach (var r in _d.Components[a].Relations)
                yield return (a, r.To, r.Touch, r.Touch != Touch.Peer && !r.Optional);
    }

    private IEnumerable<(int Va, int Vb, Said Said)> Says((int A, int B, Touch Touch, bool Needs) p, int atA, int atB)
    {
        if (!Runs(atA))
            yield break;
        foreach (var va in VersionsOf(p.A, atA))
            if (Runs(atB))
                foreach (var vb in VersionsOf(p.B, atB))
                    yield return (va, vb, SaidOf(p.A, va, p.Touch, p.B, vb));
            else if (
                p.Needs && Verdicts.Speaks(_d, _d.Components[p.A].Product, va, p.Touch, _d.Components[p.B].Product)
            )
                yield return (va, atB, Said.Untested);
    }

    private readonly Dictionary<(int, int, Touch, int, int), Said> _said = [];

    private Said SaidOf(int a, int va, Touch touch, int b, int vb) =>
        _said.TryGetValue((a, va, touch, b, vb), out var known)
            ? known
            : _said[(a, va, touch, b, vb)] = Verdicts.Of(_d, a, va, touch, b, vb);

    private bool Inherited((int A, int B, Touch Touch, bool Needs) p, int va, int vb, Said said)
    {
        var (a, b) = (IsToday(p.A, va), IsToday(p.B, vb));
        if (a && b)
            return true;
        var today = Says(p, _today[p.A], _today[p.B]).Select(s => s.Said).ToList();
        return (a || b) && today.Count > 0 && said <= today.Max();
    }

    private bool Named(int a, int va, int b, int vb) =>
        _d.Allowed.Any(n =>
            (n.A == a && n.VersionA == va && n.B == b && n.VersionB == vb)
            || (n.A == b && n.VersionA == vb && n.B == a && n.VersionB == va)
        );

    private readonly Dictionary<(string, bool), bool> _may = [];

    private bool May(int[] state, bool ending)
    {
        var key = (string.Join(' ', state), ending);
        return _may.TryGetValue(key, out var known) ? known : _may[key] = MayAnew(state, ending);
    }

    private bool MayAnew(int[] state, bool ending)
    {
        foreach (var p in Pairs())
        foreach (var (va, vb, said) in Says(p, state[p.A], state[p.B]))
        {
            if (Inherited(p, va, vb, said) || said == Said.Supported)
                continue;
            if (said == Said.Transitional && !ending)
                continue;
            if (said == Said.Untested && (_d.AllowAll || Named(p.A, va, p.B, vb)))
                continue;
            return false;
        }
        return true;
    }

    private IEnumerable<string> Relies(int[] state)
    {
        foreach (var p in Pairs())
        foreach (var (va, vb, said) in Says(p, state[p.A], state[p.B]))
        {
            var (a, b) = (IsToday(p.A, va), IsToday(p.B, vb));
            if (said < Said.Untested || (a && b) || Named(p.A, va, p.B, vb))
                continue;
            yield return a || b ? $"{p.A}.{p.B}.{p.Touch}" : $"{p.A}.{p.B}.{p.Touch}.{va}.{vb}";
        }
    }

    private bool Tolerated(int[] state) =>
        Pairs().Any(p => Says(p, state[p.A], state[p.B]).Any(s => s.Said == Said.Transitional));

    // ---- moves

    private readonly Dictionary<string, List<Step>> _steps = [];

    private List<Step> Steps(int[] state)
    {
        var key = string.Join(' ', state);
        return _steps.TryGetValue(key, out var known) ? known : _steps[key] = [.. StepsAnew(state)];
    }

    private IEnumerable<Step> StepsAnew(int[] state)
    {
        for (var c = 0; c < state.Length; c++)
            foreach (var jump in JumpsFrom(c, state))
            {
                int[] after = [.. state];
                after[c] = jump.To;
                if (!Demanded(c, jump, (o, range) => Met(o, state[o], range)) || !May(after, false))
                    continue;
                foreach (var way in jump.Ways)
                    if (Single(c, state, jump, way) is var (outage, minutes))
                        yield return new Step([new Made(c, jump, way)], after, outage, minutes);
            }
        foreach (var set in Sets(state))
            if (!Apart(state, set))
                foreach (var made in Choices(set))
                    yield return Priced(state, made);
    }

    private (long, long)? Single(int c, int[] state, DrawnJump jump, DrawnWay way)
    {
        var component = _d.Components[c];
        // Its own members are back in service once they were settled.
        var outages = OutagesIn(state);
        var members = Enumerable.Range(0, component.Members.Count).ToList();
        if (state[c] == Mixed && _owed[c] is null)
            members = [.. members.Where(m => component.Members[m].Running != jump.To)];
        switch (way.Way)
        {
            case Way.Rolling or Way.TwoSlot:
                if (outages.Roll(c, members, jump.RestartsNode, way.Member > 0) is not var (outs, waves))
                    return null;
                return (outs * way.Member, (long)waves * (way.Member + way.Settle));
            case Way.Replace:
                var size =
                    component.Quorum || members.Any(m => component.Members[m].Role is not null) ? 1 : component.Spares;
                return (0, (long)((members.Count + size - 1) / size) * (way.Member + way.Settle));
            default:
                var install = way.Way == Way.SideBySide ? way.Install : 0;
                var takes = (long)install + way.Outage + way.Settle;
                if (state[c] == Absent)
                    return way.Way == Way.Offline ? (0, takes) : null;
                var down = outages.Cascade([c], _ => jump.RestartsNode);
                return outages.PeersTogether(down) ? null : (down.Count * way.Outage, takes);
        }
    }

    private Step Priced(int[] state, List<Made> made)
    {
        var (length, first, settle) = (0L, 0L, 0L);
        var installed = new HashSet<int>();
        foreach (var (c, _, way) in made)
        {
            length += way.Outage;
            settle = Math.Max(settle, way.Settle);
            if (way.Way == Way.SideBySide)
            {
                if (installed.Add(c))
                    first += way.Install;
                else
                    length += way.Install;
            }
        }
        var down = Down(state, [.. made.Select(m => (m.C, m.Jump))]);
        return new Step(
            made,
            After(state, [.. made.Select(m => (m.C, m.Jump))]),
            length * down.Count,
            length + first + settle
        );
    }

    private HashSet<int> Down(int[] state, List<(int C, DrawnJump Jump)> set) =>
        OutagesIn(state)
            .Cascade(set.Select(s => s.C).Where(c => state[c] != Absent).Distinct(), c =>
                set.Any(s => s.C == c && s.Jump.RestartsNode)
            );

    private static int[] After(int[] state, List<(int C, DrawnJump Jump)> set)
    {
        int[] after = [.. state];
        foreach (var (c, jump) in set)
            after[c] = jump.To;
        return after;
    }

    private static IEnumerable<List<Made>> Choices(List<(int C, DrawnJump Jump)> set)
    {
        IEnumerable<List<Made>> all =
        [
            [],
        ];
        foreach (var (c, jump) in set)
            all = all.SelectMany(made =>
                jump.Ways.Where(Joins).Select(way => (List<Made>)[.. made, new Made(c, jump, way)])
            );
        return all;
    }

    private static bool Joins(DrawnWay way) => way.Way is Way.Offline or Way.SideBySide;

    // ---- joint moves

    private readonly Dictionary<string, List<List<(int C, DrawnJump Jump)>>> _sets = [];
    private readonly Dictionary<string, List<int[]>> _singles = [];

    /// <summary>Every set of two or more jumps in one outage that may be, whether it can be taken apart or
    /// not.</summary>
    private List<List<(int C, DrawnJump Jump)>> Sets(int[] state)
    {
        var key = string.Join(' ', state);
        if (_sets.TryGetValue(key, out var known))
            return known;
        var all = new List<List<(int C, DrawnJump Jump)>> { new() };
        for (var c = 0; c < state.Length; c++)
        {
            var chains = Chains(c, state, [state[c]]).ToList();
            all = [.. all.SelectMany(set => chains.Select(chain => (List<(int, DrawnJump)>)[.. set, .. chain]))];
            if (all.Count > 800)
                throw new TooManyException();
        }
        return _sets[key] = [.. all.Where(set => set.Count > 1 && Whole(state, set))];
    }

    private IEnumerable<List<(int C, DrawnJump Jump)>> Chains(int c, int[] state, List<int> passed)
    {
        yield return [];
        if (state[c] == Mixed)
            yield break;
        foreach (var jump in JumpsFrom(c, state))
        {
            if (!jump.Ways.Any(Joins) || passed.Contains(jump.To))
                continue;
            int[] after = [.. state];
            after[c] = jump.To;
            foreach (var rest in Chains(c, after, [.. passed, jump.To]))
                yield return [(c, jump), .. rest];
        }
    }

    private bool Whole(int[] state, List<(int C, DrawnJump Jump)> set)
    {
        var after = After(state, set);
        var moving = set.Select(s => s.C).ToHashSet();
        var seen = new HashSet<int> { set[0].C };
        for (var grew = true; grew; )
            grew = moving.Any(c => !seen.Contains(c) && Related(c).Any(seen.Contains) && seen.Add(c));
        if (seen.Count < moving.Count)
            return false;
        foreach (var (c, jump) in set)
            if (
                !Demanded(c, jump, (o, range) =>
                    Met(o, state[o], range) || (moving.Contains(o) && Met(o, after[o], range))
                )
            )
                return false;
        return May(after, false) && !OutagesIn(state).PeersTogether(Down(state, set));
    }

    /// <summary>Whether moves of fewer jumps each lead to the same.</summary>
    private bool Apart(int[] start, List<(int C, DrawnJump Jump)> set)
    {
        var end = After(start, set);
        var ways = set.GroupBy(s => s.C)
            .ToDictionary(g => g.Key, g => (List<int>)[start[g.Key], .. g.Select(s => s.Jump.To)]);
        var (seen, queue) = (new HashSet<string>(), new Queue<int[]>([start]));
        while (queue.TryDequeue(out var now))
        {
            if (now.SequenceEqual(end))
                return true;
            if (!seen.Add(string.Join(' ', now)))
                continue;
            foreach (var c in ways.Keys)
            foreach (var jump in JumpsFrom(c, now))
            {
                var after = After(now, [(c, jump)]);
                if (
                    OnWay(start[c], ways[c], now[c], jump.To)
                    && Tied(start, now, c, jump)
                    && Demanded(c, jump, (o, range) => Met(o, now[o], range))
                    && May(after, false)
                    && jump.Ways.Any(way => Single(c, now, jump, way) is not null)
                )
                    queue.Enqueue(after);
            }
            foreach (var part in Sets(now).Where(p => p.Count < set.Count))
                if (part.All(p => Tied(start, now, p.C, p.Jump)) && AllOnWay(start, ways, now, part))
                    queue.Enqueue(After(now, part));
        }
        return false;
    }

    private static bool AllOnWay(
        int[] start,
        Dictionary<int, List<int>> ways,
        int[] now,
        List<(int C, DrawnJump Jump)> part
    )
    {
        int[] at = [.. now];
        foreach (var (c, jump) in part)
        {
            if (!ways.TryGetValue(c, out var way) || !OnWay(start[c], way, at[c], jump.To))
                return false;
            at[c] = jump.To;
        }
        return true;
    }

    private static bool OnWay(int start, List<int> way, int from, int to)
    {
        // What runs nothing lies below everything.
        var ranks = way.Select(v => v == Absent ? -1 : v).ToList();
        var (f, t) = (from == Absent ? -1 : from, to);
        var up = ranks.Zip(ranks.Skip(1)).All(p => p.First < p.Second);
        var down = ranks.Zip(ranks.Skip(1)).All(p => p.First > p.Second);
        // A first installation goes onwards to where its jumps lead, be that up or down from the first version.
        if (start == Absent && !up && ranks.Count > 2)
            down = ranks.Skip(1).Zip(ranks.Skip(2)).All(p => p.First > p.Second);
        if (up)
            return t > f && t <= ranks[^1];
        if (down)
            return start == Absent ? (f == -1 || t < f) && t >= ranks[^1] : t < f && t >= ranks[^1];
        var at = ranks.IndexOf(f);
        return at >= 0 && ranks.IndexOf(t, at + 1) >= 0;
    }

    // Jumps tied by 'together' are never apart: what was not in the range at the start must not have come there before.
    private bool Tied(int[] start, int[] now, int c, DrawnJump jump) =>
        jump.Together.All(demand =>
            Related(c)
                .Where(o => _d.Components[o].Product == demand.Product)
                .All(o => Met(o, start[o], demand.Range) || !Met(o, now[o], demand.Range))
        );

    // ---- the walk

    private (Right?, bool) Walk()
    {
        if (Holds())
            return (new Right("", ""), false);
        var queue = new PriorityQueue<Label, Label>(Comparer<Label>.Create((x, y) => Compare(x.Cost, y.Cost)));
        var known = new Dictionary<string, Label>();
        var start = new Label(_today, new long[Length], false, "", "", []);
        queue.Enqueue(start, start);
        known[Key(start)] = start;
        (Label Label, long[] Cost)? best = null;
        var looked = 0;
        try
        {
            while (queue.TryDequeue(out var label, out _))
            {
                if (!ReferenceEquals(known[Key(label)], label))
                    continue;
                if (best is { } so && label.Cost[0] > so.Cost[0])
                    break;
                if (++looked > _most)
                    return (null, true);
                if (End(label) is { } cost)
                    if (
                        best is not { } b
                        || Compare(cost, b.Cost) is var order
                            && (order < 0 || (order == 0 && Text(label.Steps, b.Label.Steps) < 0))
                    )
                        best = (label, cost);
                foreach (var step in Steps(label.State))
                {
                    var next = Next(label, step);
                    var key = Key(next);
                    if (known.TryGetValue(key, out var other))
                        if (
                            Compare(next.Cost, other.Cost) is var order
                            && (order > 0 || (order == 0 && Text(next.Steps, other.Steps) >= 0))
                        )
                            continue;
                    known[key] = next;
                    queue.Enqueue(next, next);
                }
            }
        }
        catch (TooManyException)
        {
            return (null, true);
        }
        return best is { } found
            ? (new Right(Written(found.Label.Steps), string.Join(',', found.Cost)), false)
            : (null, false);
    }

    private sealed class TooManyException : Exception;

    private static string Key(Label l) => $"{string.Join(' ', l.State)}|{l.Closed}|{l.Relied}|{l.Turns}";

    private string[] Words => [.. _d.Order.Concat(["others", "outage", "closing", "jumps", "minutes"]).Distinct()];

    private int Place(string word) => 2 + _ranked.Count + Array.IndexOf(Words, word);

    private int Loses => 1 + _ranked.Count;
    private int AfterClosing => 7 + _ranked.Count;
    private int Length => 10 + _ranked.Count + _d.Components.Count;

    private Label Next(Label label, Step step)
    {
        long[] cost = [.. label.Cost];
        var relied = label
            .Relied.Split(';', StringSplitOptions.RemoveEmptyEntries)
            .Union(Relies(step.After))
            .Order(StringComparer.Ordinal)
            .ToList();
        cost[0] = relied.Count;
        cost[Loses] += step.Jumps.Count(j => j.Jump.Loses);
        cost[Place("outage")] += step.Outage;
        var closes = step.Jumps.Count(j => j.Jump.Closes);
        cost[Place("closing")] += closes;
        cost[Place("jumps")] += step.Jumps.Count;
        cost[Place("minutes")] += step.Minutes;
        if (label.Closed)
            cost[AfterClosing] += step.Jumps.Count;
        if (Tolerated(step.After))
            cost[AfterClosing + 1]++;
        cost[^1] += label.Steps.Count(earlier => OutOfTurn(earlier, step));
        List<Step> steps = [.. label.Steps, step];
        var turns = steps.Select(Turns).Where(t => t.Length > 0).Order(StringComparer.Ordinal);
        return new Label(
            step.After,
            cost,
            label.Closed || closes > 0,
            string.Join(';', relied),
            string.Join(';', turns),
            steps
        );
    }

    private int TurnOf(int c) => _d.Components[c].Site == "s" ? 1 : 2;

    private bool OutOfTurn(Step earlier, Step later) =>
        earlier.Jumps.Any(e =>
            later.Jumps.Any(l => _d.Components[e.C].Product == _d.Components[l.C].Product && TurnOf(e.C) > TurnOf(l.C))
        );

    private string Turns(Step step) =>
        string.Join(
            ',',
            step.Jumps.GroupBy(j => _d.Components[j.C].Product)
                .Select(g => $"{g.Key}:{g.Max(j => TurnOf(j.C))}")
                .Order(StringComparer.Ordinal)
        );

    private List<int> BestFirst(int c, Func<int, bool> among) =>
        [
            .. Enumerable
                .Range(0, Product(c).Versions.Count)
                .Where(v => Product(c).Versions[v].Known && among(v))
                .OrderBy(v => Product(c).Versions[v].EndsIn < 0)
                .ThenBy(v => _d.Newest ? 0 : Product(c).Versions[v].Line)
                .ThenByDescending(v => v),
        ];

    private static int Rank(List<int> best, int v) => best.IndexOf(v) is >= 0 and var at ? at : best.Count;

    private bool InGoal(int c, int at)
    {
        if (_goal.TryGetValue(c, out var goal))
            return Runs(at) && at != Mixed && goal.Range[at];
        if (_d.SupportedIn is not null)
            return at == Absent
                || (Runs(at) && at != Mixed && Supported(at))
                || (at == Mixed && Stays(c) && _found[c].All(Supported));
        return at != Mixed || Stays(c);

        bool Supported(int v) =>
            Product(c).Versions[v] is { Known: true } its && (its.EndsIn ?? _d.SupportedIn) >= _d.SupportedIn;
    }

    // Found with members that run nothing, or with a restart owed and pinned, a component may stay as it is.
    private bool Stays(int c) =>
        (_found[c].Length == 1 && _owed[c] is null && !_goal.ContainsKey(c))
        || (_owed[c] is not null && (_d.Pins.Contains(c) || !Owes(c)));

    private bool Holds() =>
        Enumerable
            .Range(0, _today.Length)
            .All(c =>
                _goal.TryGetValue(c, out var goal)
                    ? _today[c] != Mixed
                        && InGoal(c, _today[c])
                        && (!goal.Ranked || Rank(BestFirst(c, v => goal.Range[v]), _today[c]) == 0)
                    : _d.SupportedIn is null || InGoal(c, _today[c])
            );

    private long[]? End(Label label)
    {
        for (var c = 0; c < label.State.Length; c++)
            if (!InGoal(c, label.State[c]))
                return null;
        if (label.Steps.Count > 0 && !May(label.State, true))
            return null;
        long[] cost = [.. label.Cost];
        for (var i = 0; i < _ranked.Count; i++)
            cost[1 + i] = Rank(BestFirst(_ranked[i], v => _goal[_ranked[i]].Range[v]), label.State[_ranked[i]]);
        for (var c = 0; c < label.State.Length; c++)
        {
            var at = label.State[c];
            if (!_goal.ContainsKey(c) && !IsToday(c, at))
                cost[Place("others")]++;
            if (!_ranked.Contains(c) && at != _today[c])
                cost[AfterClosing + 2 + c] = Rank(BestFirst(c, _ => true), at);
        }
        return cost;
    }

    private static int Compare(long[] a, long[] b)
    {
        for (var i = 0; i < a.Length; i++)
            if (a[i] != b[i])
                return a[i].CompareTo(b[i]);
        return 0;
    }

    private string Text(Step step) =>
        string.Join('+', step.Jumps.Select(j => $"{_d.Components[j.C].Id}@{Product(j.C).Versions[j.Jump.To].Label}"));

    private int Text(List<Step> a, List<Step> b)
    {
        for (var i = 0; i < Math.Min(a.Count, b.Count); i++)
            if (string.CompareOrdinal(Text(a[i]), Text(b[i])) is not 0 and var order)
                return order;
        if (a.Count != b.Count)
            return a.Count - b.Count;
        var (x, y) = (a.SelectMany(s => s.Jumps).ToList(), b.SelectMany(s => s.Jumps).ToList());
        for (var i = 0; i < x.Count; i++)
            if (x[i].Way.Way != y[i].Way.Way)
                return x[i].Way.Way - y[i].Way.Way;
        for (var i = 0; i < x.Count; i++)
            if (string.CompareOrdinal(x[i].Jump.Id, y[i].Jump.Id) is not 0 and var order)
                return order;
        return 0;
    }

    private string Written(List<Step> steps) =>
        string.Join(
            ' ',
            steps.Select(s =>
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{Text(s)}/{string.Join('+', s.Jumps.Select(j => $"{j.Way.Way}.{j.Jump.Id}"))}"
                )
            )
        );
}
