using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Core.Versions;
using TideStep.Core.Waves;

namespace TideStep.Core.Returns;

/// <summary>A rollback point in hand: of which member, by which routine it is restored and to which version it
/// leads.</summary>
/// <param name="Lossy">Whether what it covers has served writes since its capture.</param>
/// <param name="At">When it was captured, where that is known.</param>
public sealed record PointInHand(
    string Id,
    string Member,
    string Kind,
    Versions.Version Version,
    string Place,
    bool Lossy,
    DateTimeOffset? At
)
{
    /// <summary>The version that the jump leads to for which it was captured; what one jump captured is restored
    /// together.</summary>
    public string? To { get; init; }

    /// <summary>Whether it leads back: captured, verified, and made void by nothing since.</summary>
    public bool Usable { get; init; } = true;

    /// <summary>Whether it covers every member of its component, though it was captured on one.</summary>
    public bool OfComponent { get; init; }
}

/// <summary>Where a component stands in the midst of a plan or a run, and what can lead it back.</summary>
/// <param name="Now">The version that its moved members are at.</param>
/// <param name="Rest">The version of the members that have not moved yet; null where all have.</param>
/// <param name="Moved">The members that have moved off <paramref name="Rest"/>, or all.</param>
/// <param name="Waves">In how many waves they went.</param>
/// <param name="Floor">Below this version no reverse jump leads any more: a step closed the way; null where none
/// did.</param>
public sealed record ComponentStanding(
    Component Component,
    Product Product,
    Versions.Version Now,
    Versions.Version? Rest,
    ImmutableArray<string> Moved,
    int Waves,
    Versions.Version? Floor,
    ImmutableArray<PointInHand> Points
)
{
    /// <summary>The versions at which data were converted on the way here; a jump down that crosses one leads back only
    /// where it converts back.</summary>
    public ImmutableArray<Versions.Version> Converted { get; init; } = [];

    /// <summary>Why a jump can't be carried out as it is described; null where it can, or where nobody asks.</summary>
    internal Func<Component, Jump, Problem?>? Unbound { get; init; }

    /// <summary>Whether members were replaced by others on other nodes: then only the same way back brings the old ones
    /// back.</summary>
    public bool Replaced { get; init; }

    /// <summary>Why nothing leads back from what the estate did not have before.</summary>
    internal const string InstalledFirst = "was installed for the first time, and nothing takes it away again";

    private const string Reseed = "reseed";

    // What was reckoned for one standing says nothing of a copy made from it.
    private sealed class Reckoned(ComponentStanding of)
    {
        public ComponentStanding Of { get; } = of;
        public ImmutableArray<Jump>? Ways { get; set; }
        public ImmutableArray<Jump>? Described { get; set; }
        public bool? JoinsAlone { get; set; }
        public Dictionary<(Versions.Version, BackFigures), ChainBack?> Chains { get; } = [];
    }

    private Reckoned? _reckoned;

    private Reckoned Mine =>
        _reckoned is { } known && ReferenceEquals(known.Of, this) ? known : _reckoned = new Reckoned(this);

    /// <summary>The reverse jumps still open, and what the rollback points in hand restore, as jumps of their own; one
    /// that loses writes closes something.</summary>
    /// <remarks>The return path of 3-planning: a restore is an offline reverse move; a member of a component that votes
    /// is reseeded from its peers instead, where its product can.
    /// Points of members of a component that does not vote can be restored one member after another as well.</remarks>
    public ImmutableArray<Jump> Ways => Mine.Ways ??= [.. Described.Where(j => Unbound?.Invoke(Component, j) is null)];

    /// <summary>The ways back that are described and can't be carried out, each with what is wrong and where.</summary>
    public IEnumerable<(Jump Jump, Problem Problem)> Broken =>
        Described.Select(j => (j, Unbound?.Invoke(Component, j)!)).Where(j => j.Item2 is not null);

    private ImmutableArray<Jump> Described =>
        Mine.Described ??= Replaced ? [.. ByReplacing()] : [.. Down().Select(Uncrossed), .. Restores()];

    private IEnumerable<Jump> Down() => Product.Jumps.Where(j => j.Down && (Floor is null || j.To >= Floor));

    // Restores and other methods would lead the new members back, and leave them where the old ones were not.
    private IEnumerable<Jump> ByReplacing() =>
        Component.Retired == Retired.Gone
            ? []
            : Down()
                .Select(Uncrossed)
                .Where(j => j.By(Method.Replace) is not null)
                .Select(j => j with { Methods = [j.By(Method.Replace)!] });

    // A jump down that leaves the data as they were converted must not cross a conversion.
    private Jump Uncrossed(Jump jump) =>
        !jump.ConvertsBack && Converted.Where(v => v > jump.To).Order().FirstOrDefault() is { } conversion
            ? jump with
            {
                Below = conversion,
            }
            : jump;

    /// <summary>Whether two ways down by an outage follow each other: then both could be made in one, as a joint
    /// move.</summary>
    public bool CanJoinAlone =>
        Mine.JoinsAlone ??= Ways.Any(a =>
            Joins(a) && Ways.Any(b => Joins(b) && b.To < a.To && b.LeadsFrom(a.To, Product.IsRelease))
        );

    /// <summary>Whether any way down is by an outage.</summary>
    public bool CanJoin => Ways.Any(Joins);

    private static bool Joins(Jump jump) => jump.Methods.Any(m => m.Method is Method.Offline or Method.SideBySide);

    /// <summary>Whether a jump stands for the restore of rollback points.</summary>
    public static bool IsRestore(Jump jump) => !jump.Restores.IsEmpty;

    /// <summary>What a restore does on a member, in its order: by which routine, and from which point; none where it is
    /// filled from its peers. A point of the whole component is restored once, where it was captured.</summary>
    public IEnumerable<(string Kind, PointInHand? Point)> PointsFor(Jump restore, string member)
    {
        foreach (var kind in restore.Restores)
        {
            if (kind == Reseed)
                yield return (kind, null);
            var point = Points.LastOrDefault(p =>
                p.Kind == kind && p.Usable && p.Version.Equals(restore.To) && (p.Member == member || p.OfComponent)
            );
            if (point is not null && (!point.OfComponent || OneFor(point) == member))
                yield return (kind, point);
        }
    }

    private string OneFor(PointInHand point) =>
        Rest is not null && !Moved.Contains(point.Member) ? Moved.Min(StringComparer.Ordinal)! : point.Member;

    // All points of a jump that have a restore routine are one set for their member: taken together, restored together.
    private IEnumerable<Jump> Restores()
    {
        foreach (var set in Points.GroupBy(p => (p.Version, p.To)))
        {
            var (to, points) = (
                set.Key.Version,
                set.Where(p => Product.Routines.Restore.ContainsKey(p.Kind)).ToImmutableArray()
            );
            if (points.IsEmpty)
                continue;
            // What has to be brought there: everything that is not at it yet.
            var members = Rest is { } rest && rest.Equals(to) ? Moved : [.. Component.Members.Select(m => m.Id)];
            bool Covers(PointInHand p, string member) => p.OfComponent || p.Member == member;
            if (
                points.Any(p => !p.Usable && members.Any(m => Covers(p, m)))
                || !members.All(m => points.Any(p => Covers(p, m)))
            )
                continue;
            ImmutableArray<string> kinds =
            [
                .. points.Select(p => p.Kind).Distinct().OrderBy(k => PlaceOf(k, set.Key.To)),
            ];
            var steps = kinds.SelectMany(k => Product.Routines.Restore[k]).ToImmutableArray();
            var (each, settle) = (Takes(steps), SettleAfter(to));
            var lossy = points.Any(p => p.Lossy && members.Any(m => Covers(p, m)));
            var methods = ImmutableArray.Create(
                new MethodFigures(Method.Offline, TimeSpan.Zero, settle, each, TimeSpan.Zero, null)
            );
            if (Product.Voting.IsEmpty && Component.Members.Length > 1 && points.All(p => !p.OfComponent))
                methods = methods.Insert(
                    0,
                    new MethodFigures(Method.Rolling, each, settle, TimeSpan.Zero, TimeSpan.Zero, null)
                );
            yield return Restore(kinds, to, methods, steps, lossy);
        }
        if (Rest is { } left && Product.Routines.Restore.TryGetValue(Reseed, out var reseed))
            yield return Restore(
                [Reseed],
                left,
                [
                    new MethodFigures(
                        Method.Rolling,
                        Takes(reseed),
                        SettleAfter(left),
                        TimeSpan.Zero,
                        TimeSpan.Zero,
                        null
                    ),
                ],
                reseed,
                false
            );
    }

    // The order of the jump's own points; what no jump names any more comes last.
    private int PlaceOf(string kind, string? to)
    {
        var places = Product
            .Jumps.Where(j => to is null || j.To.Label == to)
            .Select(j => j.Points.ToList().FindIndex(w => w.Capture == kind && w.Of is null))
            .Where(at => at >= 0)
            .ToList();
        return places.Count == 0 ? int.MaxValue : places.Min();
    }

    private static Jump Restore(
        ImmutableArray<string> kinds,
        Versions.Version to,
        ImmutableArray<MethodFigures> methods,
        ImmutableArray<string> steps,
        bool lossy
    ) =>
        new(
            $"restore {string.Join(" and ", kinds)}",
            VersionRange.Any,
            to,
            true,
            methods,
            [],
            [],
            RestartScope.Service,
            lossy ? "what was written since" : null,
            [],
            steps,
            [],
            [],
            [],
            [],
            null
        )
        {
            Restores = kinds,
        };

    private TimeSpan Takes(ImmutableArray<string> steps) =>
        steps.Aggregate(TimeSpan.Zero, (sum, s) =>
            sum + (Product.Steps.TryGetValue(s, out var spec) ? spec.Expected : TimeSpan.Zero)
        );

    private TimeSpan SettleAfter(Versions.Version to) =>
        Product.Jumps.FirstOrDefault(j => !j.Down && j.LeadsFrom(to, Product.IsRelease))?.Methods[0].Settle
        ?? TimeSpan.Zero;

    /// <summary>The best way of this component by itself down to a version, whatever it meets; null where there is
    /// none.</summary>
    public ChainBack? To(Versions.Version target, BackFigures index)
    {
        if (Mine.Chains.TryGetValue((target, index), out var known))
            return known;
        return Mine.Chains[(target, index)] = Find(target, index);
    }

    private ChainBack? Find(Versions.Version target, BackFigures index)
    {
        if (Rest is null)
            return Down(Now, target, index, []);
        // Found mixed it is first settled to what the others still are; only the moved members go.
        ChainBack? best = null;
        foreach (var jump in Ways.Where(j => j.To.Equals(Rest) && j.LeadsFrom(Now, Product.IsRelease)))
        foreach (var figures in jump.Methods)
            if (Cost(jump, figures, index, Moved, Waves) is { } first && Down(Rest, target, index, []) is { } rest)
            {
                var whole = first.Then(rest);
                if (best is null || whole.CompareTo(best) < 0)
                    best = whole;
            }
        return best;
    }

    private ChainBack? Down(
        Versions.Version from,
        Versions.Version target,
        BackFigures index,
        ImmutableArray<Versions.Version> seen
    )
    {
        if (from.Equals(target))
            return ChainBack.Nothing;
        ChainBack? best = null;
        foreach (
            var jump in Ways.Where(j => j.To >= target && !seen.Contains(j.To) && j.LeadsFrom(from, Product.IsRelease))
        )
        foreach (var figures in jump.Methods)
            if (
                Cost(jump, figures, index, [], 0) is { } first
                && Down(jump.To, target, index, seen.Add(from)) is { } rest
            )
            {
                var whole = first.Then(rest);
                if (best is null || whole.CompareTo(best) < 0)
                    best = whole;
            }
        return best;
    }

    // The figures of a path; of a part of the members as many waves as they went in.
    private ChainBack? Cost(Jump jump, MethodFigures figures, BackFigures index, ImmutableArray<string> some, int waves)
    {
        var (lossy, whole) = (jump.Closes is null ? 0 : 1, jump.Restarts == RestartScope.Node);
        var taken = ImmutableArray.Create((jump, figures.Method));
        if (figures.Method is Method.Offline or Method.SideBySide)
            return index.OutWith(Component.Id, whole) is { } outside
                ? new ChainBack(
                    lossy,
                    figures.Outage * outside,
                    figures.Install + figures.Outage + figures.Settle,
                    taken
                )
                : null;
        if (figures.Method == Method.Replace)
        {
            var size = Component.Guard.Quorum || Component.Members.Any(m => index.HasRole(m)) ? 1 : Component.Spares;
            return new ChainBack(
                lossy,
                TimeSpan.Zero,
                (((some.IsEmpty ? Component.Members.Length : some.Length) + size - 1) / size)
                    * (figures.Member + figures.Settle),
                taken
            );
        }
        if (index.Waves(Component.Id, whole) is not { } plan)
            return null;
        var partly = !some.IsEmpty && some.Length < Component.Members.Length;
        var (count, canary) = partly
            ? (waves, TimeSpan.Zero)
            : (
                plan.Waves.Length,
                plan.Waves is [{ Canary: true }, ..]
                    ? (figures.CanarySettle ?? figures.Settle) - figures.Settle
                    : TimeSpan.Zero
            );
        var outage = partly
            ? plan.Waves.Take(waves).Sum(w => w.ComponentsOut.Length)
            : plan.Waves.Sum(w => w.ComponentsOut.Length);
        return new ChainBack(lossy, outage * figures.Member, count * (figures.Member + figures.Settle) + canary, taken);
    }
}

/// <summary>The waves and outages of an estate's components, each reckoned once.</summary>
public sealed class BackFigures(EstateIndex index)
{
    private readonly Dictionary<(string, bool), WavePlan?> _waves = [];
    private readonly Dictionary<(string, bool), int?> _out = [];

    /// <summary>The waves of a component; null where it can't be rolled.</summary>
    public WavePlan? Waves(string component, bool wholeNodes) =>
        _waves.TryGetValue((component, wholeNodes), out var known)
            ? known
            : _waves[(component, wholeNodes)] = WavePlanner.Plan(index, index.NumberOf(component), wholeNodes).Plan;

    /// <summary>Whether a member has a role; then replacing goes one by one.</summary>
    public bool HasRole(Member member) => index.RoleOf(member) is not null;

    /// <summary>How many components an outage of a component takes out; null where it must not be.</summary>
    public int? OutWith(string component, bool wholeNodes)
    {
        if (_out.TryGetValue((component, wholeNodes), out var known))
            return known;
        var outside = Service.Cascade(index, [index.NumberOf(component)], _ => wholeNodes);
        return _out[(component, wholeNodes)] = Service.PeersTogether(index, outside) is null ? outside.Count : null;
    }
}

/// <summary>What it takes one component to be led back by itself: restores that lose writes, outage, time, and the
/// jumps with their methods.</summary>
public sealed record ChainBack(
    int Losses,
    TimeSpan Outage,
    TimeSpan Length,
    ImmutableArray<(Jump Jump, Method Method)> Jumps
) : IComparable<ChainBack>
{
    public static readonly ChainBack Nothing = new(0, TimeSpan.Zero, TimeSpan.Zero, []);

    public ChainBack Then(ChainBack next) =>
        new(Losses + next.Losses, Outage + next.Outage, Length + next.Length, Jumps.AddRange(next.Jumps));

    public int CompareTo(ChainBack? other) =>
        other is null
            ? -1
            : (Losses, Outage, Length, Jumps.Length).CompareTo(
                (other.Losses, other.Outage, other.Length, other.Jumps.Length)
            );
}
