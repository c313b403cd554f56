namespace TideStep.Core.Paths;

/// <summary>What any path can make of two related components together. A path seen by two components alone is a walk
/// over their versions: one jumps, or both or several jumps in one outage,
/// and every state passed has to be allowed. So versions that no walk reaches no path ends at, and what a cheapest walk
/// sets aside any path has to set aside as well
/// (the projection of a path onto a pair; path consistency: Montanari 1974).</summary>
internal sealed class PairReach
{
    /// <summary>A place of a walk: what was set aside to come there, and from where.</summary>
    private sealed record Place(int Count, long Weight, (int A, int B)? From, List<Reason> Reasons);

    private readonly PathProblem _problem;
    private readonly bool _tolerant;
    private readonly Func<Reason, long> _weight;
    private readonly Dictionary<(int A, int B), Place?[,]> _walks = [];
    private readonly int[] _first;
    private readonly Dictionary<(int Component, int Version), int[]> _joint = [];

    /// <param name="problem">The problem.</param>
    /// <param name="weight">What a reason weighs among sets of one size; null where nothing may be set aside.</param>
    public PairReach(PathProblem problem, Func<Reason, long>? weight = null)
    {
        (_problem, _tolerant, _weight) = (problem, weight is not null, weight ?? (_ => 0));
        var firsts = new Dictionary<(int, int), int>();
        for (var p = 0; p < problem.Index.Pairs.Length; p++)
            firsts.TryAdd(Key(p), p);
        _first = [.. Enumerable.Range(0, problem.Index.Pairs.Length).Select(p => firsts[Key(p)])];
    }

    private (int A, int B) Key(int pair) =>
        (
            Math.Min(_problem.Index.Pairs[pair].A, _problem.Index.Pairs[pair].B),
            Math.Max(_problem.Index.Pairs[pair].A, _problem.Index.Pairs[pair].B)
        );

    /// <summary>Whether a walk reaches the versions of a pair in a state.</summary>
    public bool Reaches(int pair, int[] state) =>
        Key(pair) is var (a, b) && (state[a] < 0 || state[b] < 0 || Walks(a, b)[state[a], state[b]] is not null);

    /// <summary>How much has to be set aside for two components to come to their versions in a state and end there,
    /// said once for all their relations; null where no walk leads there.</summary>
    public (int Count, long Weight)? Price(int pair, int[] state)
    {
        if (_first[pair] != pair || !_problem.Meets(pair, state))
            return (0, 0);
        var (a, b) = Key(pair);
        if (state[a] < 0 || state[b] < 0)
            return Alone(pair, state) is { } reason ? (1, _weight(reason)) : (0, 0);
        if (Walks(a, b)[state[a], state[b]] is not { } place)
            return null;
        var atEnd = AtEnd(a, b, state);
        return (place.Count + atEnd.Count, place.Weight + atEnd.Sum(_weight));
    }

    /// <summary>What a cheapest walk sets aside.</summary>
    public IEnumerable<Reason> Reasons(int pair, int[] state)
    {
        if (_first[pair] != pair || !_problem.Meets(pair, state))
            yield break;
        var (a, b) = Key(pair);
        if (state[a] < 0 || state[b] < 0)
        {
            if (Alone(pair, state) is { } alone)
                yield return alone;
            yield break;
        }
        foreach (var reason in AtEnd(a, b, state))
            yield return reason;
        for (
            var at = Walks(a, b)[state[a], state[b]];
            at is not null;
            at = at.From is var (fromA, fromB) ? Walks(a, b)[fromA, fromB] : null
        )
            foreach (var reason in at.Reasons)
                yield return reason;
    }

    // Beside a component that could not be read there is no walk, only what stands.
    private Reason? Alone(int pair, int[] state) =>
        _problem.MayStandAtEnd(pair, state)
            ? null
            : PathReasons.OfPair(_problem, pair, state, _problem.Judge(pair, state).Verdict);

    // What may be stood at on the way, but not for good.
    private List<Reason> AtEnd(int a, int b, int[] state) =>
        [
            .. Between(a, b)
                .Where(p => _problem.MayStand(p, state) && !_problem.MayStandAtEnd(p, state))
                .Select(p => PathReasons.OfPair(_problem, p, state, _problem.Judge(p, state).Verdict)),
        ];

    private IEnumerable<int> Between(int a, int b) => _problem.PairsOf[a].Where(p => Key(p) == (a, b)).Distinct();

    private Place?[,] Walks(int a, int b) =>
        _walks.TryGetValue((a, b), out var known) ? known : _walks[(a, b)] = Walk(a, b);

    private Place?[,] Walk(int a, int b)
    {
        var found = new Place?[_problem.Versions[a].Length, _problem.Versions[b].Length];
        var between = Between(a, b).ToList();
        var state = _problem.Today.ToArray();
        var queue = new PriorityQueue<(int A, int B, Place Place), (int, long)>();
        queue.Enqueue((_problem.Today[a], _problem.Today[b], new Place(0, 0, null, [])), (0, 0));
        while (queue.TryDequeue(out var at, out _))
        {
            if (found[at.A, at.B] is not null)
                continue;
            found[at.A, at.B] = at.Place;
            foreach (var option in From(a, at.A))
                Step(at, option.To, at.B, option, b);
            foreach (var option in From(b, at.B))
                Step(at, at.A, option.To, option, a);
            if (!_problem.Request.Joint)
                continue;
            foreach (var nextA in Joint(a, at.A).Prepend(at.A))
            foreach (var nextB in Joint(b, at.B).Prepend(at.B))
                Step(at, nextA, nextB, null, -1);
        }
        return found;

        void Step((int A, int B, Place Place) from, int nextA, int nextB, Option? option, int other)
        {
            if (found[nextA, nextB] is not null)
                return;
            var reasons = new List<Reason>();
            if (option is not null)
                foreach (var (demanded, allowed) in option.Requires.Concat(option.Together))
                    if (demanded == other && (other == a ? from.A : from.B) is var its && !allowed[its])
                        reasons.Add(PathReasons.Unmet(_problem, option, other, its));
            (state[a], state[b]) = (nextA, nextB);
            foreach (var pair in between)
                if (!_problem.MayStand(pair, state))
                    reasons.Add(PathReasons.OfPair(_problem, pair, state, _problem.Judge(pair, state).Verdict));
            if (reasons.Count > 0 && !_tolerant)
                return;
            var place = new Place(
                from.Place.Count + reasons.Count,
                from.Place.Weight + reasons.Sum(_weight),
                (from.A, from.B),
                reasons
            );
            queue.Enqueue((nextA, nextB, place), (place.Count, place.Weight));
        }
    }

    private IEnumerable<Option> From(int c, int version)
    {
        if (_problem.Pinned.Contains(c) && !_tolerant)
            return [];
        var there = _problem.Options[c][version];
        return _tolerant && PathReasons.Missing(_problem, c, version, there) is { } missing
            ? there.Append(missing)
            : there;
    }

    // The versions that several jumps in one outage lead to.
    private int[] Joint(int c, int version)
    {
        if (_problem.IsMixed(c, version))
            return [];
        if (_joint.TryGetValue((c, version), out var known))
            return known;
        var (seen, queue) = (new HashSet<int>(), new Queue<int>([version]));
        while (queue.TryDequeue(out var at))
            foreach (var option in From(c, at))
                if (JointMoves.MayJoin(option) && seen.Add(option.To))
                    queue.Enqueue(option.To);
        return _joint[(c, version)] = [.. seen];
    }
}
