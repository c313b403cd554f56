using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Waves;

namespace TideStep.Core.Paths;

/// <summary>What a jump asks of another component: the versions of it that will do.</summary>
internal readonly record struct Demand(int Component, bool[] Allowed)
{
    /// <summary>Whether a version will do; -1, what is not known, does not.</summary>
    public bool IsMet(int version) => version >= 0 && Allowed[version];
}

/// <summary>A way for one component from one version to another: a jump by one method, with what it costs whatever the
/// state.</summary>
/// <param name="Requires">Must hold before and during the move.</param>
/// <param name="Together">Must hold before the move, or jump in it and hold after it.</param>
internal sealed record Option(
    int Component,
    int From,
    int To,
    Jump Jump,
    MethodFigures Figures,
    long Seconds,
    long OutageSeconds,
    List<Demand> Requires,
    List<Demand> Together,
    WavePlan? Waves,
    List<int> Out,
    Reason? Refused
)
{
    public Method Method => Figures.Method;

    public bool Closes => Jump.Closes is not null;

    public string Written { get; init; } = "";

    /// <summary>The members that move, where not all do: those that settle a component found mixed.</summary>
    public System.Collections.Immutable.ImmutableArray<Member>? Settles { get; init; }

    /// <summary>The estate that its waves were laid out on.</summary>
    public EstateIndex? WavesOn { get; init; }

    public bool Loses => !Jump.Loses.IsEmpty;

    /// <summary>The move of this one jump.</summary>
    public MoveOption AsMove => field ??= new MoveOption([this], Seconds, OutageSeconds, Out, Written);
}

/// <summary>One move as the search takes it: one jump, or several in one outage; the jumps by component, each one's in
/// their sequence.</summary>
internal sealed record MoveOption(
    System.Collections.Immutable.ImmutableArray<Option> Jumps,
    long Seconds,
    long OutageSeconds,
    List<int> Out,
    string Written
)
{
    public int Closing { get; } = Jumps.Count(j => j.Closes);

    public int Losing { get; } = Jumps.Count(j => j.Loses);

    public bool IsJoint => Jumps.Length > 1;
}

/// <summary>What is said of a pair in a state.</summary>
/// <param name="Verdict">The worst verdict of those that are new, where any is; else the worst.</param>
/// <param name="Inherited">Whether nothing of it is new: it stands today, or is carried on no worse.</param>
/// <param name="Transitional">Whether any of its versions is only tolerated.</param>
/// <param name="Relied">Whether any of its versions is untested or worse, not what stands today, and not allowed by
/// name.</param>
internal sealed record JudgedPair(PairVerdict Verdict, bool Inherited, bool Transitional, bool Relied)
{
    /// <summary>Whether any of its versions may not stand on the way: new, and neither supported nor transitional nor
    /// an allowed gap.</summary>
    public bool Blocked { get; init; }

    public void Deconstruct(out PairVerdict verdict, out bool inherited) => (verdict, inherited) = (Verdict, Inherited);
}

/// <summary>Why a component has to be settled before it moves: members that run nothing, with what is installed on
/// them, or a version that a restart would put into effect.</summary>
internal sealed record Unsettled(
    List<(Member Member, Core.Versions.Version Installed)> Idle,
    Core.Versions.Version? Owed
);

/// <summary>An estate, catalogue and goal in numbers: versions per component, verdicts per pair, options per
/// version.</summary>
internal sealed partial class PathProblem
{
    /// <param name="aside">Reasons, by what they say, that are set aside: pairs count as supported, what was refused or
    /// missing as there.</param>
    public PathProblem(
        PathRequest request,
        List<Target> targets,
        HashSet<int> pinned,
        bool relaxed,
        IReadOnlySet<string>? aside = null
    )
    {
        (Request, Index, Pinned, _aside) = (request, request.Index, pinned, aside);
        var n = Index.Components.Length;
        TargetOf = new Target?[n];
        foreach (var target in targets)
            TargetOf[target.Component] = target;
        Targets = targets;
        Products = new Product?[n];
        Versions = new Core.Versions.Version[n][];
        Today = new int[n];
        Found = new int[n][];
        LeadsDown = new bool[n];
        Stuck = new string?[n];
        Unsettled = new Unsettled?[n];
        Jumps =
        [
            .. Index.Components.Select(c => request.Jumps?.Invoke(c) ?? Index.Catalogue.Find(c.Product)?.Jumps ?? []),
        ];
        for (var c = 0; c < n; c++)
            ReadVersions(c);
        _stood =
        [
            .. Enumerable
                .Range(0, n)
                .Select(c =>
                    request.Stood?.GetValueOrDefault(Index.Components[c].Id) is { } label
                    && Products[c]?.Scheme.TryParse(label) is { } version
                        ? Array.IndexOf(Versions[c], version)
                        : -1
                ),
        ];
        Options = new List<Option>[n][];
        // Any restart puts what is owed into effect, so it is settled before anything else begins.
        _owing =
        [
            .. Enumerable
                .Range(0, n)
                .Where(c => Unsettled[c] is { Owed: not null } && Stuck[c] is null && !pinned.Contains(c)),
        ];
        _changing =
        [
            .. Enumerable
                .Range(0, n)
                .Where(c =>
                    (Index.IsAbsent(c) && !StaysAbsent(c) && Jumps[c].Any(j => j.FromNone) && AffectsOthers(c))
                    || Unsettled[c] is { Idle.Count: > 0 }
                ),
        ];
        for (var c = 0; c < n; c++)
            Options[c] = ReadOptions(c, relaxed);
        _judges = new Lazy<PairJudge>[Index.Pairs.Length];
        _verdicts = SharedVerdicts();
        _judged = [.. Index.Pairs.Select(p => new JudgedPair?[Versions[p.A].Length, Versions[p.B].Length])];
        _judgedAlone = [.. Index.Pairs.Select(p => new JudgedPair?[Versions[p.A].Length])];
        _misses = [.. Index.Pairs.Select(p => new bool?[Versions[p.A].Length])];
        _mayStand = [.. Index.Pairs.Select(p => new bool?[Versions[p.A].Length, Versions[p.B].Length])];
        PairsOf = [.. Enumerable.Range(0, n).Select(_ => new List<int>())];
        for (var p = 0; p < Index.Pairs.Length; p++)
        {
            PairsOf[Index.Pairs[p].A].Add(p);
            PairsOf[Index.Pairs[p].B].Add(p);
        }
    }

    private readonly IReadOnlySet<string>? _aside;
    private readonly int[] _owing;
    private readonly int[] _changing;
    private readonly int[] _stood;
    private readonly Lazy<PairJudge>[] _judges;
    private readonly PairVerdict?[][,] _verdicts;
    private readonly JudgedPair?[][,] _judged;
    private readonly JudgedPair?[][] _judgedAlone;
    private readonly bool?[][] _misses;
    private readonly bool?[][,] _mayStand;

    public PathRequest Request { get; }
    public EstateIndex Index { get; }
    public List<Target> Targets { get; }
    public Target?[] TargetOf { get; }
    public HashSet<int> Pinned { get; }
    public Product?[] Products { get; }

    /// <summary>Per component the jumps that lead on.</summary>
    public System.Collections.Immutable.ImmutableArray<Jump>[] Jumps { get; }

    /// <summary>Per component the versions it may be at, ordered; found mixed, one more stands at the end for
    /// that.</summary>
    public Core.Versions.Version[][] Versions { get; }

    /// <summary>Per component today's place in its versions; -1 where nothing runs or the product is not
    /// known.</summary>
    public int[] Today { get; }

    /// <summary>Per component the versions found on its members today.</summary>
    public int[][] Found { get; }
    public bool[] LeadsDown { get; }

    /// <summary>Why a component can't be planned at all, or null.</summary>
    public string?[] Stuck { get; }
    public List<Option>[][] Options { get; }

    /// <summary>Per component the pairs it stands in.</summary>
    public List<int>[] PairsOf { get; }

    /// <summary>What has to be settled of a component before it moves, or null.</summary>
    public Unsettled?[] Unsettled { get; }

    /// <summary>Whether a component is unsettled in a state: at more than one version, with members that run nothing,
    /// or with a restart owed.</summary>
    public bool IsMixed(int component, int version) =>
        Unsettled[component] is not null && version == Versions[component].Length - 1;

    /// <summary>Whether nothing runs of a component in a state, nor is installed.</summary>
    public bool IsAbsent(int component, int version) =>
        version >= 0 && Index.IsAbsent(component) && version == Today[component];

    /// <summary>Whether a component is where it was found today: for one found mixed, at any of the versions
    /// found.</summary>
    public bool IsAsToday(int component, int version) =>
        version == Today[component] || Found[component].Contains(version);

    /// <summary>Whether a component may stay unsettled: members that run nothing only keep it from moving.</summary>
    public bool MayStayUnsettled(int component) =>
        Stuck[component] is not null
        || (Unsettled[component] is { Idle.Count: > 0 } && Found[component].Length == 1 && TargetOf[component] is null)
        || (Unsettled[component] is { Owed: not null } && Pinned.Contains(component));

    /// <summary>A component's version in words: its label, or those it was found at.</summary>
    public string LabelOf(int c, int version) =>
        version < 0 ? "unknown"
        : IsMixed(c, version)
            ? string.Join(
                " and ",
                Found[c].Select(f => Versions[c][f].Label).Concat(Unsettled[c]!.Idle.Count > 0 ? ["none"] : [])
            ) + (Unsettled[c]!.Owed is { } due ? $" ({due.Label} owed)" : "")
        : Versions[c][version].Label;

    private void ReadVersions(int c)
    {
        var component = Index.Components[c];
        if (Index.Catalogue.Find(component.Product) is not { } product)
        {
            (Versions[c], Found[c], Today[c], Stuck[c]) = (
                [],
                [],
                -1,
                $"the catalogue has no product '{component.Product}'"
            );
            return;
        }
        Products[c] = product;
        if (Index.IsAbsent(c))
        {
            Versions[c] =
            [
                .. product.Releases.Select(r => r.Version).Concat(Jumps[c].Select(j => j.To)).Distinct().Order(),
                product.Scheme.TryParse("none")!, // the place that stands for "nothing runs"
            ];
            (Found[c], Today[c]) = ([], Versions[c].Length - 1);
            return;
        }
        var (running, idle, owed) = (
            new List<Core.Versions.Version>(),
            new List<(Member Member, Core.Versions.Version Installed)>(),
            new List<Core.Versions.Version>()
        );
        foreach (var member in component.Members)
        {
            var reading = Index.Readings.Of(member);
            if (reading.Running is not { } label)
            {
                if (reading.Installed is { } kept && product.Scheme.TryParse(kept) is { } at)
                    idle.Add((member, at));
                else
                    Stuck[c] = $"{member.Id} runs no known version, and none is known to be installed; settle it first";
                continue;
            }
            if (
                reading.Installed is { } installed
                && product.Scheme.TryParse(installed) is { } due
                && product.Scheme.TryParse(label) is { } now
                && !due.Equals(now)
                && !owed.Contains(due)
            )
                owed.Add(due);
            if (product.Scheme.TryParse(label) is { } version)
            {
                if (!running.Contains(version))
                    running.Add(version);
            }
            else
                Stuck[c] = $"{member.Id} runs '{label}', which is no version by the product's scheme";
        }
        var all = product
            .Releases.Select(r => r.Version)
            .Concat(Jumps[c].Select(j => j.To))
            .Concat(running)
            .Concat(owed)
            .Distinct()
            .Order()
            .ToList();
        Found[c] = [.. running.Select(v => all.IndexOf(v)).Order()];
        if (running.Count == 0 && idle.Count > 0)
            Stuck[c] ??= $"no member of {component.Id} runs; bring one into service first";
        else if (running.Count > 1 || idle.Count > 0)
            Unsettled[c] = new Unsettled(idle, null);
        else if (
            owed.Count == 1
            && Jumps[c].Any(j => j.To.Equals(owed[0]) && j.LeadsFrom(running[0], product.IsRelease))
        )
            Unsettled[c] = new Unsettled([], owed[0]);
        else if (owed.Count > 0)
            Stuck[c] ??=
                $"a restart is owed that would put {string.Join(" and ", owed)} into effect beside "
                + $"{running[0]}, and no jump leads there";
        if (Unsettled[c] is not null)
            all.Add(running.Max()!); // the place that stands for "not settled"
        Versions[c] = [.. all];
        Today[c] =
            running.Count == 0 ? -1
            : Unsettled[c] is not null ? all.Count - 1
            : Found[c][0];
        if (TargetOf[c] is { } target && running.Count > 0)
        {
            var highest = running.Max()!;
            LeadsDown[c] =
                !target.Range.Contains(highest, product.IsRelease)
                && product.Releases.All(r =>
                    !target.Range.Contains(r.Version, product.IsRelease) || r.Version <= highest
                );
        }
    }

    // What runs nothing, is no part of the goal and is needed by nobody stays so in every best path: to install it
    // would only add a jump, and pairs that are judged from then on.
    private bool StaysAbsent(int c) =>
        Index.IsAbsent(c)
        && TargetOf[c] is null
        && Index.Pairs.All(p => p.B != c || p.Kind == RelationKind.Peer)
        && Jumps.All(of =>
            of.All(j => j.Requires.Concat(j.Together).All(r => r.Product != Index.Components[c].Product))
        );

    // Whether others, or its own later moves, cost otherwise once it serves: by what it needs, by a node that it
    // shares, by what it may not be out together with.
    private bool AffectsOthers(int c) =>
        Jumps[c].Any(j => !j.FromNone)
        || Index.Pairs.Any(p =>
            (p.A == c && Index.NeedsOther(p)) || p.Kind == RelationKind.Peer && (p.A == c || p.B == c)
        )
        || Index
            .Components[c]
            .Members.Any(m => Index.WithGuests(m.Node).Count > 1 || Index.Estate.Nodes[m.Node].On is not null);

    private List<Option>[] ReadOptions(int c, bool relaxed)
    {
        var versions = Versions[c];
        var options = new List<Option>[versions.Length];
        for (var v = 0; v < versions.Length; v++)
            options[v] = [];
        if (Products[c] is not { } product || Today[c] < 0 || (Stuck[c] is not null && !relaxed) || StaysAbsent(c))
            return options;
        for (var from = 0; from < versions.Length; from++)
        {
            if (IsAbsent(c, from))
            {
                foreach (var jump in Jumps[c].Where(j => j.FromNone))
                    AddMethods(c, jump, from, Array.IndexOf(versions, jump.To), options[from], relaxed, null);
                continue;
            }
            if (IsMixed(c, from))
            {
                AddSettling(c, product, options[from], from, relaxed);
                continue;
            }
            foreach (var jump in Jumps[c])
                if ((!jump.Down || LeadsDown[c]) && jump.LeadsFrom(versions[from], product.IsRelease))
                    AddMethods(c, jump, from, Array.IndexOf(versions, jump.To), options[from], relaxed, null);
            if (
                _aside is not null
                && PathReasons.Missing(this, c, from, options[from]) is { Refused: { } missing } option
                && _aside.Contains(missing.What)
            )
                options[from].Add(option with { Refused = null });
        }
        if (!relaxed)
            LeaveOutWhatIsNeverReached(options, Today[c]);
        return options;
    }

    // Releases older than today's stand in every catalogue. What leads on only from them leads nowhere here, and an
    // outage that only they could ask for must not loosen the bounds of the search.
    private static void LeaveOutWhatIsNeverReached(List<Option>[] options, int today)
    {
        var reached = new bool[options.Length];
        var left = new Stack<int>([today]);
        while (left.TryPop(out var version))
        {
            if (reached[version])
                continue;
            reached[version] = true;
            foreach (var option in options[version])
                left.Push(option.To);
        }
        for (var v = 0; v < options.Length; v++)
            if (!reached[v])
                options[v].Clear();
    }

    // A component found mixed is first brought to one of the versions found, by jumps from the others and from what is
    // installed where nothing runs; only those members move.
    // An owed restart is the jump from what runs to what is installed.
    private void AddSettling(int c, Product product, List<Option> into, int mixed, bool relaxed)
    {
        if (Unsettled[c] is { Owed: { } due })
        {
            foreach (var jump in Jumps[c])
                if (jump.To.Equals(due) && jump.LeadsFrom(Versions[c][Found[c][0]], product.IsRelease))
                    AddMethods(c, jump, mixed, Array.IndexOf(Versions[c], due), into, relaxed, null);
            return;
        }
        foreach (var to in Found[c])
        foreach (var jump in Jumps[c])
            if (
                jump.To.Equals(Versions[c][to])
                && Found[c].Where(f => f != to).All(f => jump.LeadsFrom(Versions[c][f], product.IsRelease))
                && Unsettled[c]!.Idle.All(i => jump.LeadsFrom(i.Installed, product.IsRelease))
            )
                AddMethods(
                    c,
                    jump,
                    mixed,
                    to,
                    into,
                    relaxed,
                    [
                        .. Index
                            .Components[c]
                            .Members.Where(m =>
                                Index.Readings.Of(m).Running is not { } label
                                || (product.Scheme.TryParse(label) is { } v && !v.Equals(Versions[c][to]))
                            ),
                    ]
                );
    }

    private void AddMethods(
        int c,
        Jump jump,
        int from,
        int to,
        List<Option> into,
        bool relaxed,
        System.Collections.Immutable.ImmutableArray<Member>? members
    )
    {
        var component = Index.Components[c];
        foreach (var figures in jump.Methods)
        {
            if (!Request.Methods.IsDefaultOrEmpty && !Request.Methods.Contains(figures.Method))
                continue;
            List<Demand> Demands(IEnumerable<Requirement> wanted) =>
                [
                    .. wanted.SelectMany(r =>
                        RelatedOf(c, r.Product).Select(other => new Demand(other, AllowedBy(other, r)))
                    ),
                ];
            var option = new Option(
                c,
                from,
                to,
                jump,
                figures,
                0,
                0,
                [
                    .. Demands(jump.Requires),
                    .. Owing(c, from).Select(o => new Demand(o, [.. Versions[o].Select((_, v) => !IsMixed(o, v))])),
                ],
                Demands(jump.Together),
                null,
                [],
                null
            )
            {
                Written = $"{component.Id}@{Versions[c][to].Label}",
                Settles = members,
            };
            option = SetAside(Costed(option, IndexFor(option)));
            if (option.Refused is null || relaxed || DependsOnOthers)
                into.Add(option);
        }
    }

    /// <summary>Whether a component owes a restart, which any path settles before everything else.</summary>
    public bool Owes(int c) => _owing.Contains(c);

    // Every owed restart comes before all other moves, in any order among themselves.
    private IEnumerable<int> Owing(int c, int from) =>
        _owing.Contains(c) && IsMixed(c, from) ? [] : _owing.Where(o => o != c);

    /// <summary>Whether who is in service, and so what a move costs, depends on what others did before it: members
    /// that run nothing are brought back, or a component is installed for the first time.</summary>
    public bool DependsOnOthers => _changing.Length > 0;

    /// <summary>An option as it is in a state: its costs, who goes out with it, and whether it is refused.</summary>
    public Option In(Option option, int[] state)
    {
        if (_changing.Length == 0)
            return option;
        var key = (option, ChangedIn(state, option));
        if (!_inState.TryGetValue(key, out var known))
            _inState[key] = known = SetAside(Costed(option, Changed(key.Item2)));
        return known;
    }

    private readonly Dictionary<(Option, ulong), Option> _inState = [];
    private readonly Dictionary<ulong, EstateIndex> _changed = [];

    /// <summary>The estate as it is in a state on the way: who is in service there.</summary>
    public EstateIndex IndexIn(int[] state) => _changing.Length == 0 ? Index : Changed(ChangedIn(state, null));

    // Which of those that change who is in service have done so; a bit each.
    private ulong ChangedIn(int[] state, Option? own)
    {
        var mask = 0UL;
        for (var i = 0; i < Math.Min(_changing.Length, 64); i++)
            if (state[_changing[i]] != Today[_changing[i]] && own?.Component != _changing[i])
                mask |= 1UL << i;
        // Its own members, too, once they were brought back or installed.
        if (own is not null && Array.IndexOf(_changing, own.Component) is >= 0 and < 64 and var at)
            if (own.From != Today[own.Component])
                mask |= 1UL << at;
        return mask;
    }

    // The estate once the members of some components that ran nothing were brought into service.
    private EstateIndex Changed(ulong mask)
    {
        if (mask == 0)
            return Index;
        if (_changed.TryGetValue(mask, out var known))
            return known;
        var members = Index.Readings.Members;
        for (var i = 0; i < _changing.Length; i++)
        {
            if ((mask & (1UL << i)) == 0)
                continue;
            var c = _changing[i];
            if (Index.IsAbsent(c))
                foreach (var member in Index.Components[c].Members)
                    members = members.SetItem(member.Id, Installed(Index.Readings.Of(member), Versions[c][0].Label));
            else
                foreach (var (member, at) in Unsettled[c]!.Idle)
                    members = members.SetItem(member.Id, Installed(Index.Readings.Of(member), at.Label));
        }
        return _changed[mask] = new EstateIndex(
            Index.Estate,
            Index.Readings with
            {
                Members = members,
            },
            Index.Catalogue
        );
    }

    private Option SetAside(Option option) =>
        option.Refused is { } refused && _aside?.Contains(refused.What) == true
            ? option with
            {
                Refused = null,
            }
            : option;

    /// <summary>The estate as it is when an option begins and nothing but its own component has changed.</summary>
    public EstateIndex IndexFor(Option option)
    {
        var at = Array.IndexOf(_changing, option.Component);
        return at is >= 0 and < 64 && option.From != Today[option.Component] ? Changed(1UL << at) : Index;
    }

    private static MemberReading Installed(MemberReading reading, string version) =>
        reading with
        {
            Running = version,
            Installed = version,
            InService = true,
            RunsNothing = false,
        };

    // The figures of an option on the estate as it is when it begins.
    private Option Costed(Option option, EstateIndex index)
    {
        var (c, wholeNodes) = (option.Component, option.Jump.Restarts == RestartScope.Node);
        var (figures, members) = (option.Figures, option.Settles);
        option = option with { Refused = null };
        if (option.Requires.Concat(option.Together).Where(d => Today[d.Component] < 0).ToList() is [var unmet, ..])
            return option with
            {
                Refused = new Reason(
                    "requirement",
                    $"{option.Written} demands a version of {Index.Components[unmet.Component].Id}, "
                        + "which could not be read",
                    $"Survey {Index.Components[unmet.Component].Id} again, or say what it runs."
                ),
            };
        switch (figures.Method)
        {
            case Method.Rolling or Method.TwoSlot:
                var some = members is { } settling ? string.Join(' ', settling.Select(m => m.Id)) : "";
                var key = (index, c, wholeNodes, some, figures.Member > TimeSpan.Zero);
                var (plan, refusal) = _wavesOf.TryGetValue(key, out var known)
                    ? known
                    : _wavesOf[key] = WavePlanner.Plan(index, c, wholeNodes, members, figures.Member > TimeSpan.Zero);
                if (plan is null)
                    return option with
                    {
                        Refused = new Reason(
                            "guard",
                            $"{option.Written} can't be done by {figures.Method.Word()}: {refusal!.What}",
                            Opens(option.Jump, refusal)
                        ),
                    };
                var each = figures.Member + figures.Settle;
                var canary =
                    plan.Waves.Length > 0 && plan.Waves[0].Canary
                        ? figures.Member + (figures.CanarySettle ?? figures.Settle) - each
                        : TimeSpan.Zero;
                var outages = plan.Waves.Sum(w => w.ComponentsOut.Length) * figures.Member;
                return option with
                {
                    Waves = plan,
                    WavesOn = index,
                    Seconds = (long)(plan.Waves.Length * each + canary).TotalSeconds,
                    OutageSeconds = (long)outages.TotalSeconds,
                    Out = [.. plan.Waves.SelectMany(w => w.ComponentsOut).Distinct().Select(Index.NumberOf)],
                };
            case Method.Replace:
                var all = members ?? Index.Components[c].Members;
                var size =
                    Index.Components[c].Guard.Quorum || all.Any(m => Index.RoleOf(m) is not null)
                        ? 1
                        : Index.Components[c].Spares;
                return option with
                {
                    Seconds = (long)((all.Length + size - 1) / size * (figures.Member + figures.Settle)).TotalSeconds,
                };
            default:
                // Where nothing ran, nobody goes out for the first installation.
                var cascade = IsAbsent(c, option.From) ? [] : Service.Cascade(index, [c], _ => wholeNodes);
                var refused = Service.PeersTogether(index, cascade) is { } peers
                    ? new Reason(
                        "peers",
                        $"{option.Written} by {figures.Method.Word()} would take "
                            + $"{Index.Components[peers.A].Id} and {Index.Components[peers.B].Id} out together, and "
                            + $"they are peers",
                        "Allow it on their relation, or choose another method."
                    )
                    : null;
                return option with
                {
                    Seconds = (long)(figures.Install + figures.Outage + figures.Settle).TotalSeconds,
                    OutageSeconds = (long)figures.Outage.TotalSeconds * cascade.Count,
                    Out = [.. cascade],
                    Refused = refused,
                };
        }
    }

    // A method that its jump lacks has to be written first.
    private static string Opens(Jump jump, WaveRefusal refusal) =>
        jump.Methods.Any(m => m.Method is Method.Offline or Method.SideBySide)
            ? $"It would take {refusal.Left}."
            : $"It would take {refusal.Left}: write offline or side-by-side, with its outage, into the methods of jump "
                + $"{jump.Id}, or replace where there are spare members.";

    private readonly Dictionary<(EstateIndex, int, bool, string, bool), (WavePlan?, WaveRefusal?)> _wavesOf = [];

    private IEnumerable<int> RelatedOf(int c, string product) =>
        Index
            .Pairs.Where(p => p.A == c || p.B == c)
            .Select(p => p.A == c ? p.B : p.A)
            .Distinct()
            .Where(o => Index.Components[o].Product == product);

    // What runs nothing is in no range.
    private bool[] AllowedBy(int other, Requirement requirement) =>
        [
            .. Versions[other]
                .Select(
                    (v, i) =>
                        !IsAbsent(other, i)
                        && (IsMixed(other, i) ? Found[other] : [i]).All(f =>
                            requirement.Range.Contains(Versions[other][f], Products[other]!.IsRelease)
                        )
                ),
        ];
}
