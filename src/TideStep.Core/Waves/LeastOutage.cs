using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>Waves of a few members such that the least outage comes of them, then the fewest waves, then the first by
/// the identifiers: components that are left without a member
/// share what depends on them when they go in one wave. Every way to part the members is tried, in the order of the
/// identifiers.</summary>
internal sealed class LeastOutage
{
    /// <summary>Parting more members would take too long; they go by the fewest waves.</summary>
    private const int MostMembers = 10;

    private readonly EstateIndex _index;
    private readonly (int Component, bool WholeNodes) _mover;
    private readonly ImmutableArray<Member> _members;
    private readonly int[][] _groups;
    private readonly int[] _limits;
    private readonly Dictionary<int, int> _outage = [];
    private readonly List<int> _waves = [];
    private (int Outage, int[] Waves)? _best;

    private LeastOutage(
        EstateIndex index,
        int component,
        bool wholeNodes,
        ImmutableArray<Member> members,
        Budget budget
    )
    {
        (_index, _mover, _members) = (index, (component, wholeNodes), members);
        _groups = [.. members.Select(budget.GroupsOf)];
        _limits = [.. Enumerable.Range(0, budget.GroupCount).Select(budget.WholeLimitOfGroup)];
    }

    /// <summary>The waves, or null where there are too many members or no wave is allowed.</summary>
    public static ImmutableArray<ImmutableArray<Member>>? Find(
        EstateIndex index,
        int component,
        bool wholeNodes,
        ImmutableArray<Member> members,
        Budget budget
    )
    {
        if (members.Length > MostMembers)
            return null;
        var search = new LeastOutage(index, component, wholeNodes, members, budget);
        search.Part(0, 0);
        return search._best is { } best ? [.. best.Waves.Select(w => search.MembersOf(w).ToImmutableArray())] : null;
    }

    private IEnumerable<Member> MembersOf(int wave) => _members.Where((_, i) => (wave >> i & 1) != 0);

    private void Part(int taken, int outage)
    {
        if (
            _best is { } best
            && (outage, _waves.Count) is var soFar
            && soFar.CompareTo((best.Outage, best.Waves.Length)) >= 0
        )
            return;
        var first = Enumerable.Range(0, _members.Length).FirstOrDefault(i => (taken >> i & 1) == 0, -1);
        if (first < 0)
        {
            _best = (outage, [.. _waves]);
            return;
        }
        Grow(taken, 1 << first, first + 1, outage);
    }

    // The shorter wave first, then by the next member: [a], [a, b], [a, b, c], [a, c].
    private void Grow(int taken, int wave, int from, int outage)
    {
        if (OutageOf(wave) is { } own)
        {
            _waves.Add(wave);
            Part(taken | wave, outage + own);
            _waves.RemoveAt(_waves.Count - 1);
        }
        for (var i = from; i < _members.Length; i++)
            if ((taken >> i & 1) == 0 && Fits(wave | 1 << i))
                Grow(taken, wave | 1 << i, i + 1, outage);
    }

    private bool Fits(int wave)
    {
        var used = new int[_limits.Length];
        for (var i = 0; i < _members.Length; i++)
            if ((wave >> i & 1) != 0)
                foreach (var g in _groups[i])
                    if (++used[g] > _limits[g])
                        return false;
        return true;
    }

    // How many components are out while this wave is; null where two peers among them must not be.
    private int? OutageOf(int wave)
    {
        if (!_outage.TryGetValue(wave, out var known))
        {
            var components = WavePlanner.ComponentsOut(_index, _mover.Component, MembersOf(wave), _mover.WholeNodes);
            _outage[wave] = known = Service.PeersTogether(_index, components) is null ? components.Count : -1;
        }
        return known < 0 ? null : known;
    }
}
