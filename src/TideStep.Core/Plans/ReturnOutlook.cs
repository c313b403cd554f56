using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Plans;

/// <summary>Tells after each block of a plan whether the start can still be reached, with what loss, and how long it takes.</summary>
internal sealed class ReturnOutlook(EstateIndex index)
{
    private sealed class MoveSoFar
    {
        public required int Number { get; init; }
        public required Move Move { get; init; }
        public required Product Product { get; init; }
        public bool Changed { get; set; }
        public bool Served { get; set; }
        public bool Closed { get; set; }
        public HashSet<string> Captured { get; } = [];
        public HashSet<string> Points { get; } = [];
        public HashSet<string> Members { get; } = [];
    }

    private readonly List<MoveSoFar> _moves = [];

    /// <summary>For each block so far how long each move would take to be led back after it; nought where its way is closed.</summary>
    public List<IReadOnlyList<(int Move, TimeSpan Length)>> Ways { get; } = [];

    public void Begin(int number, Move move, Product product) => _moves.Add(new MoveSoFar { Number = number, Move = move, Product = product });

    public ReturnPath After(Block block)
    {
        var now = _moves[^1];
        foreach (var step in block.Lanes.SelectMany(l => l.Steps))
        {
            if (step.Closes) now.Closed = true;
            if (step.Point is not null) { now.Points.Add(step.Name); now.Captured.Add(step.Member); }
            if (step.State == MemberState.Working) { now.Changed = true; now.Members.Add(step.Member); }
        }
        if (now.Changed && block.Phase is Phase.Roll or Phase.Resume && block.Lanes.Any(l => l.Steps.Any(s => s.State == MemberState.Verifying))) now.Served = true;
        var ways = _moves.Where(m => m.Changed).Select(Way).ToList();
        Ways.Add([.. _moves.Where(m => m.Changed).Zip(ways, (m, w) => (m.Number, w.Length))]);
        if (ways.Count == 0) return new ReturnPath(ReturnState.Clean, TimeSpan.Zero, "nothing has been changed");
        var length = ways.Aggregate(TimeSpan.Zero, (sum, w) => sum + w.Length);
        var worst = ways.OrderByDescending(w => w.State).First();
        return worst with { Length = length };
    }

    private ReturnPath Way(MoveSoFar move)
    {
        var (from, to) = (move.Move.From, move.Move.To);
        var share = move.Members.Count;
        if (!move.Closed && move.Product.Jumps.FirstOrDefault(j => j.Down && j.To.Equals(from) && j.LeadsFrom(to, move.Product.IsRelease)) is { } back)
            return new ReturnPath(ReturnState.Clean, Length(back, move), $"{move.Move.Component} by jump {back.Id}");
        if (move.Points.FirstOrDefault(p => move.Product.Routines.Restore.ContainsKey(p)) is { } kind && move.Members.All(move.Captured.Contains))
        {
            var steps = move.Product.Routines.Restore[kind].Select(s => move.Product.Steps.TryGetValue(s, out var spec) ? spec.Expected : TimeSpan.Zero);
            var each = steps.Aggregate(TimeSpan.Zero, (a, b) => a + b) + (move.Move.Jump.By(move.Move.Method)?.Settle ?? TimeSpan.Zero);
            return new ReturnPath(move.Served ? ReturnState.WithLoss : ReturnState.Clean, each * share, move.Served ? $"{move.Move.Component} from {kind}: what was written since its capture is lost" : $"{move.Move.Component} from {kind}");
        }
        return new ReturnPath(ReturnState.Closed, TimeSpan.Zero, $"{move.Move.Component} {to.Label} has no way down to {from.Label}{(move.Closed ? " after " + move.Move.Jump.Closes : "")} and no rollback point covers it");
    }

    private TimeSpan Length(Jump back, MoveSoFar move)
    {
        var figures = back.By(move.Move.Method) ?? back.Methods[0];
        return figures.Method is Method.Offline or Method.SideBySide ? figures.Outage + figures.Settle : Math.Max(1, move.Members.Count) * (figures.Member + figures.Settle) / Math.Max(1, Math.Min(index.Estate.Find(move.Move.Component)!.Guard.AtOnce, move.Members.Count));
    }
}
