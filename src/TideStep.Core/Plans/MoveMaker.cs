using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Waves;

namespace TideStep.Core.Plans;

/// <summary>Makes the blocks of one move after another.</summary>
internal sealed partial class MoveMaker
{
    private readonly EstateIndex _index;
    private readonly Findings _findings;
    private readonly LaneBuilder _lanes;
    private readonly ReturnOutlook? _outlook;

    /// <summary>For the way forward.</summary>
    public MoveMaker(
        EstateIndex index,
        PathAnswer path,
        IReadOnlyDictionary<string, string> answers,
        Findings findings,
        Learnt.LearntTimes learnt
    )
    {
        (_index, _findings, _lanes, _outlook, _canDoWithout) = (
            index,
            findings,
            new LaneBuilder(index, answers, findings) { Learnt = learnt },
            new ReturnOutlook(index, path, answers),
            CanDoWithout(index)
        );
    }

    /// <summary>For a way back: restores know their rollback points, and members that are out already go in a wave of
    /// their own before the others.</summary>
    /// <param name="restores">By which routines a restore brings a member back, and from which points, in their
    /// order.</param>
    /// <param name="outNow">The members that are out.</param>
    public MoveMaker(
        EstateIndex index,
        Func<Jump, Member, IEnumerable<(string Kind, RollbackPlace? Place)>> restores,
        IReadOnlySet<string> outNow,
        IReadOnlyDictionary<string, string> answers,
        Findings findings
    )
    {
        (_index, _findings, _lanes, _restores, _outNow, _canDoWithout) = (
            index,
            findings,
            new LaneBuilder(index, answers, findings),
            restores,
            outNow,
            CanDoWithout(index)
        );
    }

    private static List<Component> CanDoWithout(EstateIndex index) =>
        [.. index.Components.Where(c => c.Relations.Any(r => r is { Kind: RelationKind.DependsOn, Optional: true }))];

    private readonly Func<Jump, Member, IEnumerable<(string Kind, RollbackPlace? Place)>>? _restores;
    private readonly IReadOnlySet<string> _outNow = new HashSet<string>();
    private readonly Dictionary<string, ImmutableArray<Member>> _replaced = [];

    // A component that was replaced has its members on other nodes from then on.
    private ImmutableArray<Member> MembersOf(Component component) =>
        _replaced.GetValueOrDefault(component.Id, component.Members);

    public List<Block> Blocks { get; } = [];
    public List<PlannedPoint> Points { get; } = [];
    public HashSet<string> Touched { get; } = [];
    public List<string> Notes { get; } = [];

    /// <summary>How long it takes after a block, by its place, to be led back to where the work stood before a
    /// move.</summary>
    public TimeSpan Back(int block, int move) => _outlook?.Back(block, move) ?? TimeSpan.Zero;

    private readonly HashSet<string> _early = [];

    /// <summary>What lies ready before anything else is begun: the first preparations of components, as far as the goal
    /// wants them early. They change nothing that runs.</summary>
    public void Early(ImmutableArray<Move> moves, ImmutableArray<string> components)
    {
        foreach (var id in components.Distinct())
        {
            var at = moves.IndexOf(moves.FirstOrDefault(m => m.Jumps.Any(j => j.Component == id))!);
            if (at < 0)
            {
                _findings.Add(
                    $"{id} can't be made ready early: "
                        + (_index.Estate.Find(id) is null ? "the estate has no such component" : "nothing moves it"),
                    null,
                    Nearest.Hint(id, moves.SelectMany(m => m.Jumps).Select(j => j.Component))
                );
                continue;
            }
            var (move, jump) = (moves[at], moves[at].Jumps.First(j => j.Component == id));
            var product = _index.Catalogue.Find(_index.Estate.Find(id)!.Product)!;
            if (jump.Jump.Ahead.IsEmpty)
            {
                _findings.Add(
                    $"{id} can't be made ready early: jump {jump.Jump.Id} of {product.Id} does nothing ahead",
                    null,
                    "Leave it out of 'early', or give the jump steps in 'ahead'."
                );
                continue;
            }
            if (
                jump.Jump.Ahead.FirstOrDefault(s => product.Steps.GetValueOrDefault(s)?.Undo is not null) is { } measure
            )
            {
                _findings.Add(
                    $"{id} can't be made ready early: step {measure} of {product.Id} is a temporary measure, "
                        + $"which would stand for days",
                    null,
                    "Leave it out of 'early'."
                );
                continue;
            }
            var members = move.Waves is { } plan
                ? plan.Waves.SelectMany(w => w.Members).OrderBy(m => m.Id, StringComparer.Ordinal).ToImmutableArray()
                : MovingOf(jump);
            _lanes.Place(move.Waves is { } waves ? waves.Waves.Select(w => w.Members.AsEnumerable()) : [members]);
            var before = Blocks.Count;
            Ahead(at + 1, move, jump, members);
            if (Blocks.Count > before)
                Blocks[^1] = Blocks[^1] with { Early = true };
            _early.Add(id);
        }
    }

    public void Add(int number, Move move)
    {
        foreach (var id in move.Jumps.Select(j => j.Component))
            Touched.Add(id);
        _outlook?.Begin(move);
        var moving = move.Waves is { } plan
            ? plan.Waves.SelectMany(w => w.Members).OrderBy(m => m.Id, StringComparer.Ordinal).ToImmutableArray()
            : [];
        var inOrder = move.Waves is { } order ? FirstAlone(move.Jumps[0], Sorted(order)) : null;
        if (inOrder is not null)
            _lanes.Place(inOrder.Waves.Select(w => w.Members.Concat(w.AlsoOut)));
        else if (move.Method == Method.Replace)
            _lanes.Place([MovingOf(move.Jumps[0])]);
        else
            _lanes.Place([
                move
                    .Jumps.SelectMany(j => MovingOf(j))
                    .Concat(move.Out.SelectMany(c => MembersOf(_index.Estate.Find(c)!)))
                    .DistinctBy(m => m.Id),
            ]);
        // What is done ahead and captured while serving is of the first jump of each component: the later ones begin in
        // the outage.
        foreach (var jump in move.Jumps.DistinctBy(j => j.Component))
        {
            var members = move.Waves is null ? MovingOf(jump) : moving;
            if (!_early.Remove(jump.Component))
                Ahead(number, move, jump, members);
            var serving = CaptureLanes(number, jump, members);
            if (!serving.IsEmpty)
                Append(
                    number,
                    Phase.Secure,
                    0,
                    $"rollback points of {jump.Component}",
                    false,
                    [],
                    [],
                    serving,
                    TimeSpan.Zero
                );
        }
        foreach (var jump in move.Jumps)
            Tasks(number, jump, move.Waves is null ? MovingOf(jump) : moving);
        if (move.Waves is not null)
            Verify(move, moving);
        if (inOrder is not null)
            Roll(number, move.Jumps[0], inOrder);
        else if (move.Method == Method.Replace)
            Replace(number, move.Jumps[0]);
        else
            Outage(number, move);
        foreach (var jump in move.Jumps.Reverse().DistinctBy(j => j.Component).Reverse())
        {
            Finish(number, jump);
            Settled(jump);
            _runs[jump.Component] = jump.To.Label;
        }
        Uncaptured(number, move);
    }

    // A point that is wanted and that the plan has no place for is said, never left out in silence.
    private void Uncaptured(int number, Move move)
    {
        foreach (var jump in move.Jumps)
        foreach (var wish in jump.Jump.Points.Where(w => w.Of is not null))
            if (!Points.Any(p => p.Move == number && p.Kind == wish.Capture && ProductOf(p.Component) == wish.Of))
                _findings.Add(
                    $"move {number}: jump {jump.Jump.Id} wants {wish.Capture} of {wish.Of} "
                        + $"{(wish.WhileServing ? "while it serves" : "while it is stopped")}, and none that "
                        + $"{jump.Component} relates to "
                        + (wish.WhileServing ? "serves" : "is stopped by this move"),
                    wish.Place,
                    wish.WhileServing ? null : "Say while: serving, or choose a method that takes it out."
                );
    }

    private string? ProductOf(string component) => _index.Estate.Find(component)?.Product;

    // Offline all members move; found mixed, only those at another version.
    private ImmutableArray<Member> MovingOf(TakenJump jump)
    {
        var members = MembersOf(_index.Estate.Find(jump.Component)!);
        var others = members.Where(m => _index.Readings.Of(m).Running != jump.To.Label).ToImmutableArray();
        return others.IsEmpty ? members : others;
    }

    // Side by side the new version is put in its own place while the old one serves; only the switch is an outage.
    private void Ahead(int number, Move move, TakenJump jump, ImmutableArray<Member> members)
    {
        if (jump.Jump.Ahead.IsEmpty)
            return;
        TimeSpan? install = jump.Method == Method.SideBySide ? jump.Jump.By(jump.Method)!.Install : null;
        var parts = InOrder(jump);
        foreach (var part in parts)
        {
            ImmutableArray<Lane> lanes =
            [
                .. members
                    .Select(m => new Lane(
                        m.Id,
                        [
                            .. _lanes.Steps(
                                $"m{number}/ahead",
                                m,
                                part,
                                MemberState.InService,
                                jump.From.Label,
                                jump.To.Label,
                                closes: jump.Jump.Closes
                            ),
                        ]
                    ))
                    .Where(l => !l.Steps.IsEmpty),
            ];
            if (lanes.IsEmpty)
                continue;
            Append(
                number,
                Phase.Prepare,
                0,
                (
                    install is null
                        ? $"prepare {jump.Component} for {jump.To.Label}"
                        : $"install {jump.To.Label} beside the serving {jump.Component}"
                ) + (parts.Count == 1 ? "" : $": {lanes[0].Steps[0].Title}"),
                false,
                [],
                [],
                lanes,
                TimeSpan.Zero,
                install
            );
            install = install is null ? null : TimeSpan.Zero;
        }
    }

    // What one member does for the others is done before they go on: a part of its own between theirs.
    private List<ImmutableArray<string>> InOrder(TakenJump jump)
    {
        var product = _index.Catalogue.Find(_index.Estate.Find(jump.Component)!.Product)!;
        bool Waited(string step) =>
            product.Steps.TryGetValue(step, out var spec) && spec.Scope is StepScope.First or StepScope.Site;
        var parts = new List<ImmutableArray<string>>();
        foreach (var step in jump.Jump.Ahead)
            if (parts.Count == 0 || Waited(step) || Waited(parts[^1][^1]))
                parts.Add([step]);
            else
                parts[^1] = parts[^1].Add(step);
        return parts;
    }

    // What people do inside the window is done and signed before the move takes anybody out.
    private void Tasks(int number, TakenJump jump, ImmutableArray<Member> members)
    {
        var tasks = jump.Jump.Tasks.Where(t => t.When == TaskTime.Inside).ToList();
        if (tasks.Count == 0 || members.IsEmpty)
            return;
        var (from, to) = (jump.From.Label, jump.To.Label);
        Append(
            number,
            Phase.Prepare,
            0,
            $"what people do for {jump.Component} {to}",
            false,
            [],
            [],
            [new Lane(members[0].Id, [.. tasks.Select(t => _lanes.Task($"m{number}/tasks", members[0], t, from, to))])],
            TimeSpan.Zero
        );
    }

    // Closing work of a jump, done before anything else begins, and a look at every member.
    private void Finish(int number, TakenJump jump)
    {
        var component = _index.Estate.Find(jump.Component)!;
        var (from, to) = (jump.From.Label, jump.To.Label);
        AfterAll(number, jump);
        var checks = MembersOf(component)
            .Select(m => (m, Step: _lanes.Serving($"m{number}/verify", m, from, to)))
            .Where(c => c.Step is not null)
            .Select(c => new Lane(c.m.Id, [c.Step! with { State = MemberState.InService }]))
            .ToImmutableArray();
        if (!checks.IsEmpty)
            Append(
                number,
                Phase.Verify,
                0,
                $"every member of {component.Id} runs {to}",
                false,
                [],
                [],
                checks,
                TimeSpan.Zero
            );
    }

    private void AfterAll(int number, TakenJump jump)
    {
        if (jump.Jump.AfterAll.IsEmpty)
            return;
        var members = MembersOf(_index.Estate.Find(jump.Component)!);
        var roles = _lanes.ProductOf(members[0]).Roles;
        var last = members
            .OrderByDescending(m => roles.IndexOf(_index.RoleOf(m) ?? ""))
            .ThenBy(m => m.Id, StringComparer.Ordinal)
            .First();
        Append(
            number,
            Phase.Close,
            0,
            $"closing work of {jump.Component} {jump.To.Label}",
            false,
            [],
            [],
            [
                new Lane(
                    last.Id,
                    [
                        .. _lanes.Steps(
                            $"m{number}/after-all",
                            last,
                            jump.Jump.AfterAll,
                            MemberState.InService,
                            jump.From.Label,
                            jump.To.Label,
                            closes: jump.Jump.Closes,
                            alone: true
                        ),
                    ]
                ),
            ],
            TimeSpan.Zero
        );
    }

    // What a jump changes on a member, or what a restore brings back there: each point of the set in its turn.
    private IEnumerable<PlanStep> Change(string scope, Member member, TakenJump jump) =>
        jump.Jump.Restores.IsEmpty
            ? Changes(scope, member, jump, jump.Jump.Change, null)
            : (_restores?.Invoke(jump.Jump, member) ?? []).SelectMany(r =>
                Changes(
                    scope,
                    member,
                    jump,
                    _lanes.ProductOf(member).Routines.Restore.GetValueOrDefault(r.Kind, []),
                    r.Place
                )
            );

    private IEnumerable<PlanStep> Changes(
        string scope,
        Member member,
        TakenJump jump,
        ImmutableArray<string> steps,
        RollbackPlace? point
    ) =>
        _lanes.Steps(
            scope,
            member,
            steps,
            MemberState.Working,
            jump.From.Label,
            jump.To.Label,
            point,
            closes: jump.Jump.Closes
        );

    // The planner's waves are not taken on trust: a checker that shares nothing with it has to agree.
    private void Verify(Move move, ImmutableArray<Member> moving)
    {
        _checker ??= new WaveChecker(_index.Estate, _index.Catalogue.Products.ToDictionary(p => p.Id, p => p.Voting));
        foreach (
            var wrong in _checker.Check(
                _readings ?? _index.Readings,
                move.Component,
                moving,
                move.Jump.Restarts == RestartScope.Node,
                move.Waves!,
                move.Proof!
            )
        )
            _findings.Add(
                $"the waves of {move.Written} do not hold: {wrong}",
                null,
                "This is a mistake of the planner; the plan was not made."
            );
    }

    private WaveChecker? _checker;
    private Readings? _readings;

    // Members that ran nothing serve once their component was settled.
    private void Settled(TakenJump jump)
    {
        var readings = _readings ?? _index.Readings;
        foreach (var member in _index.Estate.Find(jump.Component)!.Members)
            if (readings.Of(member) is { Running: null } idle)
                readings = _readings = readings with
                {
                    Members = readings.Members.SetItem(
                        member.Id,
                        idle with
                        {
                            Running = jump.To.Label,
                            InService = true,
                        }
                    ),
                };
    }

    private void Roll(int number, TakenJump jump, WavePlan plan)
    {
        var figures = jump.Jump.By(jump.Method)!;
        var first = plan.Waves.SelectMany(w => w.Members).First();
        for (var w = 0; w < plan.Waves.Length; w++)
        {
            var wave = plan.Waves[w];
            var scope = $"m{number}/w{w + 1}";
            var lanes = wave
                .Members.Select(member =>
                {
                    var outHere = _lanes
                        .UpperFirst(wave.AlsoOut.Where(m => _index.Estate.StandsOn(m.Node, member.Node)))
                        .ToList();
                    var wholeNode = jump.Jump.Restarts == RestartScope.Node;
                    IEnumerable<PlanStep> steps = _lanes
                        .Empty(scope, member, [member, .. outHere], wholeNode)
                        .Concat(
                            outHere.SelectMany(m =>
                                _lanes.Leave(scope, m, null, null).Concat(StoppedCapturesOf(number, [jump], m))
                            )
                        )
                        .Concat(_lanes.Leave(scope, member, jump.From.Label, jump.To.Label))
                        .Concat(StoppedCaptures(number, jump, member, member == first))
                        .Concat(Change($"{scope}/change", member, jump))
                        .Concat(_lanes.Return(scope, member, jump.From.Label, jump.To.Label))
                        .Concat(Enumerable.Reverse(outHere).SelectMany(m => _lanes.Return(scope, m, null, null)));
                    return new Lane(member.Id, [.. steps])
                    {
                        Role = _lanes.ProductOf(member).Roles.IsEmpty ? null : _index.RoleOf(member),
                    };
                })
                .ToImmutableArray();
            foreach (var other in wave.AlsoOut)
                Touched.Add(other.Component);
            var settle = wave.Canary ? figures.CanarySettle ?? figures.Settle : figures.Settle;
            Append(
                number,
                Phase.Roll,
                w + 1,
                $"{jump.Component} wave {w + 1} of {plan.Waves.Length}{(wave.Canary ? ", canary" : "")}",
                true,
                [.. wave.Members.Concat(wave.AlsoOut).Select(m => m.Id)],
                wave.ComponentsOut,
                lanes,
                settle,
                figures.Member
            );
        }
    }

    // Members that are out already weigh on no guard: they go first and are back before another leaves.
    private WavePlan Sorted(WavePlan plan)
    {
        if (_outNow.Count == 0 || !plan.Waves.Any(w => w.Members.Any(m => _outNow.Contains(m.Id))))
            return plan;
        var gone = plan
            .Waves.SelectMany(w => w.Members)
            .Where(m => _outNow.Contains(m.Id))
            .OrderBy(m => m.Id, StringComparer.Ordinal)
            .ToImmutableArray();
        var with = plan
            .Waves.SelectMany(w => w.AlsoOut)
            .Where(m => gone.Any(g => _index.Estate.StandsOn(m.Node, g.Node)))
            .DistinctBy(m => m.Id)
            .OrderBy(m => m.Id, StringComparer.Ordinal)
            .ToImmutableArray();
        var first = new Wave(null, null, false, gone, with, []);
        return plan with
        {
            Waves =
            [
                first,
                .. plan
                    .Waves.Select(w =>
                        w with
                        {
                            Canary = false,
                            Members = [.. w.Members.Except(gone)],
                            AlsoOut = [.. w.AlsoOut.Except(with)],
                        }
                    )
                    .Where(w => !w.Members.IsEmpty),
            ],
        };
    }

    private void Append(
        int move,
        Phase phase,
        int wave,
        string title,
        bool guards,
        ImmutableArray<string> outgoing,
        ImmutableArray<string> componentsOut,
        ImmutableArray<Lane> lanes,
        TimeSpan settle,
        TimeSpan? figure = null
    )
    {
        lanes = [.. lanes.Where(l => !l.Steps.IsEmpty)];
        if (lanes.IsEmpty)
            return;
        // A wave takes as long as the catalogue says, or as its longest lane where the steps' own figures say more.
        var longest = lanes.Max(l => l.Steps.Aggregate(TimeSpan.Zero, (sum, s) => sum + s.Expected));
        // Where every step's own time was learnt, they say more than the catalogue's figure for the whole.
        var expected =
            figure is { } given && given > longest && !lanes.All(l => l.Steps.All(s => s.Learnt is not null))
                ? given
                : longest;
        TimeSpan? atMost = lanes.Any(l => l.Steps.Any(s => s.AtMost is not null))
            ? lanes.Max(l => l.Steps.Aggregate(TimeSpan.Zero, (sum, s) => sum + (s.AtMost ?? s.Expected)))
            : null;
        var block = new Block(
            Blocks.Count + 1,
            move,
            phase,
            wave,
            title,
            guards,
            outgoing,
            componentsOut,
            lanes,
            settle,
            expected,
            new ReturnPath(ReturnState.Clean, TimeSpan.Zero, _outlook is null ? "this is the return" : "")
        )
        {
            AtMost = atMost > expected ? atMost : null,
            StillServing = [.. StillServing(outgoing, componentsOut)],
        };
        Blocks.Add(_outlook is null ? block : _outlook.After(block));
    }

    private IEnumerable<string> StillServing(ImmutableArray<string> outgoing, ImmutableArray<string> componentsOut)
    {
        foreach (
            var gone in outgoing
                .GroupBy(m => MemberId.Of(m).Component)
                .Where(g => !componentsOut.Contains(g.Key))
                .OrderBy(g => g.Key, StringComparer.Ordinal)
        )
        {
            var members = MembersOf(_index.Estate.Find(gone.Key)!);
            yield return $"{gone.Key} with "
                + (
                    InService(gone.Key, members)
                    - gone.Count(id => _index.Estate.FindMember(id) is not { } m || !_index.IsOut(m))
                )
                + $" of {members.Length}";
        }
        if (componentsOut.IsEmpty)
            yield break;
        foreach (var component in _canDoWithout.Where(c => !componentsOut.Contains(c.Id)))
            if (
                component
                    .Relations.Where(r =>
                        r is { Kind: RelationKind.DependsOn, Optional: true } && componentsOut.Contains(r.To)
                    )
                    .Select(r => r.To)
                    .ToList() is
                { Count: > 0 } without
            )
                yield return $"{component.Id} without {string.Join(", ", without)}";
    }

    // Every wave of a component asks for this, so that it is counted once.
    private int InService(string component, ImmutableArray<Member> members)
    {
        if (_inService.TryGetValue(component, out var known) && known.Of == members)
            return known.Count;
        _inService[component] = known = (members, members.Count(m => !_index.IsOut(m)));
        return known.Count;
    }

    private readonly Dictionary<string, (ImmutableArray<Member> Of, int Count)> _inService = [];
    private readonly List<Component> _canDoWithout;
}
