namespace TideStep.Core.Waves;

/// <summary>Members whose groups lie within or apart from each other (a laminar family). Such groups can always be
/// dealt out evenly over the waves,
/// so that counting alone decides whether what is left fits into so many waves, and the first wave by the identifiers
/// is found without any search.</summary>
internal sealed class NestedGroups
{
    private readonly int[] _limits;
    private readonly int[] _parent;
    private readonly int[] _innerFirst;
    private readonly int[] _own; // per member the innermost of its groups, or -1
    private readonly int[] _left;

    private NestedGroups(int[] limits, int[] parent, int[] innerFirst, int[] own, int[] counts)
    {
        (_limits, _parent, _innerFirst, _own, _left) = (limits, parent, innerFirst, own, [.. counts]);
        _least = new int[limits.Length];
        _most = new int[limits.Length];
    }

    private readonly int[] _least;
    private readonly int[] _most;

    /// <summary>The groups as a tree, or null where two of them cross.</summary>
    public static NestedGroups? Of(int[][] groups, int[] limits)
    {
        var counts = new int[limits.Length];
        foreach (var own in groups)
        foreach (var g in own)
            counts[g]++;
        // Of a member's groups each must hold all of the smaller ones; so all its members agree on what is around it.
        var parent = Enumerable.Repeat(-2, limits.Length).ToArray();
        var innermost = new int[groups.Length];
        for (var m = 0; m < groups.Length; m++)
        {
            var chain = groups[m].OrderBy(g => counts[g]).ThenBy(g => g).ToArray();
            innermost[m] = chain.Length == 0 ? -1 : chain[0];
            for (var i = 0; i < chain.Length; i++)
            {
                var around = i + 1 < chain.Length ? chain[i + 1] : -1;
                if (parent[chain[i]] != -2 && parent[chain[i]] != around)
                    return null;
                parent[chain[i]] = around;
            }
        }
        return new NestedGroups(
            limits,
            parent,
            [.. Enumerable.Range(0, limits.Length).Where(g => counts[g] > 0).OrderBy(g => counts[g]).ThenBy(g => g)],
            innermost,
            counts
        );
    }

    /// <summary>The members in so many waves, the first such by the members' places; null where they do not
    /// fit.</summary>
    public List<List<int>>? Deal(int waves)
    {
        var left = _left.ToArray();
        var taken = new bool[_own.Length];
        var open = new int[_limits.Length];
        if (!Fits(left, waves))
            return null;
        var found = new List<List<int>>();
        for (var rest = _own.Length; rest > 0; waves--)
        {
            var wave = new List<int>();
            var used = new int[_limits.Length];
            // What may still join: members not taken and not passed over.
            Array.Clear(open);
            for (var m = 0; m < _own.Length; m++)
                if (!taken[m])
                    Count(open, _own[m], +1, direct: true);
            for (var m = 0; m < _own.Length && !(wave.Count > 0 && Fits(left, waves - 1)); m++)
            {
                if (taken[m])
                    continue;
                Count(open, _own[m], -1, direct: true);
                Count(used, _own[m], +1);
                Count(left, _own[m], -1);
                taken[m] = wave.Count == 0 || CanBeCompleted(left, used, open, waves - 1);
                if (taken[m])
                {
                    wave.Add(m);
                    continue;
                }
                Count(used, _own[m], -1);
                Count(left, _own[m], +1);
            }
            rest -= wave.Count;
            found.Add(wave);
        }
        return found;
    }

    private void Count(int[] counts, int group, int by, bool direct = false)
    {
        for (var g = group; g >= 0; g = direct ? -1 : _parent[g])
            counts[g] += by;
    }

    private bool Fits(int[] left, int waves)
    {
        foreach (var g in _innerFirst)
            if (left[g] > (long)waves * _limits[g])
                return false;
        return true;
    }

    // From the innermost group outwards: how many must and how many may still join this wave, so that neither it nor
    // the later ones break a limit.
    private bool CanBeCompleted(int[] left, int[] used, int[] open, int later)
    {
        foreach (var g in _innerFirst)
            (_least[g], _most[g]) = (0, open[g]);
        foreach (var g in _innerFirst)
        {
            var least = Math.Max(_least[g], left[g] - (long)later * _limits[g]);
            var most = Math.Min(_most[g], _limits[g] - used[g]);
            if (least > most)
                return false;
            if (_parent[g] < 0)
                continue;
            _least[_parent[g]] += (int)least;
            _most[_parent[g]] += most;
        }
        return true;
    }
}
