using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Storage;

namespace TideStep.Engine.People;

/// <summary>A person's word on something that a run left to be done: done, or whose it is and until when.</summary>
public sealed record FollowUpMark(
    string FollowUp,
    string By,
    DateTimeOffset At,
    bool Done,
    string? Owner,
    DateTimeOffset? Due,
    string? Note
);

/// <summary>Something left to be done, with what people said of it.</summary>
public sealed record FollowUpLine(
    string Run,
    string Label,
    string Id,
    string What,
    string About,
    string? Owner,
    DateTimeOffset Due,
    bool Urgent,
    string Why,
    bool Done,
    string? By,
    string? Note
);

/// <summary>Keeps what people say of what runs leave to be done; what there is to do is reckoned from the runs
/// themselves.</summary>
public sealed class FollowUpDesk(RunTraces traces, IDocumentStore store, TimeProvider time)
{
    private readonly SharedDocument<ImmutableArray<FollowUpMark>> _marks = new(store, "follow-ups", [], time);

    /// <summary>What is left of runs, newest first.</summary>
    /// <param name="run">Only of this run.</param>
    /// <param name="all">What is done as well.</param>
    public async Task<IReadOnlyList<FollowUpLine>> ListAsync(string? run, bool all, CancellationToken ct)
    {
        var lines = new List<FollowUpLine>();
        await foreach (var (id, trace) in LeftAsync(run, ct))
        {
            var back = await LedBackAsync(trace, ct);
            var marks = (await _marks.ReadAsync(id, ct)).ToLookup(m => m.FollowUp);
            foreach (var f in trace.FollowUps)
            {
                // Of a run that was led back afterwards nothing is left to be done but what lies about.
                if (back && !f.Id.StartsWith("points ", StringComparison.Ordinal))
                    continue;
                var (last, owner, due) = (
                    marks[f.Id].LastOrDefault(),
                    marks[f.Id].LastOrDefault(m => m.Owner is not null)?.Owner,
                    marks[f.Id].LastOrDefault(m => m.Due is not null)?.Due
                );
                if (all || last is not { Done: true })
                    lines.Add(
                        new FollowUpLine(
                            id,
                            trace.Label,
                            f.Id,
                            f.What,
                            f.About,
                            owner ?? f.Owner,
                            due ?? f.Due,
                            f.Urgent,
                            f.Why,
                            last is { Done: true },
                            last?.By,
                            last?.Note
                        )
                    );
            }
        }
        return lines;
    }

    private async IAsyncEnumerable<(string Run, RunTrace Trace)> LeftAsync(
        string? run,
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken ct
    )
    {
        if (run is not null)
        {
            if (await ReadableAsync(run, ct) is { } its)
                yield return (run, its);
            yield break;
        }
        await foreach (var (stored, trace) in traces.AllAsync(ct))
            if (trace.End is not null && stored.Parent is null && !trace.FollowUps.IsEmpty)
                yield return (stored.Id, trace);
    }

    private async Task<RunTrace?> ReadableAsync(string run, CancellationToken ct)
    {
        try
        {
            return await traces.OfAsync(run, ct);
        }
        catch (DamagedRecordException)
        {
            return null;
        }
    }

    /// <summary>Says of something that it is done, or whose it is and until when.</summary>
    public async Task<Problem?> MarkAsync(
        string run,
        string followUp,
        bool done,
        string? owner,
        DateTimeOffset? due,
        string? note,
        string by,
        CancellationToken ct
    )
    {
        if (await traces.OfAsync(run, ct) is not { } trace)
            return RunDesk.NoRun(run);
        var known = trace.FollowUps;
        var found = known.FirstOrDefault(f => f.Id == followUp)
            ?? (
                known.Where(f => f.What.Contains(followUp, StringComparison.OrdinalIgnoreCase)).ToList() is [var only]
                    ? only
                    : null
            );
        if (found is null)
            return new Problem(
                $"run {run} left nothing of the name '{followUp}'",
                null,
                known.IsEmpty
                    ? "It left nothing to be done."
                    : Nearest.Hint(followUp, known.Select(f => f.Id)) ?? "See 'tidestep follow-up list'."
            );
        if (!done && owner is null && due is null)
            return new Problem("nothing is said of it", null, "Say that it is done, whose it is, or until when.");
        await _marks.ChangeAsync(
            run,
            all => all.Add(new FollowUpMark(found.Id, by, time.GetUtcNow(), done, owner, due, note)),
            by,
            ct
        );
        return null;
    }

    // Whether every member is what it was before the run, by a return after its end.
    private async Task<bool> LedBackAsync(RunTrace trace, CancellationToken ct) =>
        trace.LedBackBy is { } by
        && await ReadableAsync(by, ct) is { End: RunEnd.Completed } back
        && trace.Before.All(b =>
            !trace.After.TryGetValue(b.Key, out var left)
            || left == b.Value
            || back.After.GetValueOrDefault(b.Key) == b.Value
        );
}
