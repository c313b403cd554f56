using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>A person's word that a plan, or a part of it, may go on: what exactly was signed, and until when it
/// holds.</summary>
/// <param name="For">Which of the plan's sign-offs.</param>
/// <param name="Plan">The digest of the plan that was signed.</param>
/// <param name="By">Who signed.</param>
/// <param name="At">When.</param>
/// <param name="Ends">From when on it holds no more.</param>
/// <param name="TurnBack">What holds at a halt that nobody decides in time, as it stood when it was signed.</param>
/// <param name="Note">What the signer had to say, or null.</param>
public sealed record SignOff(
    string For,
    string Plan,
    string By,
    DateTimeOffset At,
    DateTimeOffset Ends,
    ImmutableArray<StandingOrder> TurnBack,
    string? Note
);

/// <summary>Who may sign what, and whether a word still holds; pure.</summary>
public static class SignOffRules
{
    /// <summary>A sign-off as it would be given now, or why not.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="which">Which of its sign-offs.</param>
    /// <param name="by">Who wants to sign.</param>
    /// <param name="own">Those whose own work it is: who made the plan, who opened the run.</param>
    /// <param name="turnBack">What holds at a halt that nobody decides in time.</param>
    /// <param name="digest">The digest that the signer has read; null where it is not said.</param>
    public static Checked<SignOff> Make(
        Plan plan,
        string which,
        string by,
        IEnumerable<string> own,
        ImmutableArray<StandingOrder> turnBack,
        string? note,
        string? digest,
        DateTimeOffset now
    )
    {
        var findings = new Findings();
        if (plan.SignOffs.FirstOrDefault(s => s.Id == which) is not { } asked)
        {
            findings.Add(
                $"the plan asks for no sign-off '{which}'",
                null,
                plan.SignOffs.IsEmpty ? "It asks for none." : Nearest.Hint(which, plan.SignOffs.Select(s => s.Id))
            );
            return new Checked<SignOff>(null, findings.All);
        }
        if (asked.ByAnother && own.Any(o => string.Equals(o, by, StringComparison.OrdinalIgnoreCase)))
            findings.Add(
                $"{by} made this plan or opened its run; somebody else has to sign",
                null,
                "Ask a colleague; in this estate nobody signs their own."
            );
        if (digest is not null && digest != plan.Digest)
            findings.Add(
                "what was read is another plan than the one to be signed",
                null,
                "Read it again.",
                $"read {digest}, asked for {plan.Digest}"
            );
        if (Orders.WrongOf(turnBack) is { } wrong)
            findings.AddRange([wrong]);
        return new Checked<SignOff>(
            findings.Any
                ? null
                : new SignOff(
                    asked.Id,
                    plan.Digest,
                    by,
                    now,
                    now + asked.Lasts,
                    turnBack,
                    string.IsNullOrWhiteSpace(note) ? null : note.Trim()
                ),
            findings.All
        );
    }

    /// <summary>What keeps a plan from starting: its sign-off is not there, or holds no more.</summary>
    public static Problem? Missing(Plan plan, IEnumerable<SignOff> given, DateTimeOffset now)
    {
        if (plan.SignOffs.FirstOrDefault(s => s.Id == PlannedSignOff.Start) is not { } asked)
            return null;
        var last = given.LastOrDefault(s => s.For == asked.Id && s.Plan == plan.Digest);
        return last is not null && last.Ends > now
            ? null
            : new Problem(
                last is null
                    ? "nobody has signed the plan"
                    : $"the sign-off by {last.By} held until {last.Ends:yyyy-MM-dd HH:mm}",
                null,
                $"{(asked.ByAnother ? "Somebody else than its maker signs it" : "Sign it")}: tidestep plan "
                    + $"sign-off PLAN."
            );
    }

    /// <summary>A sign-off for a part of a run, said to the run.</summary>
    /// <param name="author">Who made its plan.</param>
    public static (RunEvent[] Events, Problem? Refused) Sign(
        RunState state,
        string which,
        string by,
        string author,
        string? note,
        DateTimeOffset now
    )
    {
        if (state.End is not null)
            return ([], new Problem("the run has ended", null, "There is nothing left to sign."));
        if (which == PlannedSignOff.Start)
            return (
                [],
                new Problem("before the start it is the plan that is signed", null, "Say: tidestep plan sign-off PLAN.")
            );
        if (state.StartedAt is null)
            return ([], new Problem("the run has not started", null, "A part is signed while its run is at work."));
        var made = Make(state.Plan, which, by, [author, state.By], state.Orders, note, null, now);
        if (!made.Ok)
            return ([], made.Problems[0]);
        var block = state.Plan.SignOffs.First(s => s.Id == which).Block;
        if (block <= state.CurrentBlock)
            return (
                [],
                new Problem($"part {block} has begun already", null, "It was signed, or the run went past it.")
            );
        return ([new SignedOff(made.Value!)], null);
    }
}
