using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.People;
using TideStep.Engine.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Keeping;

/// <summary>Takes away what has had its time, in small pieces while nobody waits for it. Of ended runs the report and
/// the line of the list stay; a run that left rollback points on nodes or something to be done stays whole.</summary>
public sealed class Tidying(
    IKeeping kept,
    IDocumentStore store,
    IJournal journal,
    RunDesk runs,
    FollowUpDesk followUps,
    EstateDesk estates,
    TimeProvider time,
    Action<string, Exception> log
) : IAsyncDisposable
{
    /// <summary>Takes away lines of the record from before a moment, at most so many; gives how many went.</summary>
    public Func<DateTimeOffset, int, CancellationToken, Task<int>>? ForgetRecordAsync { get; init; }

    /// <summary>Takes away sessions that have ended.</summary>
    public Func<CancellationToken, Task>? ForgetSessionsAsync { get; init; }

    private const string Kind = "keeping";
    private const int Piece = 200;
    private static readonly string[] Surveyed = ["readings", "check-round"];
    private static readonly TimeSpan Look = TimeSpan.FromHours(1);
    private static readonly TimeSpan Rest = TimeSpan.FromMilliseconds(20);

    private readonly SharedDocument<KeepingTimes> _times = new(store, Kind, KeepingTimes.Usual, time);
    private readonly CancellationTokenSource _ending = new();
    private Task _work = Task.CompletedTask;

    /// <summary>How long what is kept is kept.</summary>
    public Task<KeepingTimes> TimesAsync(CancellationToken ct) => _times.ReadAsync(Kind, ct);

    /// <summary>Changes that.</summary>
    /// <param name="change">From the times as they are to those that are to be.</param>
    public Task ChangeAsync(Func<KeepingTimes, KeepingTimes> change, string by, CancellationToken ct) =>
        _times.ChangeAsync(Kind, change, by, ct);

    public void Start() => _work = Task.Run(WorkAsync);

    private async Task WorkAsync()
    {
        while (!_ending.IsCancellationRequested)
            try
            {
                await TidyAsync(_ending.Token);
                await Task.Delay(Look, time, _ending.Token);
            }
            catch (OperationCanceledException) when (_ending.IsCancellationRequested)
            {
                return;
            }
            catch (Exception e)
            {
                log("what has had its time could not be taken away; it is tried again", e);
                await Task.WhenAny(Task.Delay(Look, time, _ending.Token));
            }
    }

    /// <summary>Takes away everything that has had its time by now.</summary>
    /// <returns>How many rows went.</returns>
    public async Task<int> TidyAsync(CancellationToken ct)
    {
        var (times, now) = (await TimesAsync(ct), time.GetUtcNow());
        var gone = await PiecesAsync(most => kept.ForgetAnswersAsync(now - times.Answers, most, ct), ct);
        gone += await PiecesAsync(most => kept.ForgetNoticesAsync(now - times.Notices, most, ct), ct);
        foreach (var kind in Surveyed)
            gone += await PiecesAsync(most => kept.ForgetRevisionsAsync(kind, now - times.Surveys, most, ct), ct);
        if (ForgetRecordAsync is { } forget)
            gone += await PiecesAsync(most => forget(now - times.Record, most, ct), ct);
        await (ForgetSessionsAsync?.Invoke(ct) ?? Task.CompletedTask);
        await ArchiveAsync(now - times.Runs, ct);
        gone += await PiecesAsync(most => kept.ForgetOutputsAsync(now - times.Outputs, most, ct), ct);
        return gone + await PiecesAsync(most => kept.ForgetEntriesAsync(most, ct), ct);
    }

    // Between two pieces whoever has something to write comes first.
    private async Task<int> PiecesAsync(Func<int, Task<int>> forget, CancellationToken ct)
    {
        for (var all = 0; ; await Task.Delay(Rest, time, ct))
        {
            var gone = await forget(Piece);
            all += gone;
            if (gone < Piece)
                return all;
        }
    }

    private async Task ArchiveAsync(DateTimeOffset before, CancellationToken ct)
    {
        var last = "";
        while (true)
        {
            var some = await kept.EndedBeforeAsync(before, last, Piece, ct);
            foreach (var run in some)
                if (await runs.ReadableAsync(run, ct) is { } state && !await StillServesAsync(run, state, ct))
                    await kept.ArchiveAsync(await ArchiveOfAsync(run, state, ct), ct);
            if (some.Count < Piece)
                return;
            last = some[^1];
        }
    }

    private async Task<bool> StillServesAsync(string run, RunState state, CancellationToken ct) =>
        PointLife.Of([(run, state)], time.GetUtcNow()).Any(p => p.TakesRoom)
        || (await followUps.ListAsync(run, all: false, ct)).Count > 0;

    private async Task<StoredArchive> ArchiveOfAsync(string run, RunState state, CancellationToken ct)
    {
        var report = RunReport.Of(run, state, await journal.ReadAsync(run, 0, ct));
        var zone = TimeZoneInfo.FindSystemTimeZoneById((await estates.CurrentEstateAsync(ct))?.Zone ?? "UTC");
        return new StoredArchive(
            run,
            time.GetUtcNow(),
            JsonSerializer.Serialize(report, Json.Options),
            report.ToMarkdown(zone),
            JsonSerializer.Serialize(RunLine.Of(run, state, state.OpenedAt ?? state.LastAt), Json.Options),
            RunLine.WordsOf(run, state),
            RunTraces.Write(RunTrace.Of(state))
        );
    }

    public async ValueTask DisposeAsync()
    {
        await _ending.CancelAsync();
        await _work;
        _ending.Dispose();
    }
}
