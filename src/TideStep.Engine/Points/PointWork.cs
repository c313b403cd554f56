using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Engine.Steps;

namespace TideStep.Engine.Points;

/// <summary>What is asked of a node about a rollback point that lies there.</summary>
internal sealed class PointWork(RunContext context, RunLog log, NodeFence fence)
{
    private static readonly TimeSpan StartWithin = TimeSpan.FromSeconds(60);
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(1);

    /// <summary>Reads a point again: its checksum, and whether every captured path is in its listing.</summary>
    /// <remarks>Reading changes nothing, so it needs no intent; its record has a name of its own.</remarks>
    public Task<(bool Whole, string Why)> CheckAsync(
        PointState point,
        ImmutableArray<string> paths,
        CancellationToken ct
    ) =>
        AskAsync(
            point,
            new FarAction("check-point", [point.Place, point.Sha256, .. paths]),
            context.NewAttempt(),
            patient: true,
            ct
        );

    /// <summary>Takes away what a point holds, if it still is what was captured; that it is gone already is no failure.
    /// Its intent is journaled before.</summary>
    public Task<(bool Gone, string How)> DiscardAsync(PointState point, string attempt, CancellationToken ct) =>
        AskAsync(point, new FarAction("discard-point", [point.Place, point.Sha256]), attempt, patient: false, ct);

    /// <summary>Asks for a point that the far side keeps itself: whether it is there and in the state in which it is
    /// whole, what of the answer tells that, and its size where it is told.</summary>
    public async Task<(bool Whole, string Why, long Bytes)> LookAsync(
        PlannedPoint point,
        KeptPoint kept,
        string name,
        CancellationToken ct
    )
    {
        var (there, _, told) = await TellAsync(
            point,
            FarActions.Of(RunBinding.Named(kept.There, name), null, context.Settings),
            context.NewAttempt(),
            patient: true,
            ct
        );
        var line = StepRunner.LastLine(told);
        if (!there)
            return (false, $"it is not there: {line}", 0);
        if (kept.Says is { } says && !Matches(says, told).Success)
            return (false, $"it is there, and not whole: {line}", 0);
        return (
            true,
            kept.Says is { } state ? $"{name} is there and says {Matches(state, told).Value}" : $"{name} is there",
            kept.Bytes is { } size
            && Matches(size, told) is { Success: true } match
            && long.TryParse(match.Groups[1].Value, CultureInfo.InvariantCulture, out var bytes)
                ? bytes
                : 0
        );

        static Match Matches(string pattern, string text) => Regex.Match(text, pattern, RegexOptions.NonBacktracking);
    }

    /// <summary>Takes away a point that the far side keeps itself, and asks whether it is gone.</summary>
    public async Task<(bool Gone, string How)> DropAsync(
        PointState point,
        KeptPoint kept,
        string attempt,
        CancellationToken ct
    )
    {
        if (kept.TakeAway is not { } away)
            return (true, $"nothing has to be taken away: {point.Planned.Node} keeps it by itself");
        var (well, ended, told) = await TellAsync(
            point.Planned,
            FarActions.Of(RunBinding.Named(away, point.Place), null, context.Settings),
            attempt,
            patient: false,
            ct
        );
        // Whether or not that went well: somebody else may have taken it away before.
        var (still, answered, said) = await TellAsync(
            point.Planned,
            FarActions.Of(RunBinding.Named(kept.There, point.Place), null, context.Settings),
            $"{attempt}-look",
            patient: false,
            ct
        );
        // No answer is not the answer that it is gone.
        if (!ended || !answered)
            return (false, $"whether {point.Place} is gone is not known: {StepRunner.LastLine(ended ? said : told)}");
        if (still)
            return (false, $"{point.Place} is still there: {StepRunner.LastLine(told)}");
        return (true, well ? $"{point.Place} is gone" : $"{point.Place} was gone already");
    }

    private async Task<(bool Well, string Told)> AskAsync(
        PointState point,
        FarAction action,
        string id,
        bool patient,
        CancellationToken ct
    )
    {
        var (well, _, told) = await TellAsync(point.Planned, action, id, patient, ct);
        return (well, StepRunner.LastLine(told));
    }

    // Well is how it ended; one that was refused or left no record of its end did not end.
    private async Task<(bool Well, bool Ended, string Told)> TellAsync(
        PlannedPoint point,
        FarAction action,
        string id,
        bool patient,
        CancellationToken ct
    )
    {
        var node = context.Estate.Nodes[point.Node];
        var connector = context.Reader.ConnectorOf(node);
        var position = await context.Journal.LastPositionAsync(ct);
        var attempt = new FencedAttempt(
            context.Installation,
            id,
            log.Epoch,
            position,
            StartWithin,
            point.Component,
            action
        );
        await fence.RaiseAsync(node.Id, patient, ct);
        var begun = await connector.BeginAsync(node, attempt, Patience, ct);
        if (begun.Refused is { } refused)
            return (false, false, refused);
        for (var told = begun.Reading; ; told = null)
        {
            var reading = told ?? await connector.StatusAsync(node, context.Installation, id, Patience, ct);
            if (reading.Phase == AttemptPhase.Ended)
                return (reading.ExitCode == 0, true, reading.Output);
            if (reading.Phase != AttemptPhase.Running)
                return (
                    false,
                    false,
                    $"what was asked of {node.Id} has no end: {reading.Phase.ToString().ToLowerInvariant()}"
                );
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }
}
