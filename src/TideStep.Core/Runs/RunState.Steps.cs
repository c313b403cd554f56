using System.Collections.Immutable;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

// Entries of steps, of what was tried on far sides, and of rollback points.
public sealed partial class RunState
{
    // Steps, and what was learnt in them.
    private bool OfSteps(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case StepBegun e:
                Set(e.Step, s => s with { Status = StepStatus.Working, Begun = s.Begun ?? entry.At });
                break;
            case ParametersRead e:
                _parameters.TryAdd(e.Step, e.Values);
                break;
            case Told e:
                _told[e.Step] = e.Numbers;
                break;
            case NotAnswering e:
                _silent[e.Step] = e.Since;
                break;
            case AnswersAgain e:
                _silent.Remove(e.Step);
                break;
            case StepDone e:
                Set(e.Step, s => s with { Status = StepStatus.Done, EndedAt = entry.At, How = e.How, Why = null });
                break;
            case StepFailed e:
                Set(e.Step, s => s with { Status = StepStatus.Failed, EndedAt = entry.At, Why = e.Why });
                break;
            case MemberReverted e:
                _reverted.Add(e.Step);
                break;
            default:
                return false;
        }
        return true;
    }

    // What was tried on far sides.
    private bool OfAttempts(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case Intended e:
                AttemptCount++;
                if (!e.Undo && Plan.Step(e.Step).Undo is not null && !_measures.Contains(e.Step))
                    _measures.Add(e.Step);
                if (!e.Undo && Plan.Step(e.Step) is { Voids: not null } voiding)
                    Void(voiding);
                Set(e.Step, s =>
                    s with
                    {
                        Attempts = s.Attempts.Add(
                            new AttemptState(
                                e.Attempt,
                                e.Number,
                                entry.At,
                                entry.Sequence,
                                e.Undo,
                                null,
                                null,
                                null,
                                "",
                                false
                            )
                        ),
                    }
                );
                break;
            case AttemptEnded e:
                _silent.Remove(e.Step);
                Set(e.Step, s =>
                    s with
                    {
                        Attempts = Replace(s.Attempts, e.Attempt, a =>
                            a with
                            {
                                End = e.End,
                                EndedAt = entry.At,
                                ExitCode = e.ExitCode,
                                Output = e.Output,
                            }
                        ),
                    }
                );
                break;
            case MilestoneReached e:
                Set(e.Step, s =>
                    s with
                    {
                        Attempts = Replace(s.Attempts, e.Attempt, a =>
                            a with
                            {
                                Milestones = a.Milestones.Add((e.Number, entry.At)),
                            }
                        ),
                    }
                );
                break;
            case AttemptOverdue e:
                Set(e.Step, s => s with { Attempts = Replace(s.Attempts, e.Attempt, a => a with { Overdue = true }) });
                break;
            default:
                return false;
        }
        return true;
    }

    // Rollback points.
    private bool OfPoints(JournalEntry entry)
    {
        switch (entry.Event)
        {
            case PointCaptured e:
                _points[e.Point] = new PointState(
                    Plan.Points.First(p => p.Id == e.Point),
                    e.Place,
                    e.Bytes,
                    e.Sha256,
                    e.Entries,
                    entry.At,
                    e.Step,
                    null,
                    null
                );
                break;
            case PointVerified e:
                _points[e.Point] = _points[e.Point] with { Verified = e.How, State = PointState.Usable };
                break;
            case PointGivingUp e:
                _points[e.Point] = _points[e.Point] with { State = PointState.GivingUp, Why = Said(e) };
                break;
            case PointGivenUp e:
                _points[e.Point] = _points[e.Point] with { State = PointState.GivenUp };
                break;
            default:
                return false;
        }
        return true;
    }

    private static string Said(PointGivingUp e) =>
        e.Reason is { Length: > 0 } reason ? $"given up by {e.By}: {reason}" : $"given up by {e.By}";

    // What a step has made useless is so from its intent on: it may have begun.
    private void Void(PlanStep step)
    {
        foreach (
            var (id, point) in _points
                .Where(p => p.Value.LeadsBack && step.MakesVoid(p.Value.Planned.Component, p.Value.Planned.Kind))
                .ToList()
        )
            _points[id] = point with { State = PointState.Void, Why = $"void by {step.Title} on {step.Node}" };
    }

    private void Set(string step, Func<StepState, StepState> change)
    {
        var (before, after) = (Of(step), change(Of(step)));
        _steps[step] = after;
        Keep(_failed, step, after.Status == StepStatus.Failed);
        Keep(_open, step, after.Open is not null);
        Keep(_working, step, after.Status == StepStatus.Working);
        var (was, done) = (before.Status == StepStatus.Done, after.Status == StepStatus.Done);
        if (was != done)
        {
            StepsDone += done ? 1 : -1;
            _tide?.Changed(step, done, after.EndedAt);
        }
        if (CurrentBlock > 0 && after.Status == StepStatus.Done)
            LanesDoneAt = LastAt;
    }

    private static void Keep(SortedSet<string> set, string step, bool belongs)
    {
        if (belongs)
            set.Add(step);
        else
            set.Remove(step);
    }

    private static ImmutableArray<AttemptState> Replace(
        ImmutableArray<AttemptState> attempts,
        string id,
        Func<AttemptState, AttemptState> change
    ) => [.. attempts.Select(a => a.Id == id ? change(a) : a)];
}
