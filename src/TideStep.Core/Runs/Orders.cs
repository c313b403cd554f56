using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Runs;

/// <summary>What a person may say to a run in which state, and what it appends; pure.</summary>
public static class Orders
{
    private static (RunEvent[], Problem?) No(string what, string hint) => ([], new Problem(what, null, hint));

    public static (RunEvent[] Events, Problem? Refused) Hold(RunState state, string by) => state.Status switch
    {
        RunStatus.Running or RunStatus.Waiting => ([new HoldAsked(by)], null),
        RunStatus.Holding or RunStatus.Held => No("the run is holding already", "Say 'go-on' to let it go on."),
        var status => No($"a run that is {Word(status)} can't be held", "Only a run at work can."),
    };

    public static (RunEvent[] Events, Problem? Refused) GoOn(RunState state, string by) => state.Status switch
    {
        RunStatus.Holding or RunStatus.Held => ([new WentOn(by)], null),
        RunStatus.Halted => No("the run has halted and needs a decision", "Say which: try-again, return-as-far-as or stop-here."),
        var status => No($"a run that is {Word(status)} is not held", "There is nothing to let go on."),
    };

    /// <summary>A decision at a halt; a return also while the run is held.</summary>
    public static (RunEvent[] Events, Problem? Refused) Decide(RunState state, DecisionKind decision, string by, string? reason, string? asFarAs)
    {
        var halted = state.Status == RunStatus.Halted;
        if (!halted && !(state.Status == RunStatus.Held && decision != DecisionKind.TryAgain))
            return No($"a run that is {Word(state.Status)} asks for no decision", state.Status is RunStatus.Running or RunStatus.Waiting ? "Hold it first." : "See 'tidestep run show'.");
        if (decision != DecisionKind.TryAgain && state.OpenAttempts.FirstOrDefault() is { Step: { } step } && state.OpenAttempts.Any())
            return No($"an attempt still runs on {state.Plan.Step(step).Node}: {state.Plan.Step(step).Title}", "Wait for its end; its record is followed.");
        return ([new Decided(decision, by, reason, asFarAs)], null);
    }

    /// <summary>A person's signature under a step that a person does.</summary>
    public static (RunEvent[] Events, Problem? Refused) Sign(RunState state, string step, string by, string evidence)
    {
        var known = state.Plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).FirstOrDefault(s => s.Id == step);
        if (known?.Do is not PersonAction) return No($"'{step}' is no step that a person does", "See 'tidestep run show' for the steps that wait for a person.");
        if (state.Of(step).Status != StepStatus.Working) return No($"'{known.Title}' does not wait for a signature now", "It is signed when its turn has come, once.");
        return evidence.Trim().Length == 0 ? No("a signature needs evidence", "Say what you did or saw.") : ([new PersonSigned(step, by, evidence), new StepDone(step, DoneHow.Signed)], null);
    }

    public static string Word(RunStatus status) => status switch { RunStatus.StoppedHere => "stopped here", var s => s.ToString().ToLowerInvariant() };
}
