using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Waves;

namespace TideStep.Core.Plans;

/// <summary>Works a path out into a plan: phases, waves, steps, times, rollback points and the return path after each block.</summary>
public static class PlanMaker
{
    /// <summary>The methods that a plan can carry out today.</summary>
    public static readonly ImmutableArray<Method> Methods = [Method.Rolling, Method.TwoSlot, Method.SideBySide, Method.Offline];

    /// <summary>How far ahead windows are looked for.</summary>
    private const int DaysAhead = 370;

    // A resting place: every component steady and no pair that is only tolerated. Measures of a member are taken back before its wave ends.
    private static string? Resting(EstateIndex index, PathAnswer path, int move)
    {
        if (!path.Moves[move - 1].Transitional.IsEmpty) return null;
        var settled = path.Moves.Take(move).SelectMany(m => m.Jumps).Select(j => j.Component).ToHashSet();
        var mixed = index.Components.Any(c => !settled.Contains(c.Id) && c.Members.Select(m => index.Readings.Of(m).Running).OfType<string>().Distinct().Count() > 1);
        return mixed ? null : "every component is steady and every pair supported";
    }

    /// <summary>The plan of a path that was found.</summary>
    /// <param name="index">The estate, its readings and the catalogue.</param>
    /// <param name="path">The path.</param>
    /// <param name="estateRevision">The digest of the estate's document, a premise.</param>
    /// <param name="catalogueRevision">The digest of the catalogue's documents, a premise.</param>
    /// <param name="inWindows">Whether the plan keeps to the estate's windows, where it has any.</param>
    public static Checked<Plan> Make(EstateIndex index, PathAnswer path, string estateRevision, string catalogueRevision, bool inWindows = true)
    {
        var findings = new Findings();
        var maker = new MoveMaker(index, findings);
        for (var i = 0; i < path.Moves.Length; i++) maker.Add(i + 1, path.Moves[i]);
        var (blocks, windows) = (maker.Blocks.ToImmutableArray(), ImmutableArray<PlanWindow>.Empty);
        if (inWindows && !index.Estate.Windows.IsEmpty && maker.Blocks.Count > 0 && !findings.Any)
            (blocks, windows) = Schedule.Fit(maker.Blocks, maker.WaysBack, move => Resting(index, path, move), WindowCalendar.After(index.Estate.Windows, TimeZoneInfo.FindSystemTimeZoneById(index.Estate.Zone), path.Day, DaysAhead), findings);
        var expected = maker.Blocks.Aggregate(TimeSpan.Zero, (sum, b) => sum + b.Expected + b.Settle);
        var premises = new Premises(estateRevision, catalogueRevision, index.Components.Where(c => maker.Touched.Contains(c.Id)).SelectMany(c => c.Members)
            .ToImmutableSortedDictionary(m => m.Id, m => index.Readings.Of(m).Running ?? "none", StringComparer.Ordinal));
        var plan = new Plan(Plan.Upgrade, null, index.Estate.Id, path.Day, [.. path.Goal.Select(g => $"{g.Component} {g.From} to {g.To}")], premises, [.. path.Moves.Select(Planned)], [.. maker.Points], blocks, expected, path.Notes) { Windows = windows };
        return new Checked<Plan>(findings.Any ? null : plan, findings.All);

        PlannedMove Planned(Move move, int at) => new(at + 1, move.Component, index.Estate.Find(move.Component)!.Product, move.From.Label, move.To.Label, move.Jump.Id, move.Method, move.Takes, move.OutageTime, move.Out,
            move.Waves?.Waves.Length ?? 1, move.Waves?.LowerBound ?? 1, [.. move.Transitional.Select(t => $"{t.Component} {t.Version} with {t.With} {t.At}")]);
    }
}

/// <summary>Makes the blocks of one move after another.</summary>
internal sealed class MoveMaker(EstateIndex index, Findings findings)
{
    private readonly LaneBuilder _lanes = new(index, findings);
    private readonly ReturnOutlook _outlook = new(index);

    public List<IReadOnlyList<(int Move, TimeSpan Length)>> WaysBack => _outlook.Ways;

    public List<Block> Blocks { get; } = [];
    public List<PlannedPoint> Points { get; } = [];
    public HashSet<string> Touched { get; } = [];

    public void Add(int number, Move move)
    {
        var component = index.Estate.Find(move.Component)!;
        var (scope, from, to) = ($"m{number}", move.From.Label, move.To.Label);
        var product = _lanes.ProductOf(component.Members[0]);
        var moving = move.Waves is { } plan ? plan.Waves.SelectMany(w => w.Members).OrderBy(m => m.Id, StringComparer.Ordinal).ToImmutableArray() : [.. component.Members.Where(m => index.Readings.Of(m).Running != to || move.From.Label == to)];
        if (move.Waves is null && move.Method is Method.Offline or Method.SideBySide) moving = component.Members;
        Touched.Add(component.Id);
        _outlook.Begin(number, move, product);

        // Side by side the new version is put in its own place while the old one serves; only the switch is an outage.
        TimeSpan? install = move.Method == Method.SideBySide ? move.Jump.By(move.Method)!.Install : null;
        if (!move.Jump.Ahead.IsEmpty) Append(number, Phase.Prepare, 0, install is null ? $"prepare {component.Id} for {to}" : $"install {to} beside the serving {component.Id}", false, [], [], [.. moving.Select(m => new Lane(m.Id, [.. _lanes.Steps($"{scope}/ahead", m, move.Jump.Ahead, MemberState.InService, from, to, closes: move.Jump.Closes)]))], TimeSpan.Zero, install);
        var serving = CaptureLanes(number, move, moving, whileServing: true);
        if (!serving.IsEmpty) Append(number, Phase.Secure, 0, $"rollback points of {component.Id}", false, [], [], serving, TimeSpan.Zero);

        if (move.Waves is { } waves) Roll(number, move, waves);
        else Offline(number, move, moving);

        if (!move.Jump.AfterAll.IsEmpty)
        {
            var roles = product.Roles;
            var last = component.Members.OrderByDescending(m => roles.IndexOf(index.RoleOf(m) ?? "")).ThenBy(m => m.Id, StringComparer.Ordinal).First();
            Append(number, Phase.Close, 0, $"closing work of {component.Id} {to}", false, [], [], [new Lane(last.Id, [.. _lanes.Steps($"{scope}/after-all", last, move.Jump.AfterAll, MemberState.InService, from, to, closes: move.Jump.Closes)])], TimeSpan.Zero);
        }
        var checks = component.Members.Select(m => (m, Step: _lanes.Serving($"{scope}/verify", m, from, to))).Where(c => c.Step is not null).Select(c => new Lane(c.m.Id, [c.Step! with { State = MemberState.InService }])).ToImmutableArray();
        if (!checks.IsEmpty) Append(number, Phase.Verify, 0, $"every member of {component.Id} runs {to}", false, [], [], checks, TimeSpan.Zero);
    }

    private ImmutableArray<Lane> CaptureLanes(int number, Move move, ImmutableArray<Member> members, bool whileServing)
    {
        var lanes = ImmutableArray.CreateBuilder<Lane>();
        foreach (var member in members)
        {
            var steps = move.Jump.Points.Where(p => p.WhileServing == whileServing && (p.PerMember || member == members[0])).SelectMany(p => Capture(number, move, member, p)).ToImmutableArray();
            if (!steps.IsEmpty) lanes.Add(new Lane(member.Id, steps));
        }
        return lanes.ToImmutable();
    }

    private IEnumerable<PlanStep> Capture(int number, Move move, Member member, PointWish wish)
    {
        var id = $"{member.Component}-{member.Node}-m{number}-{wish.Capture}";
        if (Points.All(p => p.Id != id)) Points.Add(new PlannedPoint(id, member.Component, member.Id, member.Node, number, wish.Capture, move.From.Label));
        return _lanes.Steps($"m{number}/capture", member, [wish.Capture], wish.WhileServing ? MemberState.InService : MemberState.Out, move.From.Label, move.To.Label, new RollbackPlace(id, wish.Capture, member.Id, "", move.From.Label), id);
    }

    private IEnumerable<PlanStep> StoppedCaptures(int number, Move move, Member member, bool first) =>
        move.Jump.Points.Where(p => !p.WhileServing && (p.PerMember || first)).SelectMany(p => Capture(number, move, member, p));

    private void Roll(int number, Move move, WavePlan plan)
    {
        var figures = move.Jump.By(move.Method)!;
        var first = plan.Waves.SelectMany(w => w.Members).First();
        for (var w = 0; w < plan.Waves.Length; w++)
        {
            var wave = plan.Waves[w];
            var scope = $"m{number}/w{w + 1}";
            var lanes = wave.Members.Select(member =>
            {
                var outHere = _lanes.UpperFirst(wave.AlsoOut.Where(m => m.Node == member.Node)).ToList();
                IEnumerable<PlanStep> steps = outHere.SelectMany(m => _lanes.Leave(scope, m, null, null))
                    .Concat(_lanes.Leave(scope, member, move.From.Label, move.To.Label))
                    .Concat(StoppedCaptures(number, move, member, member == first))
                    .Concat(_lanes.Steps($"{scope}/change", member, move.Jump.Change, MemberState.Working, move.From.Label, move.To.Label, closes: move.Jump.Closes))
                    .Concat(_lanes.Return(scope, member, move.From.Label, move.To.Label))
                    .Concat(Enumerable.Reverse(outHere).SelectMany(m => _lanes.Return(scope, m, null, null)));
                return new Lane(member.Id, [.. steps]);
            }).ToImmutableArray();
            foreach (var other in wave.AlsoOut) Touched.Add(other.Component);
            var settle = wave.Canary ? figures.CanarySettle ?? figures.Settle : figures.Settle;
            Append(number, Phase.Roll, w + 1, $"{move.Component} wave {w + 1} of {plan.Waves.Length}{(wave.Canary ? ", canary" : "")}", true, [.. wave.Members.Concat(wave.AlsoOut).Select(m => m.Id)], wave.ComponentsOut, lanes, settle, figures.Member);
        }
    }

    // What depends on the component is stopped first and started last, in exact reverse.
    private void Offline(int number, Move move, ImmutableArray<Member> moving)
    {
        var figures = move.Jump.By(move.Method)!;
        var order = DependantsFirst([.. move.Out]);
        foreach (var id in order) Touched.Add(id);
        foreach (var id in order)
        {
            var (members, own) = (index.Estate.Find(id)!.Members, id == move.Component);
            var lanes = members.Where(m => !index.IsOut(m)).Select(m => new Lane(m.Id, [.. _lanes.Leave($"m{number}/quiesce", m, own ? move.From.Label : null, own ? move.To.Label : null)])).Where(l => !l.Steps.IsEmpty).ToImmutableArray();
            if (!lanes.IsEmpty) Append(number, Phase.Quiesce, 0, $"stop {id}", false, [.. lanes.Select(l => l.Subject)], move.Out, lanes, TimeSpan.Zero);
        }
        var change = moving.Select(m => new Lane(m.Id, [.. StoppedCaptures(number, move, m, m == moving[0]).Concat(_lanes.Steps($"m{number}/change", m, move.Jump.Change, MemberState.Working, move.From.Label, move.To.Label, closes: move.Jump.Closes))])).Where(l => !l.Steps.IsEmpty).ToImmutableArray();
        Append(number, Phase.Roll, 1, $"{move.Component} to {move.To.Label}, out of service", false, [], move.Out, change, TimeSpan.Zero, figures.Outage);
        foreach (var id in Enumerable.Reverse(order))
        {
            var own = id == move.Component;
            var lanes = index.Estate.Find(id)!.Members.Where(m => own || !index.IsOut(m)).Select(m => new Lane(m.Id, [.. _lanes.Return($"m{number}/resume", m, own ? move.From.Label : null, own ? move.To.Label : null)])).Where(l => !l.Steps.IsEmpty).ToImmutableArray();
            if (!lanes.IsEmpty) Append(number, Phase.Resume, 0, $"start {id}", false, [], [.. order.TakeWhile(o => o != id)], lanes, own ? figures.Settle : TimeSpan.Zero);
        }
    }

    private List<string> DependantsFirst(List<string> components)
    {
        var done = new List<string>();
        foreach (var id in components.Order(StringComparer.Ordinal)) Visit(id, 0);
        return done;

        void Visit(string id, int level)
        {
            if (done.Contains(id) || level > components.Count) return;
            var number = index.NumberOf(id);
            foreach (var above in index.DependantsOf(number).Concat(index.CarriedBy(number)).Select(n => index.Components[n].Id).Order(StringComparer.Ordinal))
                if (components.Contains(above)) Visit(above, level + 1);
            if (!done.Contains(id)) done.Add(id);
        }
    }

    private void Append(int move, Phase phase, int wave, string title, bool guards, ImmutableArray<string> outgoing, ImmutableArray<string> componentsOut, ImmutableArray<Lane> lanes, TimeSpan settle, TimeSpan? figure = null)
    {
        if (lanes.IsEmpty) return;
        // A wave takes as long as the catalogue says, or as its longest lane where the steps' own figures say more.
        var longest = lanes.Max(l => l.Steps.Aggregate(TimeSpan.Zero, (sum, s) => sum + s.Expected));
        var expected = figure is { } given && given > longest ? given : longest;
        var block = new Block(Blocks.Count + 1, move, phase, wave, title, guards, outgoing, componentsOut, lanes, settle, expected, new ReturnPath(ReturnState.Clean, TimeSpan.Zero, ""));
        Blocks.Add(block with { Return = _outlook.After(block) });
    }
}
