using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

// How entries of the journal make the state grow; steps and rests have files of their own.
public sealed partial class RunState
{
    /// <summary>Grows the state by the next entry of the journal.</summary>
    public void Apply(JournalEntry entry)
    {
        (Sequence, LastAt) = (entry.Sequence, entry.At);
        Epoch = Math.Max(Epoch, entry.Epoch);
        _ =
            OfRun(entry)
            || OfParts(entry)
            || OfSteps(entry)
            || OfAttempts(entry)
            || OfPoints(entry)
            || OfPersons(entry)
            || OfRests(entry)
            || OfReturns(entry);
    }

    // What is said of the run as a whole.
    private bool OfRun(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case Opened e:
                (Label, By, Parent, OpenedAt) = (e.Label, e.By, e.Parent, entry.At);
                break;
            case Owned e:
                if (Owner is not null && StartedAt is not null)
                    ReadsAgainAfter = "another owner";
                Owner = e.Owner;
                break;
            case ReadingAwaited e:
                AwaitsReading = e.Why;
                break;
            case ReadAgain e:
                (ReadsAgainAfter, AwaitsReading, Changes) = (null, null, e.Changes);
                break;
            case MembersRead { When: "before" } e:
                (Before, AnswersBefore) = (e.Running, e.Answers ?? AnswersBefore);
                break;
            case AnswersCompared e:
                Comparison = e;
                break;
            case MembersRead e:
                (After, Owed) = (e.Running, e.Owed);
                break;
            case PlanChecked e:
                Accepted = e.Findings.Where(f => f.Waived is not null).Select(f => f.Id).ToHashSet();
                break;
            case Started e:
                (StartedAt, Pace) = (entry.At, e.Pace);
                break;
            case StartPlanned e:
                StartAt = e.At;
                break;
            case ClosingBegun e:
                ClosingAs = e.End;
                break;
            case LedBack e:
                LedBackBy = e.Run;
                break;
            case Ended e:
                (End, EndedAt) = (e.End, entry.At);
                break;
            default:
                return false;
        }
        return true;
    }

    // Parts of the plan, and what they wait for.
    private bool OfParts(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case WindowAwaited e:
                AwaitsWindow = e;
                break;
            case RanLate e:
                LateAgainst = e.Due;
                break;
            case TurnBackNear e:
                (TurnBack, TurnBackSaid) = (e, e.WindowEnds);
                break;
            case SignOffAwaited e:
                AwaitsSignOff = Plan.SignOffs.First(s => s.Id == e.SignOff);
                break;
            case SignedOff e:
                _signOffs[e.Given.For] = e.Given;
                if (AwaitsSignOff?.Id == e.Given.For)
                    (AwaitsSignOff, ReadsAgainAfter) = (null, "a wait");
                break;
            case SignOffLapsed e:
                _signOffs.Remove(e.SignOff);
                break;
            case OrdersGiven e:
                (Orders, OrdersBy) = (e.Orders, e.By);
                break;
            case BlockEntered e:
                if (AwaitsWindow is not null)
                    ReadsAgainAfter = "a wait";
                (CurrentBlock, LanesDoneAt, Guards, AwaitsWindow) = (e.Block, null, null, null);
                _blocks[e.Block] = (entry.At, null);
                break;
            case GuardsChecked e:
                Guards = e;
                if (e.Hold)
                    _guarded.Add(e.Block);
                break;
            case SuccessorChosen e:
                _successors[e.Lane] = e.Member;
                break;
            case BlockSettled e:
                _settled.Add(e.Block);
                break;
            case BlockDone e:
                BlocksDone = e.Block;
                _blocks[e.Block] = (_blocks[e.Block].Begun, entry.At);
                break;
            default:
                return false;
        }
        return true;
    }

    // What people did, and what they were asked to take back.
    private bool OfPersons(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case PersonSigned e:
                if (Of(e.Step).Begun is { } since && entry.At - since > LongWait)
                    ReadsAgainAfter = "a wait";
                Signed.Add(e);
                // What a person did is to be taken back as well, by a person or not.
                if (!e.Undo && Plan.Step(e.Step).Undo is not null && !_measures.Contains(e.Step))
                    _measures.Add(e.Step);
                break;
            case UndoAsked e:
                _undoAsked[e.Step] = entry.At;
                break;
            case MeasureKept e:
                _measures.Remove(e.Step);
                _undoAsked.Remove(e.Step);
                Kept.Add(e);
                break;
            case TasksSigned e:
                TasksSigned = e.Items;
                break;
            case MeasureTakenBack e:
                _measures.Remove(e.Step);
                _undoAsked.Remove(e.Step);
                break;
            default:
                return false;
        }
        return true;
    }

    // Runs that lead this one, or a member of it, back.
    private bool OfReturns(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case ReturnBegun e:
                (Child, ChildEnd) = (e.Run, null);
                break;
            case ReturnEnded e:
                ChildEnd = e.End;
                break;
            case MemberReturned e:
                _returned.Add(e.Member);
                LeaveOut(e.Member);
                (ReturnWanted, ReturningMember, Child, ChildEnd, Guards, ReadsAgainAfter) = (
                    false,
                    null,
                    null,
                    null,
                    null,
                    "a halt"
                );
                break;
            default:
                return false;
        }
        return true;
    }
}
