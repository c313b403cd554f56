using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>What must stay in service of a component, and what goes out when members or a component are out
/// (3-planning).</summary>
public static class Service
{
    /// <summary>The guard with its margin, whatever <c>at-once</c> says: members of all, or of the voting ones under a
    /// quorum.</summary>
    public static int GuardOf(EstateIndex index, int component)
    {
        var c = index.Components[component];
        return c.Guard.Needed(c.Members.Length, c.Members.Count(m => index.Votes(component, m)));
    }

    /// <summary>The effective guard: the guard, or what <c>at-once</c> leaves, whichever is larger.</summary>
    public static int EffectiveGuardOf(EstateIndex index, int component) =>
        Math.Max(
            GuardOf(index, component),
            index.Components[component].Members.Length - index.Components[component].Guard.AtOnce
        );

    /// <summary>Whether the guard (not <c>at-once</c>) holds with these members out.</summary>
    public static bool GuardHolds(EstateIndex index, int component, IReadOnlySet<string> outMembers)
    {
        var c = index.Components[component];
        var serving = c.Members.Count(m =>
            !outMembers.Contains(m.Id) && !index.IsOut(m) && (!c.Guard.Quorum || index.Votes(component, m))
        );
        return serving >= GuardOf(index, component);
    }

    /// <summary>The members that go out with these: those that stand on or inside them, or all of their
    /// nodes.</summary>
    public static HashSet<string> OutWith(
        EstateIndex index,
        IEnumerable<(int Component, Member Member)> members,
        bool wholeNodes
    )
    {
        var found = new HashSet<string>();
        var queue = new Queue<(int Component, Member Member)>(members);
        while (queue.TryDequeue(out var next))
        {
            if (!found.Add(next.Member.Id))
                continue;
            foreach (var other in index.WithGuests(next.Member.Node))
                if (
                    !found.Contains(other.Member.Id)
                    && (wholeNodes || index.CarriedBy(next.Component).Contains(other.Component))
                )
                    queue.Enqueue(other);
        }
        return found;
    }

    /// <summary>All components that are out while these are: by shared nodes, lost guards and dependencies, until
    /// nothing changes.</summary>
    /// <param name="index">The estate.</param>
    /// <param name="components">The components that are out, by number.</param>
    /// <param name="wholeNodes">Whether the nodes of one of the first restart.</param>
    public static SortedSet<int> Cascade(EstateIndex index, IEnumerable<int> components, Func<int, bool> wholeNodes)
    {
        var outComponents = new SortedSet<int>(components);
        var outMembers = new HashSet<string>();
        var queue = new Queue<int>(outComponents);
        var first = outComponents.ToHashSet();
        var touched = new HashSet<int>();
        while (queue.Count > 0)
        {
            while (queue.TryDequeue(out var c))
            {
                foreach (
                    var id in OutWith(
                        index,
                        index.Components[c].Members.Select(m => (c, m)),
                        first.Contains(c) && wholeNodes(c)
                    )
                )
                    if (outMembers.Add(id))
                        touched.Add(index.NumberOf(index.Estate.FindMember(id)!.Component));
                foreach (var dependant in index.DependantsOf(c))
                    if (!index.IsAbsent(dependant) && outComponents.Add(dependant))
                        queue.Enqueue(dependant);
            }
            foreach (var c in touched)
            {
                if (outComponents.Contains(c))
                    continue;
                var members = index.Components[c].Members;
                var lost = members.Any(m => outMembers.Contains(m.Id) && !index.IsOut(m));
                var none = members.All(m => outMembers.Contains(m.Id) || index.IsOut(m));
                if (lost && (none || !GuardHolds(index, c, outMembers)) && outComponents.Add(c))
                    queue.Enqueue(c);
            }
            touched.Clear();
        }
        return outComponents;
    }

    /// <summary>Two peers among components that are out at the same time though their relation does not allow it, or
    /// null.</summary>
    public static (int A, int B)? PeersTogether(EstateIndex index, IReadOnlyCollection<int> components)
    {
        foreach (var a in components)
        foreach (var b in components)
            if (a < b && index.MustNotBeOutTogether(a, b))
                return (a, b);
        return null;
    }
}
