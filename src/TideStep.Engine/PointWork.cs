using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Runs;

namespace TideStep.Engine;

/// <summary>What is asked of a node about a rollback point that lies there.</summary>
internal sealed class PointWork(RunContext context, RunLog log, NodeFence fence)
{
    private static readonly TimeSpan StartWithin = TimeSpan.FromSeconds(60);
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(1);

    /// <summary>Reads a point again: its checksum, and whether every captured path is in its listing.</summary>
    /// <remarks>Reading changes nothing, so it needs no intent; its record has a name of its own.</remarks>
    public Task<(bool Whole, string Why)> CheckAsync(PointState point, ImmutableArray<string> paths, CancellationToken ct) =>
        AskAsync(point, new FarAction("check-point", [point.Place, point.Sha256, .. paths]), context.NewAttempt(), patient: true, ct);

    /// <summary>Takes away what a point holds, if it still is what was captured; that it is gone already is no failure. Its intent is journaled before.</summary>
    public Task<(bool Gone, string How)> DiscardAsync(PointState point, string attempt, CancellationToken ct) =>
        AskAsync(point, new FarAction("discard-point", [point.Place, point.Sha256]), attempt, patient: false, ct);

    private async Task<(bool Well, string Told)> AskAsync(PointState point, FarAction action, string id, bool patient, CancellationToken ct)
    {
        var node = context.Estate.Nodes[point.Planned.Node];
        var connector = context.Reader.ConnectorOf(node);
        var position = await context.Journal.LastPositionAsync(ct);
        var attempt = new FencedAttempt(context.Installation, id, log.Epoch, position, StartWithin, point.Planned.Component, action);
        await fence.RaiseAsync(node.Id, patient, ct);
        var begun = await connector.BeginAsync(node, attempt, Patience, ct);
        if (begun.Refused is { } refused) return (false, refused);
        for (var told = begun.Reading; ; told = null)
        {
            var reading = told ?? await connector.StatusAsync(node, context.Installation, id, Patience, ct);
            if (reading.Phase == AttemptPhase.Ended) return (reading.ExitCode == 0, StepRunner.LastLine(reading.Output));
            if (reading.Phase != AttemptPhase.Running) return (false, $"{(action.Verb == "check-point" ? "the check" : "taking it away")} has no end: {reading.Phase}");
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }
}
