using Spectre.Console;
using TideStep.Client;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Core.Waves;

namespace TideStep.Cli;

/// <summary>What a member of a run runs, in words.</summary>
public sealed record MemberRuns(string Component, string Member, string Runs);

/// <summary>A run as a terminal shows it: where it stands, the part at work with its members, the parts to
/// come.</summary>
public static class RunScreen
{
    private const int PartsAround = 4;
    private const int MembersShown = 14;
    private static readonly TimeSpan GuardsWithin = TimeSpan.FromSeconds(10);

    /// <summary>Writes a run as it stands; at a halt or a hold with how the guards stand.</summary>
    public static async Task ShowAsync(ServiceClient client, RunView view, Output output, CancellationToken ct)
    {
        var guards =
            output.ForPeople && view.Status is RunStatus.Halted or RunStatus.Held
                ? await GuardsAsync(client, view.Run, ct)
                : [];
        output.Write(view, () =>
        {
            foreach (var line in Lines(view, guards))
                output.Terminal.MarkupLine(line);
        });
    }

    // They are read from the nodes; what else there is to show does not wait long for one that is silent.
    private static async Task<IReadOnlyList<string>> GuardsAsync(ServiceClient client, string run, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(GuardsWithin);
        try
        {
            var standing = await client.GetAsync<IReadOnlyList<GuardStanding>>($"/api/runs/{run}/guards", limit.Token);
            return [.. standing.Select(GuardOf)];
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            return [$"guards: not read within {GuardsWithin.TotalSeconds:0} s; a node does not answer"];
        }
        catch (RefusedException refused)
        {
            return [$"guards: could not be read: {refused.Message}"];
        }
    }

    // While a decision is waited for the end moves on with the clock.
    private static string EndsAbout(RunView view, DateTimeOffset end) =>
        view.Status is RunStatus.Halted or RunStatus.Held && Times.Now - view.LastAt is { Ticks: > 0 } waited
            ? $"ends about {Moment(end + waited)} if decided now"
            : $"ends about {Moment(end)}";

    private static string Fits(TimeSpan? spare) =>
        spare is not { } left ? ""
        : left < TimeSpan.Zero ? $", {Durations.Write(-left)} before the run does"
        : $", {Durations.Write(left)} after the run";

    /// <summary>Which members of each component still run the old version, are in between, or run the new
    /// one.</summary>
    /// <param name="view">The run, with the lanes of all its parts.</param>
    public static IEnumerable<MemberRuns> WhoRunsWhat(RunView view) =>
        from tide in view.Tide
        from lane in view.Blocks.Where(b => b.Phase == Phase.Roll).SelectMany(b => b.Lanes)
        where lane.Subject.StartsWith(tide.Component + "/", StringComparison.Ordinal)
        select new MemberRuns(
            tide.Component,
            lane.Subject,
            lane.Steps.All(s => s.Status == StepStatus.Done) ? $"on {tide.To}"
                : lane.Steps.All(s => s.Status == StepStatus.Pending) ? $"still on {tide.From}"
                : $"in between, {tide.From} to {tide.To}"
        );

    private static string GuardOf(GuardStanding guard) =>
        guard.AsPlanned
            ? $"{guard.Component} is out as planned"
            : $"the guard of {guard.Component} {(guard.Holds ? "holds" : "does not hold")}: "
                + $"{guard.Serving} in service, {guard.Needed} needed"
                + (guard.Out.IsEmpty ? "" : $"; out: {string.Join(", ", guard.Out)}");

    // What a long step has done, does and has to come, with how long that takes where it is known.
    private static string MilestonesOf(IReadOnlyList<MilestoneView> milestones, DateTimeOffset now) =>
        string.Join(
            "  ",
            milestones.Select(
                (p, i) =>
                    p.Begun is null ? $"· {p.Title}{(p.Takes is { } takes ? $" ({Durations.Write(takes)})" : "")}"
                    : i + 1 < milestones.Count && milestones[i + 1].Begun is not null ? $"= {p.Title}"
                    : $"> {p.Title}, {Durations.Write(now - p.Begun.Value)}"
                        + $"{(p.Takes is { } of ? $" of {Durations.Write(of)}" : "")}"
            )
        );

    // The day, too, where it is not today.
    private static string Moment(DateTimeOffset at) =>
        at.ToLocalTime() is var local && local.Date == Times.Now.Date
            ? $"{local:HH:mm:ss}"
            : $"{local:ddd yyyy-MM-dd HH:mm}";

    /// <summary>The lines as markup; no line is wider than 100 columns.</summary>
    public static IEnumerable<string> Lines(RunView view, IReadOnlyList<string>? guards = null)
    {
        static string Safe(string text, int most = 96) =>
            Markup.Escape(Harmless.Line(text.Length > most ? text[..(most - 1)] + "…" : text));
        yield return $"[bold]{Safe(view.Label.Length > 0 ? view.Label : view.Run, 50)}[/]  {view.Run}  "
            + $"{Safe(Orders.Word(view.Status))}";
        var forecast =
            view.Ended is { } ended ? $"ended {Moment(ended)}"
            : view.ForecastEnd is { } end ? EndsAbout(view, end)
            : "";
        yield return $"{Bar(view.Share, 40)} {view.Share * 100, 3:0} %  {view.StepsDone} of {view.StepsTotal} steps  "
            + $"{forecast}";
        if (view.WindowEnds is { } closes)
            yield return $"the window ends {Moment(closes)}{Fits(view.Spare)}";
        foreach (var tide in view.Tide)
            yield return $"  {Safe(tide.Component, 24), -24} "
                + $"{Bar(tide.Old + tide.New == 0 ? 0 : (double)tide.New / (tide.Old + tide.New), 16)} {tide.New} "
                + $"of {tide.Old + tide.New} on {Safe(tide.To, 12)}";
        yield return "";
        foreach (
            var block in view.Blocks.Where(b => Math.Abs(b.Number - Math.Max(1, view.CurrentBlock)) <= PartsAround)
        )
        {
            var took = block.Begun is { } begun ? Durations.Write((block.Ended ?? view.LastAt) - begun) : "";
            yield return $"{Mark(block.Status)} {block.Number, 3}  {Safe(block.Title, 44), -44} "
                + $"{Safe(block.Status, 16), -16} {took, -12} return: "
                + (
                    block.Return.State switch
                    {
                        ReturnState.WithLoss => "with loss",
                        ReturnState.Closed => "closed",
                        _ => "clean",
                    }
                );
            if (block.Number != view.CurrentBlock || block.Status == "done")
                continue;
            foreach (var lane in block.Lanes.Take(MembersShown))
            {
                var step = lane.Steps.FirstOrDefault(s => s.Status is StepStatus.Working or StepStatus.Failed)
                    ?? lane.Steps.LastOrDefault(s => s.Status == StepStatus.Done);
                yield return $"       {Safe(lane.Subject, 34), -34} "
                    + $"{Safe(lane.State is { } s ? Word(s) : "waits", 12), -12} "
                    + (
                        Safe(
                            step is null ? "" : $"{step.Title}{(step.Attempt is null ? "" : $" ({step.Attempt})")}",
                            40
                        )
                    );
                if (step is { Status: StepStatus.Working, Milestones: { } milestones })
                    yield return $"         {Safe(MilestonesOf(milestones, view.LastAt), 96)}";
            }
            if (block.Lanes.Length > MembersShown)
                yield return $"       and {block.Lanes.Length - MembersShown} more";
        }
        if (view.WaitsFor is { } waits)
            yield return $"waits: {Safe(waits, 200)}";
        foreach (var person in view.Persons.Take(MembersShown))
        {
            yield return $"  {Safe(person.Title, 60)} on {Safe(person.Member, 40)}, "
                + $"{(person.Since is { } since ? $"since {Moment(since)}" : "now")}"
                + $"{Safe(person.Owner is { } owner ? $", {owner}'s" : "", 40)}";
            if (person.Instructions.Length > 0 && person.Instructions != person.Title)
                yield return $"    {Safe(person.Instructions, 300)}";
            yield return $"    {Safe(person.Command, 300)}";
            if (person.Undo)
                yield return $"    or, if it can't be: {Safe(person.Command, 300)} --cannot-be-undone "
                    + $"--owner 'whose it is'";
        }
        if (view.SignOffs.Any(s => s.Awaited))
            yield return $"  tidestep run sign-off {view.Run}";
        if (view.Measures.Length > 0)
            yield return $"temporary measures open: {view.Measures.Length}";
        if (view.Halt is { } halt)
        {
            yield return "";
            yield return $"[bold]halted[/] (number {view.HaltNumber})[bold]:[/] {Safe(halt, 400)}";
            foreach (var guard in guards ?? [])
                yield return $"  {Safe(guard, 200)}";
            foreach (var decision in view.Decisions)
                yield return $"  tidestep run decide {view.Run} {WordOf(decision.Decision), -18} "
                    + $"{Safe(decision.Means, 300)}";
        }
        else if (view.Status is RunStatus.Held)
            foreach (var guard in guards ?? [])
                yield return Safe(guard, 200);
        else
            foreach (var decision in view.Decisions)
                yield return $"  tidestep run decide {view.Run} {WordOf(decision.Decision)} --reason 'why': "
                    + Safe(decision.Means, 400);
        if (view.Child is { } child)
            yield return $"the return is run {child}";
        if (view.HoldsAt is { } hold)
            yield return $"to hold at the next safe place from {hold.ToLocalTime():yyyy-MM-dd HH:mm} on";
        if (view.LedBackBy is { } back)
            yield return $"led back afterwards by run {back}";
        else if (view.MayBeLedBack)
            yield return $"to lead it back: tidestep run return {view.Run}";
    }

    private static string Mark(string status) =>
        status switch
        {
            "done" => "=",
            "ahead" => "·",
            "failed" => "!",
            _ => ">",
        };

    private static string Bar(double share, int width)
    {
        var full = (int)Math.Round(share * width);
        return new string('▓', full) + new string('░', width - full);
    }

    public static string Word(MemberState state) =>
        state switch
        {
            MemberState.InService => "in service",
            MemberState.LeftOut => "left out",
            _ => state.ToString().ToLowerInvariant(),
        };

    // The words of the command line for decisions.
    private static string WordOf(DecisionKind decision) =>
        decision switch
        {
            DecisionKind.TryAgain => "try-again",
            DecisionKind.CorrectAndTryAgain => "correct",
            DecisionKind.MarkAsDone => "mark-as-done",
            DecisionKind.Skip => "skip",
            DecisionKind.LeaveOut => "leave-out",
            DecisionKind.GoPastWindow => "go-past-window",
            DecisionKind.AcceptDifferences => "accept-differences",
            DecisionKind.ReturnMember => "return-member",
            DecisionKind.ReturnAsFarAs => "return",
            _ => "stop-here",
        };
}
