using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>The members of one role and domain in the fewest waves, and among those the first by the members' identifiers.</summary>
internal static class Partition
{
    /// <summary>How many places the exact search may look at before the first fitting answer is taken.</summary>
    private const int SearchLimit = 50_000;

    public static (ImmutableArray<ImmutableArray<Member>> Waves, int LowerBound) Fewest(ImmutableArray<Member> members, Budget budget)
    {
        var groups = members.Select(budget.GroupsOf).ToArray();
        var bound = LowerBound(Enumerable.Range(0, members.Length), groups, budget);
        var laminar = IsLaminar(groups, budget.GroupCount);
        for (var count = Math.Max(1, bound); ; count++)
        {
            var search = new Search(groups, budget, laminar);
            if (search.Find(count) is { } found) return ([.. found.Select(w => w.Select(i => members[i]).ToImmutableArray())], bound);
        }
    }

    private static int LowerBound(IEnumerable<int> members, int[][] groups, Budget budget)
    {
        var counts = new int[budget.GroupCount];
        foreach (var m in members) foreach (var g in groups[m]) counts[g]++;
        var bound = 0;
        for (var g = 0; g < counts.Length; g++) bound = Math.Max(bound, (counts[g] + budget.LimitOfGroup(g) - 1) / Math.Max(1, budget.LimitOfGroup(g)));
        return bound;
    }

    // Groups nested in or apart from each other can be dealt out in turn (contiguous blocks, round robin), so that counting
    // alone decides whether they fit; groups that cross need a search.
    private static bool IsLaminar(int[][] groups, int count)
    {
        var sets = Enumerable.Range(0, count).Select(_ => new HashSet<int>()).ToArray();
        for (var m = 0; m < groups.Length; m++) foreach (var g in groups[m]) sets[g].Add(m);
        var seen = new HashSet<(int, int)>();
        foreach (var own in groups)
            foreach (var a in own)
                foreach (var b in own)
                    if (a < b && seen.Add((a, b)) && !sets[a].IsSubsetOf(sets[b]) && !sets[b].IsSubsetOf(sets[a])) return false;
        return true;
    }

    private sealed class Search(int[][] groups, Budget budget, bool laminar)
    {
        private int _looked;

        public List<List<int>>? Find(int waves)
        {
            var found = new List<List<int>>();
            return Cover([.. Enumerable.Range(0, groups.Length)], waves, found) ? found : null;
        }

        private bool Cover(List<int> rest, int waves, List<List<int>> found)
        {
            if (rest.Count == 0) return true;
            if (waves == 0 || !CouldFit(rest, waves)) return false;
            var wave = new List<int> { rest[0] };
            var used = new int[budget.GroupCount];
            foreach (var g in groups[rest[0]]) used[g]++;
            if (Grow(rest, 1, wave, used, waves, found)) return true;
            return false;
        }

        // The shortest first: [a] comes before [a, b], and [a, b] before [a, c].
        private bool Grow(List<int> rest, int from, List<int> wave, int[] used, int waves, List<List<int>> found)
        {
            if (++_looked > SearchLimit && !laminar) return GrowGreedily(rest, from, wave, used, waves, found);
            var left = rest.Where(m => !wave.Contains(m)).ToList();
            if (CouldFit(left, waves - 1))
            {
                var mark = found.Count;
                found.Add([.. wave]);
                if (Cover(left, waves - 1, found)) return true;
                found.RemoveRange(mark, found.Count - mark);
            }
            for (var i = from; i < rest.Count; i++)
            {
                var candidate = rest[i];
                if (groups[candidate].Any(g => used[g] >= budget.LimitOfGroup(g))) continue;
                foreach (var g in groups[candidate]) used[g]++;
                wave.Add(candidate);
                if (Grow(rest, i + 1, wave, used, waves, found)) return true;
                wave.RemoveAt(wave.Count - 1);
                foreach (var g in groups[candidate]) used[g]--;
            }
            return false;
        }

        private bool GrowGreedily(List<int> rest, int from, List<int> wave, int[] used, int waves, List<List<int>> found)
        {
            var taken = new List<int>(wave);
            var mine = (int[])used.Clone();
            for (var i = from; i < rest.Count; i++)
            {
                if (groups[rest[i]].Any(g => mine[g] >= budget.LimitOfGroup(g))) continue;
                foreach (var g in groups[rest[i]]) mine[g]++;
                taken.Add(rest[i]);
            }
            var mark = found.Count;
            found.Add(taken);
            if (Cover([.. rest.Where(m => !taken.Contains(m))], waves - 1, found)) return true;
            found.RemoveRange(mark, found.Count - mark);
            return false;
        }

        private bool CouldFit(List<int> rest, int waves) => rest.Count == 0 || (waves > 0 && LowerBound(rest, groups, budget) <= waves);
    }
}
