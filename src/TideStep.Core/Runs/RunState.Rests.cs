using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

// Entries of holds, halts and decisions.
public sealed partial class RunState
{
    // Holds, halts, and what people decide.
    private bool OfRests(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case HoldAsked e:
                var planned = e.AsPlanned || e.By == RestOfThePlan;
                (HoldAskedFor, HoldsAtOnce, RestsAsPlanned, HoldAt) = (
                    true,
                    HoldsAtOnce || e.AtOnce,
                    planned,
                    planned ? HoldAt : null
                );
                break;
            case HoldPlanned e:
                HoldAt = e.At is null ? null : e;
                break;
            case Held:
                IsHeld = true;
                break;
            case WentOn:
                if (IsHeld)
                    ReadsAgainAfter = "a hold";
                (HoldAskedFor, HoldsAtOnce, IsHeld, RestsAsPlanned, Guards, RestedAt) = (
                    false,
                    false,
                    false,
                    false,
                    null,
                    BlocksDone
                );
                break;
            case Halted e:
                (Halt, HaltedAt, _haltNumber) = (e, entry.At, entry.Sequence);
                break;
            case Decided e:
                Decide(e);
                break;
            default:
                return false;
        }
        return true;
    }

    private void Decide(Decided decided)
    {
        Decisions.Add(decided);
        // A standing order is used up as often as it was given for.
        if (decided.Standing && Orders is [var used, ..])
            Orders = used.Times > 1 ? Orders.SetItem(0, used with { Times = used.Times - 1 }) : Orders.RemoveAt(0);
        if (decided is { Abandons: { } attempt, Step: { } abandoned })
            Abandon(abandoned, attempt);
        // Somebody was left out while the others went on: no halt ends by it, and no hold.
        if (decided.Decision == DecisionKind.LeaveOut && Halt is null)
        {
            LeaveOut(Plan.LaneOf(decided.Step!).Subject);
            return;
        }
        switch (decided.Decision)
        {
            case DecisionKind.CorrectAndTryAgain:
                if (decided is { Step: { } corrected, Amendment: { } amendment })
                    _amendments[corrected] = amendment;
                goto case DecisionKind.TryAgain;
            case DecisionKind.MarkAsDone:
                Set(decided.Step!, s => s with { Status = StepStatus.Working, Why = null, Marked = true });
                goto case DecisionKind.TryAgain;
            case DecisionKind.Skip:
                Set(decided.Step!, s =>
                    s with
                    {
                        Status = StepStatus.Done,
                        EndedAt = LastAt,
                        How = DoneHow.Skipped,
                        Why = null,
                    }
                );
                goto case DecisionKind.TryAgain;
            case DecisionKind.LeaveOut:
                LeaveOut(Plan.LaneOf(decided.Step!).Subject);
                goto case DecisionKind.TryAgain;
            case DecisionKind.AcceptDifferences:
                if (Changes.IsEmpty)
                    DifferencesAccepted = true;
                else
                    _acceptedChanges.UnionWith(Changes);
                goto case DecisionKind.TryAgain;
            case DecisionKind.GoPastWindow:
                PastWindow = true;
                goto case DecisionKind.TryAgain;
            case DecisionKind.TryAgain:
                _reverted.Clear();
                (ReadsAgainAfter, Changes) = ("a halt", []);
                foreach (var step in FailedSteps.ToList())
                    Set(step, s =>
                        s with
                        {
                            Status = s.Begun is null ? StepStatus.Pending : StepStatus.Working,
                            Why = null,
                            Marked = false,
                            DealtWith = s.Attempts.Length,
                        }
                    );
                (Halt, HoldAskedFor, HoldsAtOnce, IsHeld, Guards, TurnBack) = (null, false, false, false, null, null);
                // A member's return that did not come to its end is given up; its step is tried again.
                if (ReturningMember is not null)
                    (ReturnWanted, ReturningMember, Child, ChildEnd) = (false, null, null, null);
                // What differed is asked again, unless it was accepted as it is.
                if (!DifferencesAccepted)
                    Comparison = null;
                // Who takes over is chosen anew as long as nothing was done there.
                foreach (
                    var handing in Plan
                        .Blocks.SelectMany(b => b.Lanes)
                        .Where(l =>
                            l.HandsOver
                            && _successors.ContainsKey(l.Subject)
                            && l.Steps.Where(s => s.On == Catalogue.StepOn.Successor)
                                .All(s => Of(s.Id).Attempts.IsEmpty)
                        )
                )
                    _successors.Remove(handing.Subject);
                break;
            case DecisionKind.ReturnAsFarAs:
                (ReturnWanted, ReturnAsFarAs, Halt, TurnBack) = (true, decided.AsFarAs, null, null);
                break;
            case DecisionKind.ReturnMember:
                (ReturnWanted, ReturnAsFarAs, ReturningMember, Child, ChildEnd, Halt, TurnBack) = (
                    true,
                    null,
                    Plan.LaneOf(decided.Step!).Subject,
                    null,
                    null,
                    null,
                    null
                );
                break;
            case DecisionKind.StopHere:
                (ClosingAs, Halt) = (AttemptCount == 0 ? RunEnd.Abandoned : RunEnd.StoppedHere, null);
                break;
        }
    }

    private void Abandon(string step, string attempt)
    {
        _abandoned[attempt] = (step, Plan.Step(step).Node);
        _silent.Remove(step);
        Set(step, s =>
            s with
            {
                Status = StepStatus.Failed,
                Attempts = Replace(s.Attempts, attempt, a => a with { End = AttemptEnd.Lost, EndedAt = LastAt }),
            }
        );
    }

    private void LeaveOut(string lane)
    {
        _leftOut.Add(lane);
        foreach (var step in FailedSteps.Where(f => Plan.LaneOf(f).Subject == lane).ToList())
            Set(step, s => s with { Status = StepStatus.Done, EndedAt = LastAt, How = DoneHow.LeftOut, Why = null });
    }
}
