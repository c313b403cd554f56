using System.Collections.Immutable;
using System.Text.Json.Serialization;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Core.Plans;

/// <summary>A part of a plan with one purpose.</summary>
public enum Phase
{
    Prepare,
    Secure,
    Quiesce,
    Roll,
    Settle,
    Verify,
    Resume,
    Close,
}

/// <summary>What a member is while a step is at work on it (4-execution, States).</summary>
public enum MemberState
{
    InService,
    Leaving,
    Out,
    Working,
    Restarting,
    Verifying,
    Failed,
    Reverted,
    LeftOut,
}

/// <summary>Whether the start can still be returned to.</summary>
public enum ReturnState
{
    Clean,
    WithLoss,
    Closed,
}

/// <summary>One action of a plan, every placeholder bound; its identifier is unique in the plan.</summary>
/// <param name="State">What the member is while the step is at work.</param>
/// <param name="Point">The rollback point that the step captures, or null.</param>
/// <param name="Closes">Whether from this step's intent on no reverse jump leads back.</param>
/// <param name="Expected">The catalogue's figure for how long it takes; nought where not given.</param>
public sealed record PlanStep(
    string Id,
    string Name,
    string Title,
    StepAction Do,
    Expression? Already,
    Expression? Verify,
    TimeSpan VerifyWithin,
    StepAction? Undo,
    bool Repeatable,
    AttemptPolicy Attempts,
    TimeSpan Limit,
    bool MayStop,
    bool SafeAfter,
    TimeSpan Expected,
    MemberState State,
    string Member,
    string Node,
    string? Point,
    bool Closes,
    string? Impact,
    string? To,
    string? From
)
{
    /// <summary>Whether it is the step that ends a member's turn: it waits until the member is in step.</summary>
    [JsonIgnore]
    public bool PutsInStep => Name == LaneBuilder.InStep;

    /// <summary>The component of its member.</summary>
    [JsonIgnore]
    public string Component => MemberId.Of(Member).Component;

    /// <summary>The longest that it may well take, where the catalogue gives a range; never less than <see
    /// cref="Expected"/>.</summary>
    public TimeSpan? AtMost { get; init; }

    /// <summary>What it took in earlier runs, where its time was learnt; null where it is the catalogue's
    /// figure.</summary>
    public Learnt.LearntTime? Learnt { get; init; }

    /// <summary>How the expected time was reckoned, where it grows with what the step works on.</summary>
    public string? Reckoning { get; init; }

    /// <summary>Till when it stands, where it is a temporary measure for more than its member; null for its member
    /// alone.</summary>
    public MeasureScope? Lasts { get; init; }

    /// <summary>The digest of the step as its product declares it, by which a rehearsal in another estate is held
    /// against it; null for what no product declares.</summary>
    public string? Digest { get; init; }

    /// <summary>On whom it is done, where that is not the member itself: who takes over is chosen and noted in the
    /// run.</summary>
    public StepOn? On { get; init; }

    /// <summary>The member of a related component at whose node it is done, with its own member as the subject; null
    /// where it is done at that one's node.</summary>
    public string? At { get; init; }

    /// <summary>Whose it is, where a person does it; null where nothing is said.</summary>
    public string? Owner { get; init; }

    /// <summary>Whether it can be neither skipped nor marked as done.</summary>
    public bool? Must { get; init; }

    /// <summary>The name under which the last line of its output is noted for later steps of its lane.</summary>
    public string? Notes { get; init; }

    /// <summary>The account under which it is done on its node; null where the node needs none.</summary>
    public string? Account { get; init; }

    /// <summary>The captures whose earlier rollback points of the component, or with its name before them of another
    /// component, lead nowhere any more once this step has begun; null where there are none.</summary>
    public ImmutableArray<string>? Voids { get; init; }

    /// <summary>Whether a rollback point of a component leads nowhere any more once this step has begun.</summary>
    /// <param name="component">The point's component.</param>
    /// <param name="capture">The step that captured it.</param>
    public bool MakesVoid(string component, string capture) =>
        Voids is { } voids && MakesVoid(Member, voids, component, capture);

    /// <summary>The same of a step for a member that voids those.</summary>
    public static bool MakesVoid(string member, ImmutableArray<string> voids, string component, string capture) =>
        voids.Any(v =>
            v == capture
                ? member.StartsWith(component + "/", StringComparison.Ordinal)
                : v.Length == component.Length + 1 + capture.Length
                    && v.StartsWith(component, StringComparison.Ordinal)
                    && v[component.Length] == '/'
                    && v.EndsWith(capture, StringComparison.Ordinal)
        );

    /// <summary>Whether a service is started only if it ran before it was stopped in this run: what stood still stays
    /// so; null for any other step.</summary>
    public bool? AsBefore { get; init; }

    /// <summary>What its output has to tell of its own success; null where nothing is asked of it.</summary>
    public ImmutableArray<ToldNumber>? Tells { get; init; }

    /// <summary>The parts of a long step, in their order; null where it is not told apart.</summary>
    public ImmutableArray<Milestone>? Milestones { get; init; }

    /// <summary>The exit statuses that are success; null where only 0 is.</summary>
    public ImmutableArray<int>? EndsWell { get; init; }

    /// <summary>The rollback point that this step brings back, or proves; null for any other.</summary>
    public string? Uses { get; init; }
}

/// <summary>Steps that follow one another for one subject; the lanes of a block run side by side.</summary>
public sealed record Lane(string Subject, ImmutableArray<PlanStep> Steps)
{
    /// <summary>The role that the plan takes its member to have, where roles differ; in another it does not leave
    /// service.</summary>
    public string? Role { get; init; }

    /// <summary>Whether its member hands its role over to another.</summary>
    [JsonIgnore]
    public bool HandsOver => Steps.Any(s => s.On == StepOn.Successor);
}

/// <summary>The return path as it stands after a block.</summary>
public sealed record ReturnPath(ReturnState State, TimeSpan Length, string Why)
{
    /// <summary>Where the way to the start is closed: how far one can still return; null where nowhere.</summary>
    public PartialReturn? Partly { get; init; }
}

/// <summary>How far one can still return where the way to the start is closed.</summary>
/// <param name="Move">The earliest move whose beginning can be reached.</param>
/// <param name="State">Whether that is without loss.</param>
/// <param name="Length">How long it takes.</param>
public sealed record PartialReturn(int Move, ReturnState State, TimeSpan Length);

/// <summary>Lanes that run together: a wave, or a part of a phase. The next block begins when all are done and the
/// settle time is over.</summary>
/// <param name="Move">The number of the move it belongs to, from 1.</param>
/// <param name="Wave">The number of the wave within the move, from 1; 0 where it is none.</param>
/// <param name="Outgoing">Members that leave service in this block, by component, for the check of guards.</param>
/// <param name="ComponentsOut">Components that serve nobody while the block is at work.</param>
public sealed record Block(
    int Number,
    int Move,
    Phase Phase,
    int Wave,
    string Title,
    bool CheckGuards,
    ImmutableArray<string> Outgoing,
    ImmutableArray<string> ComponentsOut,
    ImmutableArray<Lane> Lanes,
    TimeSpan Settle,
    TimeSpan Expected,
    ReturnPath Return
)
{
    /// <summary>Whether its move has begun with it: preparation that changes nothing that runs is no part of a move's
    /// beginning.</summary>
    [JsonIgnore]
    public bool OpensMove => Early != true && Phase != Phase.Prepare;

    /// <summary>The rollback points of this plan that it makes void, by their identifiers.</summary>
    public ImmutableArray<string> Voids { get; init; } = [];

    /// <summary>The captures that it makes void, earlier runs' as well: <c>component/capture</c>.</summary>
    public ImmutableArray<string> VoidsCaptures { get; init; } = [];

    /// <summary>When it begins by the plan's figures, where the plan has windows.</summary>
    public DateTimeOffset? Begins { get; init; }

    /// <summary>The last moment at which the return path, begun then, still ends inside the window.</summary>
    public DateTimeOffset? TurnBack { get; init; }

    /// <summary>The longest that its lanes may well take, where the catalogue gives ranges.</summary>
    public TimeSpan? AtMost { get; init; }

    /// <summary>Whether it makes something ready without effect and is done as soon as the run starts, outside any
    /// window; null where not.</summary>
    public bool? Early { get; init; }

    /// <summary>Whether the work pauses after it till the next window.</summary>
    public bool RestsAfter { get; init; }

    /// <summary>What goes on working though something is out: components with fewer members, and those that can do
    /// without what is out.</summary>
    public ImmutableArray<string> StillServing { get; init; } = [];
}

/// <summary>A rollback point the plan will capture: what it covers and how it leads back.</summary>
/// <param name="Restore">The name of the restore routine that uses it.</param>
public sealed record PlannedPoint(
    string Id,
    string Component,
    string Member,
    string Node,
    int Move,
    string Kind,
    string Version
)
{
    /// <summary>The consistency set: points captured at one quiesced moment, restored together; null for one by
    /// itself.</summary>
    public string? Set { get; init; }

    /// <summary>Whether its product says how it is restored; one that is only kept leads nobody back.</summary>
    public bool Restorable { get; init; } = true;

    /// <summary>How long it serves once its run has ended.</summary>
    public TimeSpan Serves { get; init; } = PointWish.ServesUsually;

    /// <summary>How long after its run the last point of its component is kept whatever is said.</summary>
    public TimeSpan Settle { get; init; } = PointWish.SettlesUsually;
}

/// <summary>A question that a version of the plan asks, with the answer that holds for all of it.</summary>
/// <param name="Given">Whether somebody answered; else the answer is what holds otherwise.</param>
public sealed record PlannedAnswer(string Id, string Asks, string Answer, bool Given, ImmutableArray<int> Moves);

/// <summary>An artefact that must be at hand, for which nodes and moves; those of the return path too.</summary>
public sealed record PlannedArtefact(
    string Id,
    string? File,
    string? Sha256,
    long? Bytes,
    ImmutableArray<string> Nodes,
    ImmutableArray<int> Moves,
    bool ForReturn
);

/// <summary>Something that people have to do, at its time.</summary>
public sealed record PlannedTask(TaskTime When, int Move, string Component, string Title)
{
    /// <summary>How it is done, where more has to be said than its title.</summary>
    public string? Instructions { get; init; }

    /// <summary>Whose it is; null where nobody is named.</summary>
    public string? Owner { get; init; }

    /// <summary>How long before its window it has to be done; null where it may be done till then.</summary>
    public TimeSpan? Ahead { get; init; }
}

/// <summary>A question that is asked before the work and after it, of which members, and what its answers
/// are.</summary>
public sealed record PlannedAsk(string Component, AskSpec Ask, ValueKind Kind, ImmutableArray<string> Members);

/// <summary>One jump of a move: the component, where it goes, by which jump of the catalogue (or which restore) and
/// method.</summary>
public sealed record PlannedJump(string Component, string Product, string From, string To, string Jump, Method Method);

/// <summary>One move as the plan shows it; component, versions, jump and method are those of its first jump.</summary>
public sealed record PlannedMove(
    int Number,
    string Component,
    string Product,
    string From,
    string To,
    string Jump,
    Method Method,
    TimeSpan Takes,
    TimeSpan OutageTime,
    ImmutableArray<string> Out,
    int Waves,
    int WavesAtLeast,
    ImmutableArray<string> Transitional
)
{
    /// <summary>What data it changes, in words.</summary>
    public ImmutableArray<string> Converts { get; init; } = [];

    /// <summary>All jumps of the move, in the order of criterion 12; more than one in a joint move.</summary>
    public required ImmutableArray<PlannedJump> Jumps { get; init; }

    /// <summary>Why it takes somebody out: why nothing stands in which everybody goes on serving.</summary>
    public string? WhyOut { get; init; }

    /// <summary>The components that it moves, each once.</summary>
    [JsonIgnore]
    public IEnumerable<string> Components => Jumps.Select(j => j.Component).Distinct();

    /// <summary>The move in words: each component with where it comes from and ends.</summary>
    [JsonIgnore]
    public string Words =>
        string.Join(
            " with ",
            Components.Select(c =>
                $"{c} {Jumps.First(j => j.Component == c).From} to {Jumps.Last(j => j.Component == c).To}"
            )
        );
}

/// <summary>What must still be so when the run starts; the plan is refused when it is not.</summary>
public sealed record Premises(
    string EstateRevision,
    string CatalogueRevision,
    ImmutableSortedDictionary<string, string> Running
);

/// <summary>A path worked out in full. It is frozen under the digest of its canonical form.</summary>
public sealed record Plan(
    string Kind,
    string? Parent,
    string Estate,
    DateOnly Day,
    ImmutableArray<string> Goal,
    Premises Premises,
    ImmutableArray<PlannedMove> Moves,
    ImmutableArray<PlannedPoint> Points,
    ImmutableArray<Block> Blocks,
    TimeSpan Expected,
    ImmutableArray<string> Notes
)
{
    /// <summary>The windows that the plan uses, in their order; none where the estate has none.</summary>
    public ImmutableArray<PlanWindow> Windows { get; init; } = [];

    /// <summary>When nothing may be changed, as far as that is known and not over.</summary>
    public ImmutableArray<PlannedFreeze> Freezes { get; init; } = [];

    /// <summary>What the versions ask, each question once.</summary>
    public ImmutableArray<PlannedAnswer> Answers { get; init; } = [];

    /// <summary>What must be at hand.</summary>
    public ImmutableArray<PlannedArtefact> Artefacts { get; init; } = [];

    /// <summary>What people have to do, in the order of its time.</summary>
    public ImmutableArray<PlannedTask> Tasks { get; init; } = [];

    /// <summary>What is asked before the work and after it.</summary>
    public ImmutableArray<PlannedAsk> Asks { get; init; } = [];

    /// <summary>Where a person has to say that it may go on, in the order of the parts.</summary>
    public ImmutableArray<PlannedSignOff> SignOffs { get; init; } = [];

    /// <summary>Whether it has to be rehearsed before it starts; null where not.</summary>
    public Estates.RehearsalDemand? Rehearsal { get; init; }

    /// <summary>Pairs of versions on the way that are to be known of.</summary>
    public ImmutableArray<Paths.NotedPair> Pairs { get; init; } = [];

    /// <summary>Requirements of its jumps that nothing can answer.</summary>
    public ImmutableArray<Paths.UnrelatedRequirement> Unrelated { get; init; } = [];

    /// <summary>Whether every untested pair may be relied on; the return path keeps to the same.</summary>
    public bool AllowsUntested { get; init; }

    /// <summary>The untested pairs that may be relied on by name.</summary>
    public ImmutableArray<Estates.AllowedPair> Allowed { get; init; } = [];

    public const string Upgrade = "upgrade";
    public const string Return = "return";

    /// <summary>The plan's name: the digest of its canonical form.</summary>
    [JsonIgnore]
    public string Digest => _digest ??= Json.Digest(this);
    private string? _digest;

    /// <summary>Says under which digest it is kept, which was taken over the bytes as they were written; newer code
    /// would perhaps write them otherwise.</summary>
    public Plan KeptAs(string digest)
    {
        _digest = digest;
        return this;
    }

    /// <summary>Components that the plan works on or takes out, for the reservation.</summary>
    [JsonIgnore]
    public ImmutableArray<string> Components
    {
        get
        {
            if (_components is not { } known || known.Of != Blocks)
                _components = known = (Blocks, ComponentsOf(Blocks));
            return known.Its;
        }
    }

    // A copy with other blocks asks again.
    private (ImmutableArray<Block> Of, ImmutableArray<string> Its)? _components;

    private static ImmutableArray<string> ComponentsOf(ImmutableArray<Block> blocks) =>
        [
            .. blocks
                .SelectMany(b => b.Lanes.SelectMany(l => l.Steps.Select(s => s.Component)).Concat(b.ComponentsOut))
                .Distinct()
                .Order(StringComparer.Ordinal),
        ];

    /// <summary>The step of that identifier.</summary>
    public PlanStep Step(string id) =>
        (_steps ??= Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).ToDictionary(s => s.Id))[id];

    private Dictionary<string, PlanStep>? _steps;

    /// <summary>The lane that a step stands in.</summary>
    public Lane LaneOf(string step) => Places[step].Lane;

    /// <summary>The number of the block that a step stands in.</summary>
    public int BlockOf(string step) => Places[step].Block;

    private Dictionary<string, (int Block, Lane Lane)> Places =>
        _places ??= Blocks
            .SelectMany(b => b.Lanes.SelectMany(l => l.Steps.Select(s => (s.Id, b.Number, Lane: l))))
            .ToDictionary(s => s.Id, s => (s.Number, s.Lane));

    private Dictionary<string, (int Block, Lane Lane)>? _places;

    /// <summary>The steps of a block that a person does.</summary>
    public IEnumerable<PlanStep> PersonSteps(int block) =>
        (
            _persons ??= Blocks
                .SelectMany(b => b.Lanes.SelectMany(l => l.Steps).Select(s => (b.Number, Step: s)))
                .Where(s => s.Step.Do is Catalogue.PersonAction)
                .ToLookup(s => s.Number, s => s.Step)
        )[block];

    private ILookup<int, PlanStep>? _persons;

    /// <summary>The steps of a member in their order, each with the number of its block.</summary>
    public IEnumerable<(int Block, PlanStep Step)> StepsOf(string member) =>
        (
            _ofMembers ??= Blocks
                .SelectMany(b => b.Lanes.SelectMany(l => l.Steps).Select(s => (b.Number, Step: s)))
                .ToLookup(s => s.Step.Member)
        )[member];

    private ILookup<string, (int Block, PlanStep Step)>? _ofMembers;

    /// <summary>How many steps it has.</summary>
    [JsonIgnore]
    public int StepCount => _stepCount ??= Blocks.Sum(b => b.Lanes.Sum(l => l.Steps.Length));
    private int? _stepCount;
}
