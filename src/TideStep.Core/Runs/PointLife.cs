using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>A rollback point among those of all runs, as it stands now.</summary>
/// <param name="Run">The run that captured it.</param>
/// <param name="Label">That run's name.</param>
/// <param name="Point">What is known of it; its state takes in what later runs and the time have done to it.</param>
/// <param name="Until">Until when it serves; null while its run is at work.</param>
/// <param name="Settled">When the settle time of its component is over; null while its run is at work.</param>
public sealed record PointLine(
    string Run,
    string Label,
    PointState Point,
    DateTimeOffset? Until,
    DateTimeOffset? Settled
)
{
    /// <summary>Whether it still takes room on its node.</summary>
    public bool TakesRoom => Point.State is not PointState.GivenUp && !Overwritten;

    /// <summary>Whether another capture took its place, so that nothing of it is left.</summary>
    public bool Overwritten { get; init; }
}

/// <summary>The life of rollback points across runs: used, void, expired; and when one may be given up (4-execution,
/// Rollback points).</summary>
public static class PointLife
{
    /// <summary>Every point of runs, newest first, each in the state that it has by now.</summary>
    /// <param name="runs">The runs in any order, each folded from its journal.</param>
    public static ImmutableArray<PointLine> Of(IEnumerable<(string Run, RunState State)> runs, DateTimeOffset now) =>
        Of(runs.Where(r => r.State.OpenedAt is not null).Select(r => (r.Run, RunTrace.Of(r.State))), now);

    /// <inheritdoc cref="Of(IEnumerable{ValueTuple{string, RunState}}, DateTimeOffset)"/>
    /// <param name="runs">What each of the runs left, in any order.</param>
    public static ImmutableArray<PointLine> Of(IEnumerable<(string Run, RunTrace Trace)> runs, DateTimeOffset now)
    {
        var known = runs.OrderBy(r => r.Trace.OpenedAt).ToList();
        var lines = known.SelectMany(r => r.Trace.Points.Select(p => Line(r.Run, r.Trace, p))).ToList();
        // What lies at one place of one node, in the order in which it was captured.
        var places = lines
            .GroupBy(l => (l.Point.Planned.Node, l.Point.Place))
            .ToDictionary(g => g.Key, g => g.OrderBy(l => l.Point.CapturedAt).ToList());
        var voiding = known.Where(r => !r.Trace.Voiding.IsEmpty).ToList();
        var back = known.Where(r => r.Trace.LeadsBack is not null).ToLookup(r => r.Trace.LeadsBack!);
        for (var i = 0; i < lines.Count; i++)
        {
            var line = lines[i];
            if (line.Point.State is PointState.GivenUp or PointState.GivingUp or PointState.Void or null)
                continue;
            var later = places[(line.Point.Planned.Node, line.Point.Place)];
            if (later[^1] is var newest && newest.Point.CapturedAt > line.Point.CapturedAt)
            {
                var over = later.First(o => o.Point.CapturedAt > line.Point.CapturedAt);
                lines[i] = line with
                {
                    Point = line.Point with { State = PointState.Void, Why = $"written over by run {over.Run}" },
                    Overwritten = true,
                };
            }
            else if (
                voiding.Select(r => Voiding(line, r.Run, r.Trace)).FirstOrDefault(v => v is not null) is { } voided
            )
                lines[i] = line with { Point = line.Point with { State = PointState.Void, Why = voided } };
            else if (line.Until <= now)
                lines[i] = line with
                {
                    Point = line.Point with { State = PointState.Expired, Why = $"served till {line.Until:u}" },
                };
            else if (back[line.Run].FirstOrDefault(r => Used(line, r.Trace)) is { Run: { } by })
                lines[i] = line with
                {
                    Point = line.Point with { State = PointState.Used, Why = $"brought back by run {by}" },
                };
        }
        return
        [
            .. lines.OrderByDescending(l => l.Point.CapturedAt).ThenBy(l => l.Point.Planned.Id, StringComparer.Ordinal),
        ];
    }

    /// <summary>Every point as it would be once some are given up: a set that loses one of its points leads back no
    /// more.</summary>
    public static IEnumerable<PointLine> Without(IEnumerable<PointLine> all, IEnumerable<PointLine> givenUp)
    {
        var gone = givenUp.ToHashSet();
        return all.Select(l => gone.Contains(l) ? l with { Point = l.Point with { State = PointState.GivenUp } } : l);
    }

    /// <summary>Why a point may not be given up now; null where it may.</summary>
    /// <param name="all">Every point, as <see cref="Of"/> gives them, or <see cref="Without"/> those that go with
    /// it.</param>
    /// <param name="ended">Whether its run has ended.</param>
    /// <param name="holder">The run that works on its component now, or null.</param>
    public static Problem? Refusal(
        PointLine line,
        IEnumerable<PointLine> all,
        bool ended,
        string? holder,
        DateTimeOffset now
    )
    {
        var name = line.Point.Planned.Id;
        if (line.Point.State == PointState.GivenUp)
            return new Problem($"{name} of run {line.Run} was given up already", null, "Nothing is left of it.");
        if (line.Overwritten)
            return new Problem(
                $"{name} of run {line.Run} was {line.Point.Why}",
                null,
                "Nothing is left of it: give up the later one."
            );
        if (!ended)
            return new Problem(
                $"run {line.Run} is at work and may need {name} on its way back",
                null,
                "Wait for its end."
            );
        if (holder is not null)
            return new Problem($"run {holder} works on {line.Point.Planned.Component}", null, "Wait for its end.");
        if (line.Point.State is not (PointState.Usable or PointState.Used) || !line.Point.Planned.Restorable)
            return null;
        // What one jump captured of a member is restored together: one of them alone leads nowhere, and the last set
        // that does has to stay till the settle time is over.
        var others = all.Where(o =>
                o.Point.Planned.Restorable
                && o.Point.Planned.Component == line.Point.Planned.Component
                && o.Point.Planned.Member == line.Point.Planned.Member
            )
            .GroupBy(o => (o.Run, o.Point.Planned.Move))
            .Where(set => set.Key != (line.Run, line.Point.Planned.Move));
        var last = !others.Any(set => set.All(o => o.Point.LeadsBack && o.TakesRoom));
        return last && line.Settled > now
            ? new Problem(
                $"{name} belongs to the last set of rollback points that leads {line.Point.Planned.Member} back, and "
                    + $"{line.Point.Planned.Component} settles till {line.Settled:u}",
                null,
                "Give it up after that."
            )
            : null;
    }

    private static PointLine Line(string run, RunTrace trace, PointState point) =>
        new(
            run,
            trace.Label,
            point with
            {
                State = point.State ?? "not verified",
            },
            trace.EndedAt + point.Planned.Serves,
            trace.EndedAt + point.Planned.Settle
        );

    // A later run's step, of the same component or of one that touches it, may say that captures of a kind lead nowhere
    // any more.
    private static string? Voiding(PointLine line, string run, RunTrace trace)
    {
        if (run == line.Run || trace.LastAt < line.Point.CapturedAt)
            return null;
        var step = trace.Voiding.FirstOrDefault(v =>
            v.Begun > line.Point.CapturedAt
            && PlanStep.MakesVoid(v.Member, v.Voids, line.Point.Planned.Component, line.Point.Planned.Kind)
        );
        return step is null ? null : $"void by {step.Step} in run {run}";
    }

    private static bool Used(PointLine line, RunTrace trace) =>
        trace.LeadsBack == line.Run && trace.Used.Contains(line.Point.Planned.Id);
}
