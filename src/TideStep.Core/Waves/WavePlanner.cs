using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>Puts a component's members into waves such that every guard holds in each of them (3-planning,
/// Waves).</summary>
public static class WavePlanner
{
    /// <summary>The waves, or why there are none.</summary>
    /// <param name="index">The estate and its readings.</param>
    /// <param name="component">The component that moves, by number.</param>
    /// <param name="restartsNode">Whether the jump restarts the node, so that everything on it goes out.</param>
    /// <param name="members">The members to take; all where null.</param>
    /// <param name="outageCounts">Whether a wave takes any time; if not, what it leaves without a member is no
    /// outage.</param>
    public static (WavePlan? Plan, WaveRefusal? Refusal) Plan(
        EstateIndex index,
        int component,
        bool restartsNode,
        ImmutableArray<Member>? members = null,
        bool outageCounts = true
    )
    {
        var c = index.Components[component];
        var taken = members ?? c.Members;
        if (c.Members.Length == 1)
            return (null, new WaveRefusal(c.Id, $"{c.Id} has one member and can't be rolled by itself", "an outage"));
        var budget = new Budget(index, component, taken, restartsNode, outageCounts);
        if (budget.Refusal() is { } refusal)
            return (null, refusal);
        var waves = ImmutableArray.CreateBuilder<Wave>();
        var bound = 0;
        var roles = index.Catalogue.Find(c.Product)?.Roles ?? [];
        // Roles in the product's order; a role the product does not list, or none, comes first.
        foreach (
            var role in taken
                .GroupBy(m => index.RoleOf(m))
                .OrderBy(g => roles.IndexOf(g.Key ?? ""))
                .ThenBy(g => g.Key, StringComparer.Ordinal)
        )
        {
            var parts = role.GroupBy(m => DomainOf(index, c, m))
                .Select(domain =>
                    (Domain: domain.Key, Sets: InWaves([.. domain.OrderBy(m => m.Id, StringComparer.Ordinal)]))
                )
                .ToList();
            bound += parts.Sum(p => p.Sets.LowerBound);
            foreach (
                var (domain, set) in parts
                    .SelectMany(p => p.Sets.Waves.Select(w => (p.Domain, w)))
                    .OrderBy(w => w.w[0].Id, StringComparer.Ordinal)
            )
                waves.Add(Describe(index, component, role.Key, domain, set, restartsNode));
        }
        if (
            waves.FirstOrDefault(w =>
                Service.PeersTogether(index, [.. w.ComponentsOut.Select(index.NumberOf)]) is not null
            ) is
            { } together
        )
        {
            var (a, b) = Service.PeersTogether(index, [.. together.ComponentsOut.Select(index.NumberOf)])!.Value;
            return (
                null,
                new WaveRefusal(
                    c.Id,
                    $"{index.Components[a].Id} and {index.Components[b].Id} are peers and would be out together",
                    "nothing but a change of the relation"
                )
            );
        }
        return (WithCanary(index, component, new WavePlan(waves.ToImmutable(), bound), restartsNode), null);

        // Members that are out already weigh on no guard, so they go with the first wave that there is.
        (ImmutableArray<ImmutableArray<Member>> Waves, int LowerBound) InWaves(ImmutableArray<Member> part)
        {
            ImmutableArray<Member> free = [.. part.Where(m => budget.GroupsOf(m).Length == 0)];
            if (free.Length > 0 && free.Length < part.Length)
            {
                var (waves, least) = InWaves([.. part.Except(free)]);
                ImmutableArray<Member> joined = [.. waves[0].Concat(free).OrderBy(m => m.Id, StringComparer.Ordinal)];
                return (waves.SetItem(0, joined), least);
            }
            if (free.Length > 0)
                return ([part], 1);
            var fewest = Partition.Fewest(part, budget);
            return
                outageCounts
                && budget.CouldShareOutage(part)
                && LeastOutage.Find(index, component, restartsNode, part, budget) is { } less
                ? (less, fewest.LowerBound)
                : fewest;
        }
    }

    private static string DomainOf(EstateIndex index, Component c, Member member)
    {
        if (!c.DomainsMatter)
            return "";
        var (site, domain) = index.Estate.DomainOf(member.Node);
        return site.Length == 0 ? $"node {domain}" : $"{site} {domain}";
    }

    private static Wave Describe(
        EstateIndex index,
        int component,
        string? role,
        string domain,
        ImmutableArray<Member> set,
        bool restartsNode,
        bool canary = false
    )
    {
        var all = Service.OutWith(index, set.Select(m => (component, m)), restartsNode);
        var own = set.Select(m => m.Id).ToHashSet();
        ImmutableArray<Member> also =
        [
            .. all.Where(id => !own.Contains(id))
                .Order(StringComparer.Ordinal)
                .Select(id => index.Estate.FindMember(id)!),
        ];
        return new Wave(
            role,
            domain.Length == 0 ? null : domain,
            canary,
            set,
            also,
            [.. ComponentsOut(index, component, set, restartsNode).Select(c => index.Components[c].Id)]
        );
    }

    /// <summary>The components that a wave leaves without a member in service, and all that depend on them.</summary>
    internal static SortedSet<int> ComponentsOut(
        EstateIndex index,
        int component,
        IEnumerable<Member> wave,
        bool restartsNode
    )
    {
        var all = Service.OutWith(index, wave.Select(m => (component, m)), restartsNode);
        var emptied = all.Select(id => index.NumberOf(index.Estate.FindMember(id)!.Component))
            .Distinct()
            .Where(c =>
                index.Components[c].Members.All(m => all.Contains(m.Id) || index.IsOut(m))
                && index.Components[c].Members.Any(m => !index.IsOut(m))
            );
        return Service.Cascade(index, emptied, _ => false);
    }

    // The canary is the first member of the first wave; what is left of that wave follows as a wave of its own.
    private static WavePlan WithCanary(EstateIndex index, int component, WavePlan plan, bool restartsNode)
    {
        if (index.Components[component].Canary == 0 || plan.Waves.IsEmpty)
            return plan;
        var first = plan.Waves[0];
        var canary = Describe(
            index,
            component,
            first.Role,
            first.Domain ?? "",
            [first.Members[0]],
            restartsNode,
            canary: true
        );
        if (first.Members.Length == 1)
            return plan with { Waves = plan.Waves.SetItem(0, canary) };
        var rest = Describe(index, component, first.Role, first.Domain ?? "", first.Members[1..], restartsNode);
        return new WavePlan([canary, rest, .. plan.Waves[1..]], plan.LowerBound + 1);
    }
}

/// <summary>How many members of each component a wave may take out.</summary>
internal sealed class Budget
{
    /// <summary>Members of a component that weigh on one guard: how many a wave may take, and how many where the
    /// component may also be left without any.</summary>
    private sealed record Group(int Number, string Component, int Limit, int WholeLimit, string Why);

    private readonly EstateIndex _index;
    private readonly string _component;
    private readonly Dictionary<string, int[]> _groupsOf = [];
    private readonly List<Group> _groups = [];
    private readonly bool _outageCounts;

    public Budget(
        EstateIndex index,
        int component,
        ImmutableArray<Member> members,
        bool restartsNode,
        bool outageCounts
    )
    {
        _outageCounts = outageCounts;
        (_index, _component) = (index, index.Components[component].Id);
        var groupNumber = new Dictionary<(int, bool), int>();
        foreach (var member in members)
        {
            var groups = new SortedSet<int>();
            foreach (var id in Service.OutWith(index, [(component, member)], restartsNode))
            {
                var other = index.Estate.FindMember(id)!;
                if (index.IsOut(other))
                    continue; // out already: it does not weigh on the guard again
                var number = index.NumberOf(other.Component);
                groups.Add(GroupOf(number, false));
                if (index.Components[number].Guard.Quorum && index.Votes(number, other))
                    groups.Add(GroupOf(number, true));
            }
            _groupsOf[member.Id] = [.. groups];
        }
        int GroupOf(int c, bool voting)
        {
            if (groupNumber.TryGetValue((c, voting), out var known))
                return known;
            groupNumber[(c, voting)] = _groups.Count;
            _groups.Add(LimitOf(c, voting));
            return _groups.Count - 1;
        }
    }

    private Group LimitOf(int component, bool voting)
    {
        var c = _index.Components[component];
        var outNow = c.Members.Count(_index.IsOut);
        if (voting)
        {
            var votes = c.Members.Count(m => _index.Votes(component, m));
            var serving = c.Members.Count(m => _index.Votes(component, m) && !_index.IsOut(m));
            var need = votes / 2 + 1 + c.Guard.Margin;
            return new Group(
                component,
                c.Id,
                serving - need,
                serving - need,
                $"its quorum needs {need} of {votes} voting members{Also(c)}"
            );
        }
        var guard = c.Guard.Quorum ? 0 : Service.GuardOf(_index, component);
        var inService = c.Members.Length - outNow;
        var whole = Math.Min(inService - guard, c.Guard.AtOnce - outNow);
        // A component of several members that need not lose them all at once would have no outage: least outage comes
        // before fewest waves.
        var limit = inService >= 2 && _outageCounts ? Math.Min(whole, inService - 1) : whole;
        return new Group(
            component,
            c.Id,
            limit,
            whole,
            c.Guard.AtOnce - outNow < inService - guard
                ? $"at once {c.Guard.AtOnce} of its members may be out{Also(c)}"
                : $"its guard keeps {guard} of {c.Members.Length} members{Also(c)}"
        );
    }

    // Who holds a path up is named, and why.
    private string Also(Component c)
    {
        var gone = c.Members.Where(_index.IsOut).ToList();
        if (gone.Count == 0)
            return "";
        var named = gone.Take(MostNamed).Select(m => $"{m.Id} ({WhyOut(_index.Readings, m)})");
        return $", and {gone.Count} {(gone.Count == 1 ? "is" : "are")} out already: {string.Join(", ", named)}"
            + (gone.Count > MostNamed ? $" and {gone.Count - MostNamed} more" : "");
    }

    private const int MostNamed = 4;

    private static string WhyOut(Readings readings, Member member) =>
        readings.Lost.ContainsKey(member.Id) || !readings.Members.ContainsKey(member.Id) ? "not read"
        : readings.Of(member) is not { Running: { } running } reading ? "runs nothing"
        : reading.Installed is { } installed && installed != running
            ? $"not in step: it runs {running}, {installed} is installed"
        : "not in step";

    public WaveRefusal? Refusal()
    {
        foreach (var group in _groups)
            if (group.WholeLimit < 1)
                return new WaveRefusal(
                    group.Component,
                    $"no member of {group.Component} may leave service: {group.Why}",
                    group.Component == _component
                        ? "an outage"
                        : $"a change of the guard of {group.Component}, or an outage"
                );
        return null;
    }

    /// <summary>Whether waves of these members could leave more than one component without a member, so that taking
    /// these together could share what depends on them.</summary>
    public bool CouldShareOutage(ImmutableArray<Member> part)
    {
        var here = part.SelectMany(GroupsOf).CountBy(g => g).ToDictionary();
        return here.Count(g =>
                _groups[g.Key] is var group
                && !_index.Components[group.Number].Guard.Quorum
                && _index.Components[group.Number].Members.Count(m => !_index.IsOut(m)) is var inService
                && group.WholeLimit >= inService
                && g.Value >= inService
            ) > 1;
    }

    public int WholeLimitOfGroup(int group) => _groups[group].WholeLimit;

    public int[] GroupsOf(Member member) => _groupsOf[member.Id];

    public int LimitOfGroup(int group) => _groups[group].Limit;

    public int GroupCount => _groups.Count;
}
