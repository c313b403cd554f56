using System.Collections.Concurrent;
using System.Collections.Immutable;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Waves;

namespace TideStep.Engine.Runs;

/// <summary>Puts the guards of a run's components to live readings.</summary>
internal sealed class GuardReader(RunContext context)
{
    /// <summary>What keeps a wave from going out now, with the counts; null where nothing does.</summary>
    public async Task<string?> MissingAsync(Block block, CancellationToken ct)
    {
        var outgoing = block.Outgoing.ToHashSet();
        foreach (var component in ComponentsOf(block.Outgoing))
        {
            if (!await AnyServesAsync(component.Members.Where(m => outgoing.Contains(m.Id)), ct))
                continue; // out already: it weighs on no guard again
            var serving = await ServingAsync(component.Members.Where(m => !outgoing.Contains(m.Id)), ct);
            var product = context.Catalogue.Find(component.Product)!;
            if (GuardStanding.Missing(component, product, outgoing, serving) is { } missing)
                return missing;
        }
        return await OtherRoleAsync(block, ct);
    }

    /// <summary>How the guards stand of all that a part works on or has out.</summary>
    public async Task<ImmutableArray<GuardStanding>> StandingsAsync(Block block, CancellationToken ct)
    {
        var found = ImmutableArray.CreateBuilder<GuardStanding>();
        foreach (var component in ComponentsOf(block.Lanes.Select(l => l.Subject), block.ComponentsOut))
            found.Add(
                GuardStanding.Of(
                    component,
                    context.Catalogue.Find(component.Product)!,
                    await ServingAsync(component.Members, ct),
                    block.ComponentsOut.Contains(component.Id)
                )
            );
        return found.ToImmutable();
    }

    private IEnumerable<Component> ComponentsOf(IEnumerable<string> members, IEnumerable<string>? others = null) =>
        members
            .Select(m => context.Estate.FindMember(m)?.Component)
            .Concat(others ?? [])
            .Distinct()
            .Select(id => id is null ? null : context.Estate.Find(id))
            .OfType<Component>();

    private async Task<IReadOnlySet<string>> ServingAsync(IEnumerable<Member> members, CancellationToken ct)
    {
        var serving = new ConcurrentDictionary<string, bool>();
        await Parallel.ForEachAsync(
            members,
            new ParallelOptions { MaxDegreeOfParallelism = context.Settings.ReadAtOnce, CancellationToken = ct },
            async (member, token) =>
            {
                if (await context.Reader.ServesAsync(context.Estate, context.Catalogue, member, token))
                    serving[member.Id] = true;
            }
        );
        return serving.Keys.ToHashSet();
    }

    // A member in another role than the plan takes it to have would leave by the wrong routine: a leader without a
    // handover.
    private async Task<string?> OtherRoleAsync(Block block, CancellationToken ct)
    {
        foreach (var lane in block.Lanes.Where(l => l.Role is not null))
            if (
                context.Estate.FindMember(lane.Subject) is { } member
                && await context.Reader.RoleAsync(context.Estate, context.Catalogue, member, ct) is { } role
                && role != lane.Role
            )
                return $"{lane.Subject} is {role} now, the plan takes it to be {lane.Role}; hand the role back, or "
                    + $"stop here and plan again";
        return null;
    }

    private async Task<bool> AnyServesAsync(IEnumerable<Member> members, CancellationToken ct)
    {
        foreach (var member in members)
            if (await context.Reader.ServesAsync(context.Estate, context.Catalogue, member, ct))
                return true;
        return false;
    }
}
