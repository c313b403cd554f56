using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Core.Waves;

namespace TideStep.Core.Returns;

/// <summary>What leading one move back would take, and what it would lose.</summary>
public sealed record WayBack(int Move, string Component, ImmutableArray<string> Members, ReturnState State, string By, DateTimeOffset? LossSince, string? Closed);

/// <summary>Plans the return of a run: moves in reverse order, each by a jump downwards or by the rollback points captured (3-planning, The return path).</summary>
public static class ReturnPlanner
{
    /// <summary>The ways back of every move that changed something, the last move first.</summary>
    public static ImmutableArray<WayBack> Ways(EstateIndex index, RunState state, int asFarAs = 1) =>
        [.. state.Plan.Moves.Reverse().Where(m => m.Number >= asFarAs).Select(m => Way(index, state, m)).OfType<WayBack>()];

    /// <summary>Members whose change has begun in a move, in the order of their waves.</summary>
    private static List<string> Changed(RunState state, int move) =>
        [.. state.Plan.Blocks.Where(b => b.Move == move).SelectMany(b => b.Lanes).Where(l => l.Steps.Any(s => s.State is MemberState.Working or MemberState.Restarting && Touched(state, s))).Select(l => l.Subject).Distinct()];

    // A refused attempt never ran; anything else that was intended may have changed something.
    private static bool Touched(RunState state, PlanStep step) => state.Of(step.Id).Attempts.Any(a => !a.Undo && a.End is not AttemptEnd.Refused);

    private static WayBack? Way(EstateIndex index, RunState state, PlannedMove move)
    {
        var members = Changed(state, move.Number);
        if (members.Count == 0) return null;
        var product = index.Catalogue.Find(move.Product)!;
        var (from, to) = (product.Scheme.TryParse(move.From)!, product.Scheme.TryParse(move.To)!);
        var closedBy = state.Plan.Blocks.Where(b => b.Move == move.Number).SelectMany(b => b.Lanes).SelectMany(l => l.Steps).FirstOrDefault(s => s.Closes && Touched(state, s));
        if (closedBy is null && product.Jumps.FirstOrDefault(j => j.Down && j.To.Equals(from) && j.LeadsFrom(to, product.IsRelease)) is { } back)
            return new WayBack(move.Number, move.Component, [.. members], ReturnState.Clean, $"jump {back.Id}", null, null);
        var points = members.Select(m => PointOf(state, product, move.Number, m)).ToList();
        if (points.All(p => p is not null))
        {
            var served = members.Any(m => state.Plan.Blocks.Where(b => b.Move == move.Number).SelectMany(b => b.Lanes).Any(l => l.Subject == m && l.Steps.Any(s => s.State == MemberState.Verifying && state.Of(s.Id).Status == StepStatus.Done)));
            return new WayBack(move.Number, move.Component, [.. members], served ? ReturnState.WithLoss : ReturnState.Clean, $"rollback points {string.Join(", ", points.Select(p => p!.Planned.Id))}", served ? points.Min(p => p!.CapturedAt) : null, null);
        }
        return new WayBack(move.Number, move.Component, [.. members], ReturnState.Closed, "", null, closedBy is null ? $"{product.Id} has no jump from {to} down to {from} and no verified rollback point covers {members[points.IndexOf(null)]}" : $"the step {closedBy.Title} closed it");
    }

    private static PointState? PointOf(RunState state, Product product, int move, string member) =>
        state.Points.Values.FirstOrDefault(p => p.Planned.Move == move && p.Planned.Member == member && p.Verified is not null && product.Routines.Restore.ContainsKey(p.Planned.Kind));

    /// <summary>The plan that leads back as far as the start of a move, or why it is closed.</summary>
    public static Checked<Plan> Make(EstateIndex index, string run, RunState state, int asFarAs, string estateRevision, string catalogueRevision)
    {
        var findings = new Findings();
        var ways = Ways(index, state, asFarAs);
        foreach (var way in ways) if (way.Closed is { } closed) findings.Add($"the return path of {way.Component} is closed: {closed}", null, "Stop here, or try again.");
        var lanes = new LaneBuilder(index, findings);
        var blocks = new List<Block>();
        var moves = new List<PlannedMove>();
        foreach (var way in ways)
        {
            if (way.Closed is not null) continue;
            var move = state.Plan.Moves[way.Move - 1];
            moves.Add(new PlannedMove(moves.Count + 1, move.Component, move.Product, move.To, move.From, way.By, move.Method, TimeSpan.Zero, TimeSpan.Zero, move.Out, way.Members.Length, 1, []));
            if (move.Method is Method.Offline or Method.SideBySide) Offline(index, state, move, moves.Count, lanes, blocks);
            else Rolling(index, state, move, way, moves.Count, lanes, blocks);
        }
        var touched = blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => s.Member).Distinct().ToHashSet();
        var premises = new Premises(estateRevision, catalogueRevision, touched.Where(m => index.Estate.FindMember(m) is not null).ToImmutableSortedDictionary(m => m, m => "any", StringComparer.Ordinal));
        var plan = new Plan(Plan.Return, run, state.Plan.Estate, state.Plan.Day, [.. moves.Select(m => $"{m.Component} {m.From} back to {m.To}")], premises, [.. moves], [], [.. blocks],
            blocks.Aggregate(TimeSpan.Zero, (sum, b) => sum + b.Expected + b.Settle), [.. ways.Where(w => w.State == ReturnState.WithLoss).Select(w => $"{w.Component}: what was written since {w.LossSince:u} is lost")]);
        return new Checked<Plan>(findings.Any ? null : plan, findings.All);
    }

    private static IEnumerable<PlanStep> Back(RunState state, PlannedMove move, Member member, string scope, LaneBuilder lanes)
    {
        var product = lanes.ProductOf(member);
        var (from, to) = (product.Scheme.TryParse(move.From)!, product.Scheme.TryParse(move.To)!);
        var closed = state.Plan.Blocks.Where(b => b.Move == move.Number).SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Any(s => s.Closes && Touched(state, s));
        if (!closed && product.Jumps.FirstOrDefault(j => j.Down && j.To.Equals(from) && j.LeadsFrom(to, product.IsRelease)) is { } back)
            return lanes.Steps($"{scope}/back", member, back.Change, MemberState.Working, move.To, move.From);
        var captured = PointOf(state, product, move.Number, member.Id)!;
        var steps = product.Routines.Restore[captured.Planned.Kind];
        return lanes.Steps($"{scope}/restore", member, steps, MemberState.Working, move.To, move.From, new RollbackPlace(captured.Planned.Id, captured.Planned.Kind, member.Id, captured.Place, move.From));
    }

    // Members that are out already go first: they weigh on no guard; the others follow in the reverse of their waves, one by one.
    private static void Rolling(EstateIndex index, RunState state, PlannedMove move, WayBack way, int number, LaneBuilder lanes, List<Block> blocks)
    {
        var restartsNode = index.Catalogue.Find(move.Product)!.Jumps.FirstOrDefault(j => j.Id == move.Jump)?.Restarts == RestartScope.Node;
        var order = way.Members.Reverse().OrderBy(m => state.MemberStateOf(m) == MemberState.InService).ToList();
        for (var i = 0; i < order.Count; i++)
        {
            var member = index.Estate.FindMember(order[i])!;
            var scope = $"r{number}/w{i + 1}";
            var also = lanes.UpperFirst(Service.OutWith(index, [(index.NumberOf(member.Component), member)], restartsNode).Where(id => id != member.Id).Select(id => index.Estate.FindMember(id)!)).ToList();
            IEnumerable<PlanStep> steps = also.SelectMany(m => lanes.Leave(scope, m, null, null)).Concat(lanes.Leave(scope, member, move.To, move.From)).Concat(Back(state, move, member, scope, lanes))
                .Concat(lanes.Return(scope, member, move.To, move.From)).Concat(Enumerable.Reverse(also).SelectMany(m => lanes.Return(scope, m, null, null)));
            ImmutableArray<PlanStep> all = [.. steps];
            blocks.Add(new Block(blocks.Count + 1, number, Phase.Roll, i + 1, $"{move.Component} back to {move.From}, {member.Node}", true, [member.Id, .. also.Select(m => m.Id)], [], [new Lane(member.Id, all)], TimeSpan.Zero,
                all.Aggregate(TimeSpan.Zero, (sum, s) => sum + s.Expected), new ReturnPath(ReturnState.Clean, TimeSpan.Zero, "this is the return")));
        }
    }

    private static void Offline(EstateIndex index, RunState state, PlannedMove move, int number, LaneBuilder lanes, List<Block> blocks)
    {
        var changed = Changed(state, move.Number).ToHashSet();
        void Add(Phase phase, string title, IEnumerable<Lane> what)
        {
            ImmutableArray<Lane> all = [.. what.Where(l => !l.Steps.IsEmpty)];
            if (!all.IsEmpty) blocks.Add(new Block(blocks.Count + 1, number, phase, 0, title, false, [], move.Out, all, TimeSpan.Zero, all.Max(l => l.Steps.Aggregate(TimeSpan.Zero, (s, x) => s + x.Expected)), new ReturnPath(ReturnState.Clean, TimeSpan.Zero, "this is the return")));
        }
        // The plan stopped what depends on the component in this order; it is stopped so again and started in reverse.
        var order = state.Plan.Blocks.Where(b => b.Move == move.Number && b.Phase == Phase.Quiesce).Select(b => b.Lanes[0].Subject[..b.Lanes[0].Subject.IndexOf('/')]).Distinct().ToList();
        foreach (var id in order) Add(Phase.Quiesce, $"stop {id}", index.Estate.Find(id)!.Members.Select(m => new Lane(m.Id, [.. lanes.Leave($"r{number}/quiesce", m, null, null)])));
        Add(Phase.Roll, $"{move.Component} back to {move.From}", index.Estate.Find(move.Component)!.Members.Where(m => changed.Contains(m.Id)).Select(m => new Lane(m.Id, [.. Back(state, move, m, $"r{number}", lanes)])));
        foreach (var id in Enumerable.Reverse(order))
            Add(Phase.Resume, $"start {id}", index.Estate.Find(id)!.Members.Select(m => new Lane(m.Id, [.. lanes.Return($"r{number}/resume", m, move.To, id == move.Component ? move.From : null)])));
    }
}
