using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Engine.Estates;
using TideStep.Storage;

namespace TideStep.Engine.Surveys;

/// <summary>How often everything is surveyed by itself; null for never.</summary>
public sealed record SurveyEvery(TimeSpan? Every, string By);

/// <summary>Takes surveys by itself, as often as somebody asked. Several instances keep one schedule: the survey that
/// was taken last counts, whoever took it.</summary>
public sealed class SurveySchedule(
    EstateDesk estates,
    IDocumentStore store,
    TimeProvider time,
    Action<string, Exception?> log
) : IAsyncDisposable
{
    private const string Kind = "survey-schedule";
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(10);

    /// <summary>More often is work for the hosts and none for anybody else.</summary>
    public static readonly TimeSpan Shortest = TimeSpan.FromMinutes(1);

    private readonly CancellationTokenSource _ending = new();
    private Task _work = Task.CompletedTask;

    /// <summary>The schedule as it is kept.</summary>
    public async Task<SurveyEvery> FindAsync(CancellationToken ct) =>
        await store.FindAsync(Kind, Kind, ct) is { } kept ? Kept.Read<SurveyEvery>(kept) : new SurveyEvery(null, "");

    /// <summary>Keeps another.</summary>
    public async Task<Problem?> KeepAsync(TimeSpan? every, string by, CancellationToken ct)
    {
        if (every < Shortest)
            return new Problem(
                $"a survey every {Durations.Write(every.Value)} is too often",
                null,
                $"At least {Durations.Write(Shortest)} lie between two."
            );
        var body = JsonSerializer.Serialize(new SurveyEvery(every, by), Json.Options);
        await store.SaveAsync(
            [new StoredDocument(Kind, Kind, 0, Json.DigestOfText(body), body, time.GetUtcNow(), by)],
            ct
        );
        return null;
    }

    /// <summary>When the next one is due: never, or so long after the last, or at once.</summary>
    public static DateTimeOffset? Due(SurveyEvery schedule, DateTimeOffset last, DateTimeOffset now) =>
        schedule.Every is not { } every ? null
        : last + every > now ? last + every
        : now;

    public void Start() => _work = Task.Run(WorkAsync);

    private async Task WorkAsync()
    {
        while (!_ending.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(Look, time, _ending.Token);
                var (schedule, readings) = (await FindAsync(_ending.Token), await estates.ReadingsAsync(_ending.Token));
                if (
                    Due(schedule, readings.Taken, time.GetUtcNow()) is { } due
                    && due <= time.GetUtcNow()
                    && await estates.CurrentEstateAsync(_ending.Token) is not null
                )
                    await estates.SurveyAsync($"schedule of {schedule.By}", _ending.Token);
            }
            catch (OperationCanceledException) when (_ending.IsCancellationRequested)
            {
                return;
            }
            catch (Exception e) when (e is StoreUnavailableException or IOException or System.Data.Common.DbException)
            {
                log("a survey that was due could not be taken; it is tried again", e);
            }
        }
    }

    public async ValueTask DisposeAsync()
    {
        await _ending.CancelAsync();
        await _work;
        _ending.Dispose();
    }
}
