using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Learnt;

namespace TideStep.Core.Plans;

/// <summary>Turns a product's step names into the bound steps of a member, and its routines into lanes.</summary>
internal sealed class LaneBuilder(EstateIndex index, IReadOnlyDictionary<string, string> answers, Findings findings)
{
    /// <summary>What steps took in earlier runs.</summary>
    public LearntTimes Learnt { get; init; } = LearntTimes.None;

    /// <summary>The name of the step that waits for a member to be in step.</summary>
    public const string InStep = "in-step";

    private readonly bool _anyMovable = index.Estate.Nodes.Values.Any(n => n.Movable);
    private readonly HashSet<string> _ids = [];
    private readonly HashSet<(string Member, string Step)> _standing = [];
    private readonly Templates _templates = new();
    private readonly Dictionary<string, Expression> _parsed = [];

    public Product ProductOf(Member member) => index.Catalogue.Find(index.Estate.Find(member.Component)!.Product)!;

    public IEnumerable<PlanStep> Steps(
        string scope,
        Member member,
        IEnumerable<string> names,
        MemberState state,
        string? from,
        string? to,
        RollbackPlace? point = null,
        string? captures = null,
        string? closes = null,
        bool alone = false
    )
    {
        var product = ProductOf(member);
        var binding = new Binding(index.Estate, member, from, to, point, answers, findings, _templates)
        {
            Noted = product.Noted,
            Readings = product.ReadingNames,
        };
        foreach (var name in names)
        {
            if (!product.Steps.TryGetValue(name, out var spec))
            {
                findings.Add($"{product.Id}: there is no step '{name}'", null, Nearest.Hint(name, product.Steps.Keys));
                continue;
            }
            if (!Applies(spec, member) || (!alone && !Placed(spec.Scope, member)))
                continue;
            // What stands till the run's end is not put up again by a later jump, nor taken down in between.
            if (spec is { Undo: not null, Lasts: MeasureScope.Run } && !_standing.Add((member.Id, name)))
                continue;
            var during = spec.Do is RestartAction ? MemberState.Restarting : state;
            var (expected, reckoning) = Reckon(spec, member);
            // A time that grows with what is worked on stays the catalogue's: other times were other sizes.
            var learnt = spec.Rate is null ? Learnt.Of(product.Id, name) : null;
            if (learnt is not null)
                (expected, reckoning) = (learnt.Median, Told(learnt));
            if (spec.On == StepOn.Successor && index.Estate.Find(member.Component)!.Members.Length < 2)
                findings.Add(
                    $"{member.Id} has nobody to hand over to: step {name} is done on its successor",
                    spec.Place,
                    "Give the component another member, or take it down offline."
                );
            if (spec.On == StepOn.Others)
            {
                // Of the others each is at its own place; the member itself is not asked to wait for them in its state.
                foreach (var other in index.Estate.Find(member.Component)!.Members.Where(m => m.Id != member.Id))
                    yield return Made(
                        other,
                        new Binding(index.Estate, other, from, to, point, answers, findings, _templates)
                        {
                            Noted = product.Noted,
                            Readings = product.ReadingNames,
                        },
                        $"{scope}/{member.Id}/{name}-{other.Node}"
                    ) with
                    {
                        State = MemberState.InService,
                        On = StepOn.Others,
                    };
                continue;
            }
            if (spec.At is { } place)
            {
                foreach (var other in Elsewhere(spec, place, member, product))
                    yield return Titled(
                        other,
                        Made(
                            member,
                            new Binding(index.Estate, member, from, to, point, answers, findings, _templates)
                            {
                                Noted = product.Noted,
                                Readings = product.ReadingNames,
                                At = other,
                            },
                            $"{scope}/{member.Id}/{name}-{other.Node}"
                        )
                    ) with
                    {
                        At = other.Id,
                        Node = other.Node,
                        Account = index.Estate.Nodes[other.Node].Reach["account"],
                    };
                continue;
            }
            if (
                spec.Do is StopAction { Service: StepSpec.AllServices } or StartAction { Service: StepSpec.AllServices }
            )
            {
                foreach (
                    var step in OfServices(spec, product, member, service =>
                        Made(member, binding, $"{scope}/{member.Id}/{name}-{service}")
                    )
                )
                    yield return step;
                continue;
            }
            yield return Made(member, binding, $"{scope}/{member.Id}/{name}");

            PlanStep Made(Member member, Binding binding, string id) =>
                new PlanStep(
                    Unique(id),
                    name,
                    binding.Title(spec),
                    Variant(binding.Bind(spec.Do, spec), product, member, from, to),
                    binding.Bind(spec.Already, spec),
                    binding.Bind(spec.Verify, spec),
                    spec.VerifyWithin,
                    spec.Undo is { } undo ? binding.Bind(undo, spec) : null,
                    spec.Repeatable,
                    spec.Attempts,
                    spec.Limit,
                    spec.MayStop,
                    spec.SafeAfter,
                    expected,
                    during,
                    member.Id,
                    member.Node,
                    spec.Do is CaptureAction ? captures : null,
                    name == closes,
                    spec.Impact,
                    to,
                    from
                )
                {
                    AtMost = learnt is not null
                        ? learnt.High > expected
                            ? learnt.High
                            : null
                        : spec.UpTo > 1
                            ? expected * spec.UpTo
                            : null,
                    Learnt = learnt,
                    Reckoning = reckoning,
                    Lasts = spec is { Undo: not null, Lasts: not MeasureScope.Member } ? spec.Lasts : null,
                    Account = index.Estate.Nodes[member.Node].Reach["account"],
                    On = spec.On == StepOn.Successor ? StepOn.Successor : null,
                    Notes = spec.Notes,
                    Tells = spec.Tells.IsDefaultOrEmpty ? null : spec.Tells,
                    Voids = spec.Voids.IsDefaultOrEmpty ? null : VoidsOf(spec, member.Component),
                    Uses = point is not null && spec.Do is not CaptureAction ? point.Id : null,
                    Milestones = spec.Milestones.IsDefaultOrEmpty ? null : spec.Milestones,
                    EndsWell = spec.EndsWell.IsDefaultOrEmpty ? null : spec.EndsWell,
                    Digest = spec.Digest,
                    Owner = spec.Owner,
                    Must = spec.Must ? true : null,
                };
        }
    }

    // Where it is done stands in its title, unless that says so itself.
    private static PlanStep Titled(Member other, PlanStep step) =>
        step.Title.Contains(other.Node, StringComparison.Ordinal)
            ? step
            : step with
            {
                Title = $"{step.Title}, at {other.Node}",
            };

    private ImmutableArray<Member> Elsewhere(StepSpec spec, RelatedPlace place, Member member, Product product)
    {
        var found = RelatedMembers.Of(index.Estate, member, place);
        if (found.IsEmpty)
            findings.Add(
                $"step {spec.Name} of {product.Id} is done on what {member.Component} relates to by '{place}', and "
                    + "there is none",
                spec.Place,
                $"Relate {member.Component} to a component of {place.Product}, or say by 'for' where the step applies."
            );
        return found;
    }

    // An artefact of the jump is named by its identifier; each host gets the file of its variant.
    private StepAction Variant(StepAction action, Product product, Member member, string? from, string? to)
    {
        if (action is not SendAction and not InstallAction { File: not null })
            return action;
        var name = action is SendAction sent ? sent.Artefact : ((InstallAction)action).File!;
        var file = product
            .Jumps.Where(j => j.To.Label == to && (from is null || IsFrom(j, product, from)))
            .Select(j => PlanNeeds.VariantFor(index, member, j, name))
            .FirstOrDefault(a => a is not null)
            ?.File;
        return file is null ? action
            : action is SendAction send ? send with { Artefact = file }
            : (InstallAction)action with { File = file };
    }

    private static bool IsFrom(Jump jump, Product product, string from) =>
        jump.FromNone || (product.Scheme.TryParse(from) is { } version && jump.LeadsFrom(version, product.IsRelease));

    // Captures of another product are those of its components that this one touches.
    private ImmutableArray<string> VoidsOf(StepSpec spec, string component) =>
        [
            .. spec
                .Voids.SelectMany(v =>
                    CaptureName.Of(v) is { Product: { } of, Capture: var capture }
                        ? index
                            .Components.Where(c => c.Product == of && Touch(c, index.Estate.Find(component)!))
                            .Select(c => $"{c.Id}/{capture}")
                        : [v]
                )
                .Distinct()
                .Order(StringComparer.Ordinal),
        ];

    private static bool Touch(Component one, Component other) =>
        one.Relations.Any(r => r.To == other.Id) || other.Relations.Any(r => r.To == one.Id);

    // The trait of the component itself counts, or else that of its node.
    private bool Applies(StepSpec spec, Member member) =>
        spec.For.All(t =>
            (
                index.Estate.Find(member.Component)!.Traits.GetValueOrDefault(t.Key)
                ?? index.Estate.Nodes.GetValueOrDefault(member.Node)?.Traits.GetValueOrDefault(t.Key)
                ?? answers.GetValueOrDefault(t.Key)
            )
                is { } value
            && t.Value.Contains(value)
        );

    private readonly record struct Placement(bool FirstOfWave, bool FirstAtSite, bool First, bool Last);

    private Dictionary<string, Placement> _placed = [];

    /// <summary>Says in which order the members of a move come, wave by wave: steps that are not for each member are
    /// placed by it.</summary>
    public void Place(IEnumerable<IEnumerable<Member>> waves)
    {
        _placed = [];
        foreach (
            var component in waves
                .SelectMany((w, i) => w.Select(m => (Member: m, Wave: i)))
                .GroupBy(m => m.Member.Component)
        )
        {
            var (order, seen) = (component.ToList(), new HashSet<string>());
            for (var i = 0; i < order.Count; i++)
                _placed[order[i].Member.Id] = new Placement(
                    i == 0 || order[i - 1].Wave != order[i].Wave,
                    seen.Add(index.Estate.Nodes.GetValueOrDefault(order[i].Member.Node)?.Site ?? ""),
                    i == 0,
                    i == order.Count - 1
                );
        }
    }

    // A member that comes by itself is the first and the last.
    private bool Placed(StepScope scope, Member member) =>
        scope == StepScope.Member
        || !_placed.TryGetValue(member.Id, out var at)
        || scope switch
        {
            StepScope.Wave => at.FirstOfWave,
            StepScope.Site => at.FirstAtSite,
            StepScope.First => at.First,
            _ => at.Last,
        };

    // Stopped in the order that the product names them, started in reverse; each by itself, so that it is seen which is
    // in work, and proved by its own state.
    private IEnumerable<PlanStep> OfServices(StepSpec spec, Product product, Member member, Func<string, PlanStep> made)
    {
        var stops = spec.Do is StopAction;
        var order = stops ? product.Services : [.. product.Services.Reverse()];
        for (var i = 0; i < order.Length; i++)
        {
            var state = ExpressionParser.TryParse(
                $"service(\"{order[i]}\").active{(stops ? " = false" : "")}",
                out _,
                out _
            )!;
            var last = i == order.Length - 1;
            yield return made(order[i]) with
            {
                Title = $"{spec.Title}: {order[i]}",
                Do = stops ? new StopAction(order[i]) : new StartAction(order[i]),
                Already = state,
                Verify = last && spec.Verify is { } whole ? whole : state,
                VerifyWithin = last && spec.Verify is not null ? spec.VerifyWithin : ServiceWithin,
                Expected = spec.Expected / order.Length,
                // A member that was out already may have been stopped for good reasons of an earlier run: there all are
                // started.
                AsBefore = stops || index.IsOut(member) ? null : true,
            };
        }
    }

    private static readonly TimeSpan ServiceWithin = TimeSpan.FromMinutes(1);

    private static string Told(LearntTime learnt) =>
        $"learnt from {learnt.Times} times: mostly {Durations.Write(learnt.Low)} to {Durations.Write(learnt.High)}";

    // What it works on is what was read of the member; not known, the time is what it takes whatever there is.
    private (TimeSpan Expected, string? Reckoning) Reckon(StepSpec spec, Member member)
    {
        if (spec.Rate is not { } rate)
            return (spec.Expected, null);
        var each =
            $"{Durations.Write(spec.Expected)} and {Durations.Write(rate.Each)} for each {rate.Unit} of {rate.Of}";
        if (!index.Readings.Of(member).Values.TryGetValue(rate.Of, out var read))
            return (spec.Expected, $"{each}, which is not known");
        var amount = Units.TryBytes(read)
            ?? (double.TryParse(read, System.Globalization.CultureInfo.InvariantCulture, out var number) ? number : 0);
        return (
            spec.Expected + TimeSpan.FromSeconds(Math.Round(rate.Each.TotalSeconds * amount / rate.Per)),
            $"{each}: {read}"
        );
    }

    /// <summary>Members that go out on a node, the upper layers first: what stands on another leaves before
    /// it.</summary>
    public IEnumerable<Member> UpperFirst(IEnumerable<Member> members)
    {
        var all = members.ToList();
        var depth = all.ToDictionary(m => m.Id, m => Depth(m, all, 0));
        return all.OrderByDescending(m => depth[m.Id]).ThenBy(m => m.Id, StringComparer.Ordinal);
    }

    private int Depth(Member member, List<Member> all, int level)
    {
        var deepest = 0;
        if (level > 20)
            return 0;
        foreach (var relation in index.Estate.Find(member.Component)!.Relations)
            if (
                relation.Kind is RelationKind.StandsOn or RelationKind.Inside
                && all.FirstOrDefault(m => m.Component == relation.To && index.Estate.StandsOn(member.Node, m.Node))
                    is { } below
            )
                deepest = Math.Max(deepest, 1 + Depth(below, all, level + 1));
        return deepest;
    }

    public IEnumerable<PlanStep> Leave(string scope, Member member, string? from, string? to) =>
        Steps(
            $"{scope}/leave",
            member,
            ProductOf(member).Routines.LeaveOf(index.RoleOf(member)),
            MemberState.Leaving,
            from,
            to
        );

    /// <summary>What empties a node of those on it that can be moved, before it goes out: by the product of one of the
    /// members that go out on it. Nodes that were moved away from one host stand on another then, so that every host of
    /// a component is emptied where any carries some.</summary>
    /// <param name="scope">The part of the plan.</param>
    /// <param name="member">The member that moves.</param>
    /// <param name="goingOut">The members that go out on its node, itself among them.</param>
    /// <param name="wholeNode">Whether the node restarts.</param>
    public IEnumerable<PlanStep> Empty(
        string scope,
        Member member,
        IReadOnlyCollection<Member> goingOut,
        bool wholeNode
    )
    {
        if (!_anyMovable)
            return [];
        var hosts = index.Estate.Find(member.Component)!.Members.Select(m => m.Node).ToHashSet();
        var guests = hosts.SelectMany(index.Estate.MovableGuestsOf).ToList();
        var gone = goingOut.Select(m => index.NumberOf(m.Component)).ToHashSet();
        bool Carried(string guest) =>
            index.OnNode(guest).Any(g => gone.Any(c => index.CarriedBy(c).Contains(g.Component)));
        if (guests.Count == 0 || !(wholeNode || guests.Any(Carried)))
            return [];
        var by = goingOut
            .Where(m => m.Node == member.Node)
            .Prepend(member)
            .FirstOrDefault(m => !ProductOf(m).Routines.EmptyOf(index.RoleOf(m)).IsEmpty);
        if (by is null)
        {
            findings.Add(
                $"{member.Node} would have to be emptied of {string.Join(", ", guests)}, which can be moved, and "
                    + $"nothing says how",
                null,
                $"Give {ProductOf(member).Id} the routine 'empty', or take 'movable' away from those nodes."
            );
            return [];
        }
        var routines = ProductOf(by).Routines;
        return Steps($"{scope}/empty", by, routines.EmptyOf(index.RoleOf(by)), MemberState.Leaving, null, null)
            .Select(s => s.Attempts.Times > 1 ? s : s with { Attempts = routines.EmptyAttempts });
    }

    /// <summary>The returning routine, then the wait until the member is in step and, where a version is due, runs
    /// it.</summary>
    public IEnumerable<PlanStep> Return(string scope, Member member, string? from, string? to)
    {
        var routines = ProductOf(member).Routines;
        foreach (
            var step in Steps(
                $"{scope}/return",
                member,
                routines.ReturnOf(index.RoleOf(member)),
                MemberState.Verifying,
                from,
                to
            )
        )
            yield return step;
        if (Serving(scope, member, from, to) is { } serving)
            yield return serving;
    }

    /// <summary>What a person does inside the window, as a step at its place.</summary>
    public PlanStep Task(string scope, Member member, JumpTask task, string from, string to)
    {
        var binding = new Binding(index.Estate, member, from, to, null, answers, findings, _templates);
        return new PlanStep(
            Unique($"{scope}/{member.Id}/task"),
            "task",
            binding.Open(task.Title),
            new PersonAction(binding.Open(task.Instructions ?? task.Title)),
            null,
            null,
            TimeSpan.Zero,
            null,
            false,
            new AttemptPolicy(1, TimeSpan.Zero),
            TimeSpan.Zero,
            false,
            true,
            TimeSpan.Zero,
            MemberState.InService,
            member.Id,
            member.Node,
            null,
            false,
            null,
            null,
            null
        )
        {
            Owner = task.Owner,
        };
    }

    /// <summary>The wait until a member is in step and, where a version is due, runs it; null where the product has no
    /// such probe and no version is due.</summary>
    public PlanStep? Serving(string scope, Member member, string? from, string? to)
    {
        var routines = ProductOf(member).Routines;
        var text =
            (to is null ? "" : $"running = \"{to}\"")
            + (to is not null && routines.InStep is not null ? " and " : "")
            + (routines.InStep is { } inStep ? $"({inStep.Text})" : "");
        if (text.Length == 0)
            return null;
        if (!_parsed.TryGetValue(text, out var holds))
            _parsed[text] = holds = ExpressionParser.TryParse(text, out _, out _)!;
        var learnt = Learnt.Of(ProductOf(member).Id, InStep);
        return new PlanStep(
            Unique($"{scope}/{member.Id}/{InStep}"),
            InStep,
            to is null ? "wait until it is in step" : $"wait until it runs {to} and is in step",
            new AwaitAction(holds),
            null,
            null,
            TimeSpan.Zero,
            null,
            true,
            new AttemptPolicy(1, TimeSpan.Zero),
            routines.InStepWithin,
            false,
            true,
            learnt?.Median ?? TimeSpan.Zero,
            MemberState.Verifying,
            member.Id,
            member.Node,
            null,
            false,
            null,
            to,
            from
        )
        {
            Account = index.Estate.Nodes[member.Node].Reach["account"],
            Learnt = learnt,
            Reckoning = learnt is null ? null : Told(learnt),
            AtMost = learnt?.High > learnt?.Median ? learnt?.High : null,
        };
    }

    private string Unique(string id)
    {
        var own = id;
        for (var i = 2; !_ids.Add(own); i++)
            own = $"{id}.{i}";
        return own;
    }
}
