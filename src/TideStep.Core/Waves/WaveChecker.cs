using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>Verifies waves and their proof from the estate and its readings alone. It shares no code with the planner: it counts members one by one, by the words of 3-planning, Waves.</summary>
public static class WaveChecker
{
    /// <summary>What is wrong with the waves or their proof; nothing where they hold.</summary>
    /// <param name="estate">The estate.</param>
    /// <param name="readings">Its readings: who is out of service, who leads.</param>
    /// <param name="votes">The roles that vote, by product; empty or missing where all members do.</param>
    /// <param name="component">The component that moves.</param>
    /// <param name="moving">The members that it has to move.</param>
    /// <param name="wholeNodes">Whether the nodes restart, so that everything on them goes out.</param>
    /// <param name="plan">The waves.</param>
    /// <param name="proof">Their proof.</param>
    public static ImmutableArray<string> Check(Estate estate, Readings readings, IReadOnlyDictionary<string, ImmutableArray<string>> votes, string component, IEnumerable<Member> moving, bool wholeNodes, WavePlan plan, WaveProof proof)
    {
        var wrong = ImmutableArray.CreateBuilder<string>();
        var carriers = estate.Components.ToDictionary(c => c.Id, c => c.Relations.Where(r => r.Kind is RelationKind.StandsOn or RelationKind.Inside).Select(r => r.To).ToHashSet());
        var onNode = estate.Components.SelectMany(c => c.Members).ToLookup(m => m.Node);
        foreach (var member in moving)
            if (plan.Waves.Count(w => w.Members.Contains(member)) is not 1 and var times) wrong.Add($"{member.Id} is in {times} waves");
        if (plan.Waves.Length < plan.LowerBound) wrong.Add($"there are {plan.Waves.Length} waves, fewer than the bound of {plan.LowerBound}");
        for (var w = 0; w < plan.Waves.Length; w++)
        {
            var wave = plan.Waves[w];
            if (wave.Members.Any(m => m.Component != component)) wrong.Add($"wave {w + 1} moves a member of another component");
            if (wave.Members.Select(RoleOf).Distinct().Count() > 1) wrong.Add($"wave {w + 1} holds more than one role");
            if (estate.Find(component)!.DomainsMatter && wave.Members.Select(DomainOf).Distinct().Count() > 1) wrong.Add($"wave {w + 1} holds more than one failure domain");
            var gone = new HashSet<string>(wave.Members.Select(m => m.Id));
            var found = new Queue<Member>(wave.Members);
            while (found.TryDequeue(out var lower))
                foreach (var other in onNode[lower.Node])
                    if ((wholeNodes || carriers[other.Component].Contains(lower.Component)) && gone.Add(other.Id)) found.Enqueue(other);
            if (!gone.SetEquals(wave.Members.Concat(wave.AlsoOut).Select(m => m.Id))) wrong.Add($"wave {w + 1} takes out {string.Join(", ", gone.Order(StringComparer.Ordinal))}, and says otherwise");
            foreach (var c in estate.Components.Where(c => c.Members.Any(m => gone.Contains(m.Id) && InService(m)))) Guards(w + 1, c, gone);
        }
        return wrong.ToImmutable();

        bool InService(Member m) => readings.Of(m) is { InService: true, Running: not null };
        string? RoleOf(Member m) => readings.Of(m).Role ?? m.Role;
        string DomainOf(Member m) => estate.Nodes[m.Node] is { Domain: { } domain } node ? $"{node.Site}/{domain}" : m.Node;

        void Guards(int wave, Component c, HashSet<string> gone)
        {
            var voting = votes.GetValueOrDefault(c.Product, []);
            var electors = c.Members.Where(m => voting.IsDefaultOrEmpty || voting.Contains(RoleOf(m) ?? "")).ToList();
            if (c.Guard.Quorum && electors.Any(m => gone.Contains(m.Id) && InService(m))) Line(wave, c, electors, gone, (electors.Count / 2) + 1 + c.Guard.Margin, "quorum");
            var keep = c.Guard.Quorum ? 0 : (c.Guard.Share is { } share ? (int)Math.Ceiling((share * c.Members.Length) - 1e-9) : c.Guard.Keep) + c.Guard.Margin;
            if (keep > 0) Line(wave, c, [.. c.Members], gone, keep, "guard");
            Line(wave, c, [.. c.Members], gone, Math.Max(0, c.Members.Length - c.Guard.AtOnce), "at-once");
        }

        void Line(int wave, Component c, List<Member> all, HashSet<string> gone, int keeps, string by)
        {
            var left = all.Count(m => InService(m) && !gone.Contains(m.Id));
            if (left < keeps) wrong.Add($"wave {wave} leaves {left} of {all.Count} members of {c.Id} in service, and {keeps} must stay ({by})");
            var line = proof.Lines.FirstOrDefault(l => l.Wave == wave && l.Component == c.Id && l.By == by);
            if (line is null) wrong.Add($"the proof says nothing of {by} of {c.Id} in wave {wave}");
            else if ((line.Of, line.OutBefore, line.GoOut, line.Left, line.Keeps) != (all.Count, all.Count(m => !InService(m)), all.Count(m => InService(m) && gone.Contains(m.Id)), left, keeps)) wrong.Add($"the proof's numbers of {c.Id} in wave {wave} are not those of the estate ({by})");
        }
    }
}
