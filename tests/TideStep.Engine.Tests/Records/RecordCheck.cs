using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;

namespace TideStep.Engine.Tests.Records;

/// <summary>Holds what the far side recorded against what the plan says: nothing lost, nothing twice, in order, every
/// measure undone, every point taken, and every promise of a return carried out in a copy. Shares no code with what
/// carries a run out.</summary>
internal static class RecordCheck
{
    private static IEnumerable<(Block Block, Lane Lane, PlanStep Step)> Steps(Plan plan) =>
        from block in plan.Blocks
        from lane in block.Lanes
        from step in lane.Steps
        where step.Do is not (AwaitAction or PersonAction)
        select (block, lane, step);

    /// <summary>What is wrong with a run's record; empty where nothing is.</summary>
    /// <param name="attempts">Which step each attempt was for, and whether it took something back, by the journal's
    /// intents.</param>
    public static IEnumerable<string> Of(Plan plan, Voyage voyage, DataFleet far)
    {
        var intents = voyage
            .Journal.Entries.Select(e => e.Event)
            .OfType<Intended>()
            .ToDictionary(i => i.Attempt, i => i);
        var left = voyage.State.LeftOut;
        var done = far
            .Deeds.Where(d => d.Verb != "check-point" && intents.ContainsKey(d.Attempt))
            .Select((d, at) => (Deed: d, At: at, intents[d.Attempt].Step, intents[d.Attempt].Undo))
            .ToList();
        foreach (
            var deed in far.Deeds.Where(d =>
                d.Verb != "check-point" && voyage.IsOwn(d.Attempt) && !intents.ContainsKey(d.Attempt)
            )
        )
            yield return $"{deed.Node} did '{deed.Words}' without an intent";
        var forward = done.Where(d => !d.Undo).ToLookup(d => d.Step);
        var ended = voyage.State.End;
        var reached = ended == RunEnd.Completed ? plan.Blocks.Length : voyage.State.BlocksDone;
        foreach (var (block, lane, step) in Steps(plan).Where(s => s.Block.Number <= reached))
        {
            var times = forward[step.Id].Count();
            if (times == 0 && step.Already is null && !left.Contains(lane.Subject))
                yield return $"{step.Id} was not done";
            if (times > 1 && !step.Repeatable)
                yield return $"{step.Id} was done {times} times";
            foreach (var deed in forward[step.Id].Where(d => d.Deed.Node != step.Node))
                yield return $"{step.Id} was done on {deed.Deed.Node}, not on {step.Node}";
        }
        foreach (var wrong in OutOfOrder(plan, forward))
            yield return wrong;
        foreach (var (member, program) in far.Programs.Where(p => !p.Value.Measures.IsEmpty))
            yield return $"{member} is left with {string.Join(", ", program.Measures)}";
        if (ended != RunEnd.Completed)
            yield break;
        foreach (var point in plan.Points.Where(p => !left.Contains(p.Member)))
            if (!Steps(plan).Any(s => s.Step.Point == point.Id && forward[s.Step.Id].Any()))
                yield return $"the point {point.Id} is listed and was not taken";
        foreach (var jump in plan.Moves.SelectMany(m => m.Jumps).GroupBy(j => j.Component).Select(g => g.Last()))
        foreach (
            var (member, program) in far.Programs.Where(p =>
                p.Key.StartsWith(jump.Component + "/", StringComparison.Ordinal)
            )
        )
            if (!left.Contains(member) && program.Running != jump.To)
                yield return $"{member} runs {program.Running ?? "nothing"}, and was to run {jump.To}";
    }

    // A part begins when the one before it is done; within a lane one step follows another.
    private static IEnumerable<string> OutOfOrder(
        Plan plan,
        ILookup<string, (Deed Deed, int At, string Step, bool Undo)> forward
    )
    {
        var last = -1;
        foreach (var block in plan.Blocks)
        {
            var all = block.Lanes.SelectMany(l => l.Steps).SelectMany(s => forward[s.Id]).ToList();
            if (all.Count == 0)
                continue;
            if (all.Min(a => a.At) < last)
                yield return $"part {block.Number} was begun before the one before it was done";
            last = all.Max(a => a.At);
            foreach (var lane in block.Lanes)
            {
                var before = -1;
                foreach (var step in lane.Steps.Where(s => forward[s.Id].Any()))
                {
                    if (forward[step.Id].Min(a => a.At) < before)
                        yield return $"{step.Id} was done before what precedes it";
                    before = forward[step.Id].Min(a => a.At);
                }
            }
        }
    }

    /// <summary>Carries the return that each part promised out in a copy of how it stood then, and compares with the
    /// start: versions, the form of the data, and where it was called clean every write.</summary>
    public static async Task<(int Carried, List<string> Wrong)> OfPromisesAsync(
        EstateIndex index,
        Plan plan,
        Voyage voyage,
        DataFleet start
    )
    {
        var (carried, wrong) = (0, new List<string>());
        foreach (var (number, then, entries) in voyage.After)
        {
            var promise = plan.Blocks[number - 1].Return;
            var asFarAs = promise.State == ReturnState.Closed ? promise.Partly?.Move : 1;
            if (asFarAs is not { } move)
                continue;
            var state = RunState.Fold(plan, voyage.Journal.Entries.Take(entries));
            if (!state.LeftOut.IsEmpty())
                continue; // the plan knew of nobody who would be left out
            var made = ReturnPlanner.Make(index, "r", state, move, "e", "c");
            if (made.Value is not { } back)
            {
                wrong.Add($"part {number} promised {promise.State} to move {move}: {string.Join("; ", made.Problems)}");
                continue;
            }
            carried++;
            var copy = then.Copy();
            var way = new Voyage(index, back, copy, new Random(1));
            try
            {
                var end = await way.ToEndAsync();
                if (end != RunEnd.Completed)
                    wrong.Add($"part {number}: its return ended as {end}");
            }
            catch (InvalidOperationException e)
            {
                wrong.Add($"part {number}, called {promise.State} to move {move}: its return {e.Message}");
                continue;
            }
            var before = move == 1 ? start : voyage.After.Last(a => plan.Blocks[a.Block - 1].Move < move).Far;
            var clean = (promise.Partly?.State ?? promise.State) == ReturnState.Clean;
            wrong.AddRange(Differs(before, then, copy, _ => true, clean).Select(w => $"part {number}: {w}"));
        }
        return (carried, wrong);
    }

    /// <summary>What members run, and hold, otherwise than before; of a clean return also which writes they
    /// lost.</summary>
    /// <param name="before">How it was, and is to be again.</param>
    /// <param name="then">How it stood when the return began.</param>
    /// <param name="now">How it stands.</param>
    public static IEnumerable<string> Differs(
        DataFleet before,
        DataFleet then,
        DataFleet now,
        Func<string, bool> of,
        bool clean
    )
    {
        foreach (var (member, was) in before.Programs.Where(p => of(p.Key)))
        {
            var its = now.Programs[member];
            if (its.Running != was.Running)
                yield return $"{member} runs {its.Running ?? "nothing"} after its return, not {was.Running}";
            if (string.CompareOrdinal(its.Form, was.Form) != 0)
                yield return $"the data of {member} are of {its.Form}, and were of {was.Form}";
            if (clean && !then.Programs[member].Writes.IsSubsetOf(its.Writes))
                yield return $"{member} lost what it had written though its return is called clean: "
                    + string.Join(", ", then.Programs[member].Writes.Except(its.Writes).Take(5));
        }
    }

    private static bool IsEmpty(this IReadOnlySet<string> set) => set.Count == 0;
}
