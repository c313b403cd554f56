using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>The members of one role and domain in the fewest waves, and among those the first by the members'
/// identifiers.</summary>
internal static class Partition
{
    /// <summary>How many places the exact search may look at before the first fitting answer is taken.</summary>
    private const int SearchLimit = 50_000;

    public static (ImmutableArray<ImmutableArray<Member>> Waves, int LowerBound) Fewest(
        ImmutableArray<Member> members,
        Budget budget
    )
    {
        var groups = members.Select(budget.GroupsOf).ToArray();
        var limits = Enumerable.Range(0, budget.GroupCount).Select(budget.LimitOfGroup).ToArray();
        var bound = LowerBound(groups, limits);
        var tree = NestedGroups.Of(groups, limits);
        for (var count = Math.Max(1, bound); ; count++)
        {
            var found = tree is not null ? tree.Deal(count) : new Search(groups, limits).Find(count);
            if (found is not null)
                return ([.. found.Select(w => w.Select(i => members[i]).ToImmutableArray())], bound);
        }
    }

    private static int LowerBound(int[][] groups, int[] limits)
    {
        var counts = new int[limits.Length];
        foreach (var own in groups)
        foreach (var g in own)
            counts[g]++;
        var bound = 0;
        for (var g = 0; g < counts.Length; g++)
            bound = Math.Max(bound, (counts[g] + limits[g] - 1) / Math.Max(1, limits[g]));
        return bound;
    }

    /// <summary>Groups that cross each other need a search: the shortest waves first, [a] before [a, b], and [a, b]
    /// before [a, c].</summary>
    private sealed class Search
    {
        private readonly int[][] _groups;
        private readonly int[] _limits;
        private readonly int[] _left;
        private readonly bool[] _taken;
        private readonly List<List<int>> _found = [];
        private int _looked;

        public Search(int[][] groups, int[] limits)
        {
            (_groups, _limits, _left, _taken) = (groups, limits, new int[limits.Length], new bool[groups.Length]);
            foreach (var own in groups)
            foreach (var g in own)
                _left[g]++;
        }

        public List<List<int>>? Find(int waves) => Cover(waves) ? _found : null;

        private bool Cover(int waves)
        {
            var first = Array.IndexOf(_taken, false);
            if (first < 0)
                return true;
            if (waves == 0 || !CouldFit(waves))
                return false;
            var wave = new List<int>();
            var used = new int[_limits.Length];
            Take(first, wave, used);
            if (Grow(first + 1, wave, used, waves))
                return true;
            Leave(wave, used);
            return false;
        }

        private void Take(int member, List<int> wave, int[] used)
        {
            wave.Add(member);
            _taken[member] = true;
            foreach (var g in _groups[member])
            {
                used[g]++;
                _left[g]--;
            }
        }

        private void Leave(List<int> wave, int[] used)
        {
            var member = wave[^1];
            wave.RemoveAt(wave.Count - 1);
            _taken[member] = false;
            foreach (var g in _groups[member])
            {
                used[g]--;
                _left[g]++;
            }
        }

        private bool Grow(int from, List<int> wave, int[] used, int waves)
        {
            if (++_looked > SearchLimit)
                return GrowGreedily(from, wave, used, waves);
            if (CouldFit(waves - 1) && Close(wave, waves))
                return true;
            for (var i = from; i < _groups.Length; i++)
            {
                if (_taken[i] || !HasRoom(i, used))
                    continue;
                Take(i, wave, used);
                if (Grow(i + 1, wave, used, waves))
                    return true;
                Leave(wave, used);
            }
            return false;
        }

        private bool Close(List<int> wave, int waves)
        {
            _found.Add([.. wave]);
            if (Cover(waves - 1))
                return true;
            _found.RemoveAt(_found.Count - 1);
            return false;
        }

        private bool GrowGreedily(int from, List<int> wave, int[] used, int waves)
        {
            var had = wave.Count;
            for (var i = from; i < _groups.Length; i++)
                if (!_taken[i] && HasRoom(i, used))
                    Take(i, wave, used);
            if (Close(wave, waves))
                return true;
            while (wave.Count > had)
                Leave(wave, used);
            return false;
        }

        private bool HasRoom(int member, int[] used)
        {
            foreach (var g in _groups[member])
                if (used[g] >= _limits[g])
                    return false;
            return true;
        }

        private bool CouldFit(int waves)
        {
            for (var g = 0; g < _left.Length; g++)
                if (_left[g] > (long)waves * _limits[g])
                    return false;
            return true;
        }
    }
}
