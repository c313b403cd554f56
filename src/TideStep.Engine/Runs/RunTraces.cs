using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>What all runs left: their rollback points, what they did to those of others, what is left to be done. A row
/// is kept of each as it stood after its last entry and made anew where its journal has gone on since; of what this
/// service carries it is made in memory.</summary>
public sealed class RunTraces(RunDesk desk, IRunTraces rows)
{
    private const int Page = 200;

    private static readonly string Shape = Shapes.Of<RunTrace>();

    // What members ran at the ends of runs: an ended run's word on it never changes, so each is read once.
    private readonly Dictionary<string, (DateTimeOffset At, string Label)> _left = [];
    private readonly HashSet<string> _told = [];

    /// <summary>Every run that can be read, newest first, with what it left.</summary>
    public async IAsyncEnumerable<(StoredRun Run, RunTrace Trace)> AllAsync(
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken ct
    )
    {
        await foreach (var page in PagesAsync(ct))
        foreach (var found in await TracesAsync(page, ct))
            yield return found;
    }

    /// <summary>What one run left; null where there is none, or nothing is known of what it left.</summary>
    public async Task<RunTrace?> OfAsync(string run, CancellationToken ct)
    {
        if (desk.ExecutorOf(run) is { } executor)
            return executor.Log.Look(RunTrace.Of);
        try
        {
            return await desk.StateAsync(run, ct) is { OpenedAt: not null } state ? RunTrace.Of(state) : null;
        }
        catch (ArchivedRunException)
        {
            return (await rows.FindTracesAsync([run], ct)).Select(t => Read(t.Body)).FirstOrDefault();
        }
    }

    /// <summary>What each member ran when the last run that worked on it ended.</summary>
    public async Task<IReadOnlyDictionary<string, string>> LastLeftAsync(CancellationToken ct)
    {
        await foreach (var page in PagesAsync(ct))
        {
            List<(StoredRun, long, long?)> ended;
            lock (_left)
                ended = [.. page.Where(p => p.Run.Ended is not null && !_told.Contains(p.Run.Id))];
            foreach (var (run, trace) in await TracesAsync(ended, ct))
                if (trace.End is not null)
                    Tell(run.Id, trace);
        }
        lock (_left)
            return _left.ToDictionary(l => l.Key, l => l.Value.Label);
    }

    private void Tell(string run, RunTrace trace)
    {
        lock (_left)
        {
            _told.Add(run);
            foreach (var (member, label) in trace.After)
                if (!_left.TryGetValue(member, out var known) || known.At < trace.OpenedAt)
                    _left[member] = (trace.OpenedAt, label);
        }
    }

    private async IAsyncEnumerable<IReadOnlyList<(StoredRun Run, long Last, long? Traced)>> PagesAsync(
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken ct
    )
    {
        string? after = null;
        while (true)
        {
            var page = await rows.TracedAsync(Page, after, Shape, ct);
            yield return page;
            if (page.Count < Page)
                break;
            after = page[^1].Run.Id;
        }
    }

    private async Task<IReadOnlyList<(StoredRun Run, RunTrace Trace)>> TracesAsync(
        IReadOnlyList<(StoredRun Run, long Last, long? Traced)> page,
        CancellationToken ct
    )
    {
        var fresh = page.Where(p => p.Traced == p.Last && desk.ExecutorOf(p.Run.Id) is null).Select(p => p.Run.Id);
        var kept = (await rows.FindTracesAsync([.. fresh], ct)).ToDictionary(t => t.Run, t => t.Body);
        var found = new List<(StoredRun, RunTrace)>();
        foreach (var (run, _, _) in page)
            if (kept.TryGetValue(run.Id, out var body) && Read(body) is { } trace)
                found.Add((run, trace));
            else if (await MadeAsync(run.Id, ct) is { } made)
                found.Add((run, made));
        return found;
    }

    private async Task<RunTrace?> MadeAsync(string run, CancellationToken ct)
    {
        if (desk.ExecutorOf(run) is { } executor)
            return executor.Log.Look(RunTrace.Of);
        if (await desk.ReadableAsync(run, ct) is not { OpenedAt: not null } state)
            return null;
        var trace = RunTrace.Of(state);
        await Rows.KeepAsync(() =>
            rows.SaveTraceAsync(new StoredRunTrace(run, state.Sequence, Shape, Write(trace)), ct)
        );
        return trace;
    }

    /// <summary>A trace as it is kept.</summary>
    internal static string Write(RunTrace trace) => JsonSerializer.Serialize(trace, Json.Options);

    private static RunTrace? Read(string body)
    {
        try
        {
            return JsonSerializer.Deserialize<RunTrace>(body, Json.Options);
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
