using TideStep.Core.Catalogue;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>Members that go back to what they ran before by themselves, such as those with a watchdog that boots the
/// other slot; pure.</summary>
public static class Reversion
{
    /// <summary>How long a member that was restarted has to run its former version until it counts as gone
    /// back.</summary>
    public static readonly TimeSpan After = TimeSpan.FromMinutes(1);

    /// <summary>Whether a wait for a member to be in step is one in which it could turn out to have gone back: its node
    /// was restarted for another version before, in the same lane.</summary>
    public static bool MayBe(PlanStep step, RunState state)
    {
        if (step is not { PutsInStep: true, To: not null, From: not null } || step.To == step.From)
            return false;
        return state
            .Plan.LaneOf(step.Id)
            .Steps.TakeWhile(s => s.Id != step.Id)
            .Any(s =>
                s.Member == step.Member
                && s.Do is RestartAction { Service: null }
                && state.Of(s.Id).Status == StepStatus.Done
            );
    }
}
