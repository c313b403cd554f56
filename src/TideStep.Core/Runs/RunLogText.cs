using TideStep.Core.Checks;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>A run's journal as a log for people: one line for each entry, nothing left out.</summary>
public static class RunLogText
{
    /// <summary>Which member an entry is about; null where it is about the run as a whole.</summary>
    public static string? MemberOf(RunEvent e, Plan plan) =>
        StepOf(e) is { } step
            ? plan.Step(step).Member
            : e switch
            {
                PointVerified p => PointMember(plan, p.Point),
                PointGivingUp p => PointMember(plan, p.Point),
                PointGivenUp p => PointMember(plan, p.Point),
                SuccessorChosen s => s.Lane,
                MemberReturned m => m.Member,
                _ => null,
            };

    private static string? PointMember(Plan plan, string point) =>
        plan.Points.FirstOrDefault(p => p.Id == point)?.Member;

    private static string? StepOf(RunEvent e) =>
        e switch
        {
            StepBegun s => s.Step,
            Probed s => s.Step,
            ParametersRead s => s.Step,
            Told s => s.Step,
            Intended s => s.Step,
            AttemptEnded s => s.Step,
            MilestoneReached s => s.Step,
            AttemptOverdue s => s.Step,
            StopAsked s => s.Step,
            PointCaptured s => s.Step,
            PersonSigned s => s.Step,
            StepDone s => s.Step,
            StepFailed s => s.Step,
            MemberReverted s => s.Step,
            MeasureTakenBack s => s.Step,
            UndoAsked s => s.Step,
            NotAnswering s => s.Step,
            AnswersAgain s => s.Step,
            MeasureKept s => s.Step,
            Halted { Step: { } step } => step,
            Decided { Step: { } step } => step,
            _ => null,
        };

    /// <summary>An entry in words.</summary>
    /// <param name="zone">In which zone times within it are written.</param>
    public static string Words(RunEvent e, TimeZoneInfo zone) =>
        e switch
        {
            Opened o => $"opened by {o.By}{(o.Label.Length > 0 ? $": {o.Label}" : "")}"
                + $"{(o.Reason is { } reason ? $" ({reason})" : "")}, plan {o.Plan}",
            Owned o => $"carried by {o.Owner}",
            PlanChecked c => $"checked: {c.Checks} checks, {c.Findings.Length} open or failed",
            MembersRead m => $"read {m.When}: "
                + (
                    string.Join(
                        ", ",
                        m.Running.GroupBy(r => r.Value)
                            .OrderBy(g => g.Key, StringComparer.Ordinal)
                            .Select(g =>
                                g.Count() == 1 ? $"{g.First().Key} runs {g.Key}" : $"{g.Count()} members run {g.Key}"
                            )
                    )
                ),
            AnswersCompared { Differences.IsEmpty: true } => "compared with before: all the same",
            AnswersCompared a => $"compared with before: "
                + (
                    string.Join(
                        "; ",
                        a.Differences.Select(d => $"{d.Member} {d.Ask} {d.What}{(d.Borne ? "" : ", which may not be")}")
                    )
                ),
            ReadingAwaited r => $"is to be read again, and waits: {r.Why}",
            ReadAgain { Changes.IsEmpty: true } r => $"read again after {r.After}: all as it was left",
            ReadAgain r => $"read again after {r.After}: {string.Join("; ", r.Changes)}",
            Started s => $"started by {s.By}",
            StartPlanned { At: { } at } s => $"{s.By} wants it to begin at {Time(at, zone)}",
            StartPlanned s => $"{s.By} lets it begin",
            BlockEntered b => $"part {b.Block}",
            GuardsChecked { Hold: true } g => $"part {g.Block}: {g.Why}",
            GuardsChecked g => $"waits: {g.Why}",
            SuccessorChosen s => $"{s.Lane} hands over to {s.Member}: {s.Why}",
            StepBegun s => $"{s.Step} is taken up",
            Probed p => $"{p.Step} {p.Purpose}: {(p.Holds ? "so" : "not so")} ({p.Why})",
            ParametersRead p => $"{p.Step} reads {Pairs(p.Values.Select(v => (v.Key, v.Value)))}",
            Told t => $"{t.Step} tells "
                + (
                    Pairs(
                        t.Numbers.Select(n =>
                            (n.Key, n.Value.ToString(System.Globalization.CultureInfo.InvariantCulture))
                        )
                    )
                ),
            Intended { Undo: false } i => $"{i.Step} begins ({i.Attempt})",
            Intended i => $"{i.Step} is taken back ({i.Attempt})",
            AttemptEnded a => $"{a.Step} {EndOf(a)} ({a.Attempt})",
            MilestoneReached p => $"{p.Step} comes to part {p.Number}, {p.Title}",
            AttemptOverdue a => $"{a.Step} is overdue ({a.Attempt})",
            StopAsked s => $"{s.Step} is asked to end ({s.Attempt})",
            PointCaptured p =>
                $"rollback point {p.Point} captured: {p.Place}{(p.Bytes > 0 ? $", {Units.WriteBytes(p.Bytes)}" : "")}",
            PointVerified p => $"rollback point {p.Point} verified: {p.How}",
            PointGivingUp p =>
                $"rollback point {p.Point} is given up by {p.By}{(p.Reason is { } why ? $": {why}" : "")}",
            PointGivenUp p => $"rollback point {p.Point} given up: {p.How}",
            PersonSigned s => $"{s.Step} signed by {s.By}: {EvidenceFile.Beside(s.Evidence, s.File)}",
            StepDone d => $"{d.Step} "
                + (
                    d.How switch
                    {
                        DoneHow.Already => "was so already",
                        DoneHow.Signed => "signed",
                        DoneHow.Marked => "done, as somebody says",
                        DoneHow.Skipped => "skipped",
                        DoneHow.LeftOut => "left out",
                        _ => "done",
                    }
                ),
            MemberReverted m => $"{m.Member} went back to {m.To} by itself",
            StepFailed f => $"{f.Step} failed: {f.Why}",
            MeasureTakenBack m => $"{m.Step} was taken back",
            NotAnswering n =>
                $"{n.Node} does not answer since {Time(n.Since, zone)}; {n.Step} may still be at work there",
            AnswersAgain n => $"{n.Node} answers again",
            UndoAsked u => $"{u.Step} waits for a person to take it back",
            MeasureKept k => $"{k.Step} can't be taken back, says {k.By}: {k.Why}",
            TasksSigned t =>
                $"done beforehand: {string.Join("; ", t.Items.Select(i => $"{i.Item}, signed by {i.By}"))}",
            BlockSettled b => $"part {b.Block} has settled",
            BlockDone b => $"part {b.Block} done",
            HoldAsked h => $"{h.By} asks to hold {(h.AtOnce ? "at once" : "at the next safe place")}",
            HoldPlanned { At: { } at } h => $"{h.By} wants it to hold at {Time(at, zone)}",
            HoldPlanned h => $"{h.By} takes back the time to hold",
            Held => "held",
            WentOn w => $"{w.By} lets it go on",
            Halted h => $"halted: {h.Why}",
            Decided d => $"decided by {d.By}{(d.Standing ? "'s standing order" : "")}: "
                + $"{RunReport.Word(d.Decision, d.AsFarAs)}{(d.Step is { } step ? $", {step}" : "")}"
                + $"{(d.Reason is { Length: > 0 } reason ? $" ({reason})" : "")}",
            OrdersGiven o => $"standing orders by {o.By}: {o.Orders.Length}",
            WindowAwaited w => $"waits for its hour, {Time(w.Till, zone)}",
            RanLate r =>
                $"runs late: the end is expected at {Time(r.Forecast, zone)}, it was due at {Time(r.Due, zone)}",
            TurnBackNear t => $"the time to turn back, {Time(t.TurnBack, zone)}, comes near: the end is expected at "
                + $"{Time(t.Forecast, zone)}, the window ends at {Time(t.WindowEnds, zone)}",
            SignOffAwaited s => $"waits for a sign-off: {s.SignOff}",
            SignedOff s => $"signed off by {s.Given.By}: {s.Given.For}",
            SignOffLapsed s => $"the sign-off {s.SignOff} counts no more",
            ReturnBegun { Run: "none" } => "nothing has to be led back",
            ReturnBegun r => $"the return is run {r.Run}",
            ReturnEnded r => $"its return {r.Run} ended: {RunReport.EndWord(r.End)}",
            MemberReturned m => $"{m.Member} is back where it was",
            ClosingBegun => "closing: temporary measures are taken back",
            Ended x => $"ended: {RunReport.EndWord(x.End)}",
            LedBack l => $"led back by run {l.Run}",
            _ => e.GetType().Name,
        };

    private static string EndOf(AttemptEnded a) =>
        a.End switch
        {
            AttemptEnd.Succeeded => "ended well",
            AttemptEnd.Failed => $"ended with status {a.ExitCode}",
            AttemptEnd.Refused => $"was refused: {a.Output}",
            AttemptEnd.Restarted => "was ended by a restart of its node",
            _ => "has left no record of its end",
        };

    private static string Pairs(IEnumerable<(string Name, string Value)> pairs) =>
        string.Join(", ", pairs.Select(p => $"{p.Name} {p.Value}"));

    private static string Time(DateTimeOffset at, TimeZoneInfo zone) =>
        $"{TimeZoneInfo.ConvertTime(at, zone):ddd yyyy-MM-dd HH:mm zzz}";
}
