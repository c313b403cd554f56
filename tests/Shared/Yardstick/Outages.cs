namespace TideStep.Tests.Yardstick;

/// <summary>Who is out of service and when, by 3-planning (Moves and methods, Waves), told anew: every partition into
/// waves is tried.</summary>
/// <param name="outNow">Whether a member is out of service before the move.</param>
/// <param name="absent">Whether a component runs and has installed nothing.</param>
internal sealed class Outages(Drawn d, Func<int, int, bool> outNow, Func<int, bool> absent)
{
    private IEnumerable<(int C, int M)> On(string node)
    {
        for (var c = 0; c < d.Components.Count; c++)
        for (var m = 0; m < d.Components[c].Members.Count; m++)
            if (d.Components[c].Members[m].Node == node)
                yield return (c, m);
    }

    private bool Carries(int below, int above) =>
        d.Components[above]
            .Relations.Any(r => r.To == below && r.Touch is Touch.StandsOn or Touch.Inside && r.To == below);

    private HashSet<(int C, int M)> OutWith(IEnumerable<(int C, int M)> first, bool wholeNodes)
    {
        var found = new HashSet<(int C, int M)>(first);
        for (var grew = true; grew; )
        {
            grew = false;
            foreach (var (c, m) in found.ToList())
            foreach (var other in On(d.Components[c].Members[m].Node))
                if (wholeNodes || Carries(c, other.C))
                    grew |= found.Add(other);
        }
        return found;
    }

    private int Guard(int c)
    {
        var component = d.Components[c];
        return (component.Quorum ? component.Members.Count / 2 + 1 : component.Keep) + component.Margin;
    }

    private int Serving(int c, HashSet<(int, int)> gone) =>
        Enumerable.Range(0, d.Components[c].Members.Count).Count(m => !gone.Contains((c, m)) && !outNow(c, m));

    /// <summary>The components that are out while some are.</summary>
    public HashSet<int> Cascade(IEnumerable<int> first, Func<int, bool> wholeNodes)
    {
        var (down, gone) = (new HashSet<int>(first), new HashSet<(int, int)>());
        var origin = down.ToHashSet();
        for (var before = -1; before != down.Count + gone.Count; )
        {
            before = down.Count + gone.Count;
            foreach (var c in down.ToList())
            {
                var all = Enumerable.Range(0, d.Components[c].Members.Count).Select(m => (c, m));
                gone.UnionWith(OutWith(all, origin.Contains(c) && wholeNodes(c)));
                for (var o = 0; o < d.Components.Count; o++)
                    if (
                        !absent(o)
                        && d.Components[o]
                            .Relations.Any(r => r is { Touch: Touch.DependsOn, Optional: false } && r.To == c)
                    )
                        down.Add(o);
            }
            for (var c = 0; c < d.Components.Count; c++)
                if (gone.Any(g => g.Item1 == c && !outNow(g.Item1, g.Item2)))
                    if (Serving(c, gone) == 0 || Serving(c, gone) < Guard(c))
                        down.Add(c);
        }
        return down;
    }

    /// <summary>Whether two peers that may not be out together are.</summary>
    public bool PeersTogether(IReadOnlySet<int> down)
    {
        for (var a = 0; a < d.Components.Count; a++)
            foreach (var r in d.Components[a].Relations.Where(r => r is { Touch: Touch.Peer, Together: false }))
                if (down.Contains(a) && down.Contains(r.To))
                    return true;
        return false;
    }

    /// <summary>The least outage (in components times waves) and the fewest waves for that; null where no wave is
    /// possible.</summary>
    public (int Out, int Waves)? Roll(int c, List<int> members, bool wholeNodes, bool takesTime)
    {
        if (d.Components[c].Members.Count == 1)
            return null;
        var (outs, waves) = (0, 0);
        var component = d.Components[c];
        var groups = members.GroupBy(m =>
            (
                component.Members[m].Role,
                component.DomainsMatter ? component.Members[m].Domain ?? component.Members[m].Node : ""
            )
        );
        foreach (var group in groups)
        {
            (int Out, int Waves)? best = null;
            foreach (var partition in Partitions([.. group]))
            {
                var all = partition.Select(w => OfWave(c, w, wholeNodes)).ToList();
                if (all.Any(w => w is null))
                    continue;
                var one = (Out: takesTime ? all.Sum(w => w!.Value) : 0, Waves: all.Count);
                if (best is not { } known || one.CompareTo(known) < 0)
                    best = one;
            }
            if (best is not { } found)
                return null;
            (outs, waves) = (outs + found.Out, waves + found.Waves);
        }
        return (outs, waves);
    }

    // How many components a wave puts out, or null where it may not be.
    private int? OfWave(int c, List<int> wave, bool wholeNodes)
    {
        var gone = OutWith(wave.Select(m => (c, m)), wholeNodes);
        var fresh = gone.Where(g => !outNow(g.C, g.M)).ToList();
        foreach (var touched in fresh.Select(g => g.C).Distinct())
        {
            var size = d.Components[touched].Members.Count;
            if (Serving(touched, gone) < Math.Max(Guard(touched), size - d.Components[touched].AtOnce))
                return null;
        }
        var emptied = fresh.Select(g => g.C).Distinct().Where(o => Serving(o, gone) == 0).ToList();
        var down = Cascade(emptied, _ => false);
        return PeersTogether(down) ? null : down.Count;
    }

    private static IEnumerable<List<List<int>>> Partitions(List<int> members)
    {
        if (members.Count == 0)
        {
            yield return [];
            yield break;
        }
        foreach (var rest in Partitions(members[1..]))
        {
            yield return
            [
                [members[0]],
                .. rest,
            ];
            for (var i = 0; i < rest.Count; i++)
                yield return [.. rest[..i], [members[0], .. rest[i]], .. rest[(i + 1)..]];
        }
    }
}
