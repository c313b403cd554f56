using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Returns;

/// <summary>Follows the steps of a plan, or those that a run has begun, and knows where every component stands and what
/// leads it back.</summary>
public sealed class Standing
{
    public Standing(EstateIndex start)
    {
        (Start, _now) = (start, new Membership(start.Estate));
        var versions = ImmutableDictionary.CreateBuilder<string, Core.Versions.Version>();
        foreach (var component in start.Components)
            if (start.Catalogue.Find(component.Product) is { } product && Highest(component, product) is { } version)
                versions[component.Id] = version;
        Versions = versions.ToImmutable();
    }

    private readonly Dictionary<string, string> _running = [];
    private readonly Membership _now;
    private readonly Dictionary<(string Component, string To), HashSet<int>> _waves = [];

    /// <summary>The estate as it was before.</summary>
    public EstateIndex Start { get; }

    /// <summary>The same with the members where they are now: replaced ones have moved to other nodes.</summary>
    public Estate Estate => _now.Estate;

    /// <summary>The version of each component; of one whose members differ that of its moved members, or the highest
    /// found.</summary>
    public ImmutableDictionary<string, Core.Versions.Version> Versions { get; private set; }

    /// <summary>The components that have changed, each with its standing; a component led back to where it was counts
    /// no more.</summary>
    public ImmutableSortedDictionary<string, ComponentStanding> Changed { get; private set; } =
        ImmutableSortedDictionary.Create<string, ComponentStanding>(StringComparer.Ordinal);

    /// <summary>A step whose effect has begun or is taken to be done.</summary>
    /// <param name="step">The step.</param>
    /// <param name="block">The part that it belongs to.</param>
    /// <param name="point">The rollback point that it captured, where it lies and since when, or null.</param>
    /// <param name="usable">Whether that point leads back.</param>
    public void Take(PlanStep step, Block block, (string Place, DateTimeOffset? At)? point = null, bool usable = true)
    {
        var wave = block.Number;
        if (step.To is null && step.Point is null)
            return; // it only leaves and returns with another
        var id = step.Component;
        if (Joins(step, id))
            Swap(id, step.Member);
        if (_now.Find(id) is not { } component || Start.Catalogue.Find(component.Product) is not { } product)
            return;
        if (step.Point is { } name && step.From is { } from && Parse(product, from) is { } version)
        {
            var whole = !PerMember(product, step);
            // What one member captured for all is behind at once where the others go on serving.
            var othersServe = whole && component.Members.Length > 1 && !block.ComponentsOut.Contains(id);
            Add(
                component,
                product,
                new PointInHand(
                    name,
                    step.Member,
                    step.Name,
                    version,
                    point?.Place ?? "",
                    step.State == MemberState.InService || othersServe,
                    point?.At
                )
                {
                    To = step.To,
                    Usable = usable,
                    OfComponent = whole,
                }
            );
        }
        if (step.Voids is not null)
            Void(step);
        if (
            step.Closes
            && step.To is { } closing
            && Parse(product, closing) is { } floor
            && Known(component, product) is { } known
        )
            Set(known with { Floor = known.Floor is { } before && before > floor ? before : floor });
        if (
            step.State is MemberState.Working or MemberState.Restarting
            && step.To is { } to
            && Parse(product, to) is { } now
        )
            Move(component, product, step.Member, to, now, wave);
        if (Serves(step) && Known(component, product) is { } served && served.Points.Any(p => !p.Lossy))
            Set(served with { Points = [.. served.Points.Select(p => p with { Lossy = true })] });
    }

    // A member that is in step again serves, and so does a service that is started while it is changed.
    private static bool Serves(PlanStep step) =>
        step.To is not null
        && (
            step is { State: MemberState.Verifying, Name: LaneBuilder.InStep }
            || step is { State: MemberState.Working, Do: StartAction }
            || step is { State: MemberState.Working or MemberState.Restarting, Do: RestartAction { Service: not null } }
        );

    // What leads nowhere any more leaves its set incomplete.
    private void Void(PlanStep step)
    {
        foreach (
            var (other, holding) in _inHand
                .Where(h => h.Value.Points.Any(p => p.Usable && step.MakesVoid(h.Key, p.Kind)))
                .ToList()
        )
        {
            Set(
                holding with
                {
                    Points =
                    [
                        .. holding.Points.Select(p => step.MakesVoid(other, p.Kind) ? p with { Usable = false } : p),
                    ],
                }
            );
            Voided.AddRange(holding.Points.Where(p => p.Usable && step.MakesVoid(other, p.Kind)).Select(p => p.Id));
        }
    }

    /// <summary>The points that steps have made void, since somebody last cleared this.</summary>
    internal List<string> Voided { get; } = [];

    // By the jump that asks for it; a capture that no jump asks for is of its member.
    private static bool PerMember(Product product, PlanStep step) =>
        product
            .Jumps.Where(j => j.To.Label == step.To)
            .SelectMany(j => j.Points)
            .FirstOrDefault(w => w.Capture == step.Name && w.Of is null)
            is not { PerMember: false };

    /// <summary>Why a jump of a component can't be carried out as it is described; null where it can.</summary>
    internal Func<Component, Jump, Problem?>? Unbound { get; init; }

    // A new member joins where a spare node is changed to another version.
    private bool Joins(PlanStep step, string id) =>
        step.State == MemberState.Working
        && step.To is not null
        && step.To != step.From
        && _now.IsSpare(id, step.Member);

    // From the moment a new member joins it stands for the old one: that one leaves next, or, on the way back, is still
    // there.
    private void Swap(string id, string member)
    {
        var component = _now.Find(id)!;
        var roles = Start.Catalogue.Find(component.Product)!.Roles;
        string? RoleOf(Member m) => Start.Readings.Of(m).Role ?? m.Role;
        var left = component.Members.Where(m => !_joined.Contains(m.Id)).DefaultIfEmpty(component.Members[0]);
        var old = left.OrderBy(m => roles.IndexOf(RoleOf(m) ?? "")).ThenBy(m => m.Id, StringComparer.Ordinal).First();
        foreach (var (from, to) in _now.Swap(id, old.Node, MemberId.Of(member).Node))
        {
            _was[to] = FirstLabelOf(from);
            if (LabelOf(from) is { } label)
                _running[to] = label;
            _running.Remove(from);
            var its = MemberId.Of(to).Component;
            if (_inHand.TryGetValue(its, out var known))
                Set(
                    known with
                    {
                        Component = _now.Find(its)!,
                        Moved = [.. known.Moved.Select(m => m == from ? to : m)],
                        Replaced = IsElsewhere(its),
                    }
                );
            if (_left.TryGetValue(its, out var rest) && rest.Remove(from))
                rest.Add(to);
        }
        _joined.Add(member);
        _elsewhere.Add(id);
        // Waves and outages run otherwise on other nodes.
        Touched.UnionWith(Changed.Keys);
    }

    // Some member is on another node than at the start.
    private bool IsElsewhere(string id) =>
        !_now.Find(id)!
            .Members.Select(m => m.Id)
            .ToHashSet()
            .SetEquals(Start.Estate.Find(id)!.Members.Select(m => m.Id));

    private readonly HashSet<string> _elsewhere = [];
    private readonly HashSet<string> _joined = [];
    private readonly Dictionary<string, string?> _was = [];

    // What the member ran at the start, or the one whose place it took.
    private string? FirstLabelOf(string member) =>
        _was.TryGetValue(member, out var label) ? label : Start.Readings.Members.GetValueOrDefault(member)?.Running;

    private readonly Dictionary<string, ComponentStanding> _inHand = [];

    /// <summary>Components whose standing has changed since somebody last cleared this.</summary>
    internal HashSet<string> Touched { get; } = [];

    private readonly Dictionary<(string Product, string Label), Core.Versions.Version?> _parsed = [];

    private Core.Versions.Version? Parse(Product product, string label) =>
        _parsed.TryGetValue((product.Id, label), out var known)
            ? known
            : _parsed[(product.Id, label)] = product.Scheme.TryParse(label);

    // Of what runs nothing nothing is known before it was installed.
    private ComponentStanding? Known(Component component, Product product) =>
        _inHand.TryGetValue(component.Id, out var known) ? known
        : Versions.TryGetValue(component.Id, out var version) ? FirstOf(component, product, version)
        : null;

    private ComponentStanding FirstOf(Component component, Product product, Core.Versions.Version version) =>
        new(component, product, version, null, [.. component.Members.Select(m => m.Id)], 0, null, [])
        {
            Unbound = Unbound,
        };

    private Core.Versions.Version? Highest(Component component, Product product) =>
        component
            .Members.Select(m => LabelOf(m.Id))
            .OfType<string>()
            .Distinct()
            .Select(product.Scheme.TryParse)
            .OfType<Core.Versions.Version>()
            .Order()
            .LastOrDefault();

    private void Add(Component component, Product product, PointInHand point)
    {
        if (Known(component, product) is { } known)
            Set(known with { Points = known.Points.Add(point) });
    }

    private void Move(
        Component component,
        Product product,
        string member,
        string to,
        Core.Versions.Version now,
        int wave
    )
    {
        var known = Known(component, product) ?? FirstOf(component, product, now);
        if (!_waves.TryGetValue((component.Id, to), out var waves))
            _waves[(component.Id, to)] = waves = [];
        var another = waves.Add(wave);
        var onward = known.Now.Equals(now) && _left.ContainsKey(component.Id);
        if (LabelOf(member) == to && onward)
        {
            if (another)
                Set(known with { Waves = waves.Count });
            return;
        }
        _running[member] = to;
        // Who is left is counted once for each version that a component goes to: a component may have thousands of
        // members.
        if (onward)
            _left[component.Id].Remove(member);
        else
            _left[component.Id] =
            [
                .. component
                    .Members.Where(m => m.Id != member && LabelOf(m.Id) is { } label && label != to)
                    .Select(m => m.Id),
            ];
        var moved = onward
            ? known.Moved.Add(member)
            : [.. component.Members.Where(m => LabelOf(m.Id) == to).Select(m => m.Id)];
        var rest = _left[component.Id] is { Count: > 0 } left
            ? onward && known.Rest is { } before
                ? before
                : Parse(product, LabelOf(left.First())!)
            : null;
        var converts =
            Start.Catalogue.Find(component.Product) is { } its
            && !known.Now.Equals(now)
            && its.Jumps.Any(j =>
                !j.Down && !j.Converts.IsEmpty && j.To.Equals(now) && j.LeadsFrom(known.Now, its.IsRelease)
            );
        Set(
            known with
            {
                Now = now,
                Rest = rest,
                Moved = moved,
                Waves = waves.Count,
                Converted = converts ? known.Converted.Add(now) : known.Converted,
                Replaced = _elsewhere.Contains(component.Id) && IsElsewhere(component.Id),
            }
        );
    }

    private readonly Dictionary<string, HashSet<string>> _left = [];

    private string? LabelOf(string member) =>
        _running.TryGetValue(member, out var label) ? label : Start.Readings.Members.GetValueOrDefault(member)?.Running;

    private void Set(ComponentStanding standing)
    {
        _inHand[standing.Component.Id] = standing;
        Touched.Add(standing.Component.Id);
        if (Versions.GetValueOrDefault(standing.Component.Id) != standing.Now)
            Versions = Versions.SetItem(standing.Component.Id, standing.Now);
        Changed = standing.Component.Members.Any(m =>
            _running.TryGetValue(m.Id, out var now) && now != FirstLabelOf(m.Id)
        )
            ? Changed.SetItem(standing.Component.Id, standing)
            : Changed.Remove(standing.Component.Id);
    }

    /// <summary>The estate as it stands now, for planning: every member in service that was so before.</summary>
    public EstateIndex Now()
    {
        var members = Start.Readings.Members;
        foreach (var (member, label) in _running)
            members = members.SetItem(
                member,
                (members.GetValueOrDefault(member) ?? MemberReading.None) with
                {
                    Running = label,
                    Installed = label,
                    InService = members.GetValueOrDefault(member) is not { InService: false, Running: not null },
                }
            );
        return new EstateIndex(Estate, Start.Readings with { Members = members }, Start.Catalogue);
    }
}
