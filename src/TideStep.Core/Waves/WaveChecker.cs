using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>Verifies waves and their proof from the estate and its readings alone. It shares no code with the planner:
/// it counts members one by one, by the words of 3-planning, Waves.</summary>
/// <param name="estate">The estate.</param>
/// <param name="votes">The roles that vote, by product; empty or missing where all members do.</param>
public sealed class WaveChecker(Estate estate, IReadOnlyDictionary<string, ImmutableArray<string>> votes)
{
    private readonly Dictionary<string, HashSet<string>> _carriers = estate.Components.ToDictionary(
        c => c.Id,
        c =>
            c.Relations.Where(r => r.Kind is RelationKind.StandsOn or RelationKind.Inside).Select(r => r.To).ToHashSet()
    );
    private readonly ILookup<string, Member> _onNode = estate
        .Components.SelectMany(c => c.Members)
        .SelectMany(m => Places(estate, m.Node).Select(place => (Place: place, Member: m)))
        .ToLookup(m => m.Place, m => m.Member);

    // A node and, as long as it can't be moved, what it stands on: it goes where they go.
    private static IEnumerable<string> Places(Estate estate, string node)
    {
        yield return node;
        while (estate.Nodes[node] is { On: { } host, Movable: false })
            yield return node = host;
    }

    /// <summary>What is wrong with the waves or their proof; nothing where they hold.</summary>
    /// <param name="readings">The estate's readings: who is out of service, who leads.</param>
    /// <param name="component">The component that moves.</param>
    /// <param name="moving">The members that it has to move.</param>
    /// <param name="wholeNodes">Whether the nodes restart, so that everything on them goes out.</param>
    /// <param name="plan">The waves.</param>
    /// <param name="proof">Their proof.</param>
    public ImmutableArray<string> Check(
        Readings readings,
        string component,
        IEnumerable<Member> moving,
        bool wholeNodes,
        WavePlan plan,
        WaveProof proof
    )
    {
        var wrong = ImmutableArray.CreateBuilder<string>();
        var told = proof.Lines.ToLookup(l => (l.Wave, l.Component, l.By));
        var standing = new Dictionary<string, (int Serving, int Electors, int ElectorsServing)>();
        var times = plan.Waves.SelectMany(w => w.Members).CountBy(m => m.Id).ToDictionary();
        foreach (var member in moving)
            if (times.GetValueOrDefault(member.Id) is not 1 and var count)
                wrong.Add($"{member.Id} is in {count} waves");
        if (plan.Waves.Length < plan.LowerBound)
            wrong.Add($"there are {plan.Waves.Length} waves, fewer than the bound of {plan.LowerBound}");
        for (var w = 0; w < plan.Waves.Length; w++)
        {
            var wave = plan.Waves[w];
            if (wave.Members.Any(m => m.Component != component))
                wrong.Add($"wave {w + 1} moves a member of another component");
            if (wave.Members.Select(RoleOf).Distinct().Count() > 1)
                wrong.Add($"wave {w + 1} holds more than one role");
            if (estate.Find(component)!.DomainsMatter && wave.Members.Select(DomainOf).Distinct().Count() > 1)
                wrong.Add($"wave {w + 1} holds more than one failure domain");
            var gone = new HashSet<string>(wave.Members.Select(m => m.Id));
            var found = new Queue<Member>(wave.Members);
            while (found.TryDequeue(out var lower))
                foreach (var other in _onNode[lower.Node])
                    if ((wholeNodes || _carriers[other.Component].Contains(lower.Component)) && gone.Add(other.Id))
                        found.Enqueue(other);
            if (!gone.SetEquals(wave.Members.Concat(wave.AlsoOut).Select(m => m.Id)))
                wrong.Add(
                    $"wave {w + 1} takes out {string.Join(", ", gone.Order(StringComparer.Ordinal))}, and "
                        + $"says otherwise"
                );
            foreach (
                var leaving in gone.Select(id => (Id: id, Component: MemberId.Of(id).Component))
                    .GroupBy(m => m.Component)
            )
                Guards(
                    w + 1,
                    estate.Find(leaving.Key)!,
                    [.. leaving.Select(m => estate.FindMember(m.Id)!).Where(InService)]
                );
        }
        return wrong.ToImmutable();

        bool InService(Member m) => readings.Of(m) is { InService: true, Running: not null };
        string? RoleOf(Member m) => readings.Of(m).Role ?? m.Role;
        string DomainOf(Member m) =>
            Places(estate, m.Node).Select(p => estate.Nodes[p]).FirstOrDefault(n => n.Domain is not null) is { } node
                ? $"{node.Site}/{node.Domain}"
                : Places(estate, m.Node).Last();

        void Guards(int wave, Component c, List<Member> leaving)
        {
            if (leaving.Count == 0)
                return;
            if (!standing.TryGetValue(c.Id, out var now))
                standing[c.Id] = now = (
                    c.Members.Count(InService),
                    c.Members.Count(Elects),
                    c.Members.Count(m => Elects(m) && InService(m))
                );
            if (c.Guard.Quorum && leaving.Count(Elects) is > 0 and var voters)
                Line(
                    wave,
                    c,
                    now.Electors,
                    now.ElectorsServing,
                    voters,
                    (now.Electors / 2) + 1 + c.Guard.Margin,
                    "quorum"
                );
            var keep = c.Guard.Quorum
                ? 0
                : (c.Guard.Share is { } share ? (int)Math.Ceiling((share * c.Members.Length) - 1e-9) : c.Guard.Keep)
                    + c.Guard.Margin;
            if (keep > 0)
                Line(wave, c, c.Members.Length, now.Serving, leaving.Count, keep, "guard");
            Line(
                wave,
                c,
                c.Members.Length,
                now.Serving,
                leaving.Count,
                Math.Max(0, c.Members.Length - c.Guard.AtOnce),
                "at-once"
            );
        }

        bool Elects(Member m) =>
            votes.GetValueOrDefault(estate.Find(m.Component)!.Product, []) is var voting
            && (voting.IsDefaultOrEmpty || voting.Contains(RoleOf(m) ?? ""));

        void Line(int wave, Component c, int all, int serving, int leaving, int keeps, string by)
        {
            var left = serving - leaving;
            if (left < keeps)
                wrong.Add(
                    $"wave {wave} leaves {left} of {all} members of {c.Id} in service, and {keeps} must stay ({by})"
                );
            var line = told[(wave, c.Id, by)].FirstOrDefault();
            if (line is null)
                wrong.Add($"the proof says nothing of {by} of {c.Id} in wave {wave}");
            else if (
                (line.Of, line.OutBefore, line.GoOut, line.Left, line.Keeps)
                != (all, all - serving, leaving, left, keeps)
            )
                wrong.Add($"the proof's numbers of {c.Id} in wave {wave} are not those of the estate ({by})");
        }
    }
}
