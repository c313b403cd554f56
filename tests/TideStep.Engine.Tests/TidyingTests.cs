using System.Text.Json;
using Microsoft.Data.Sqlite;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine.Keeping;
using TideStep.Engine.People;
using TideStep.Engine.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Tests;

/// <summary>What has had its time goes, what may still be needed stays, and what is left is whole.</summary>
public sealed class TidyingTests : DeskBed
{
    private sealed class Later(double days) : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => base.GetUtcNow().AddDays(days);
    }

    private Tidying After(double days) =>
        new(
            _store,
            _store,
            _store,
            _runs,
            new FollowUpDesk(new RunTraces(_runs, _store), _store, new Later(days)),
            _estates,
            new Later(days),
            (_, e) => throw e
        );

    private List<Damage> Damages()
    {
        using var connection = StoreCopy.OpenFile(Path.Combine(_folder, "t.db"));
        return [.. SqlStore.Check(connection).Where(d => !d.Rebuilt)];
    }

    private async Task<(string Ended, string Open)> FillAsync()
    {
        var ended = await OpenAsync();
        Assert.Empty(await _runs.StartAsync(ended, "Wren", default));
        Assert.Equal(RunEnd.Completed, (await EndOf(ended)).End);
        foreach (var node in new[] { "n1", "n2" })
            _far.SetRunning(node, "app", "6");
        await _estates.SurveyAsync("Wren", default);
        await _estates.SurveyAsync("Wren", default);
        await _store.SaveOutputAsync(ended, "a1", "what it said", default);
        await _store.SaveAnswerAsync("key", "print", "{}", DateTimeOffset.UtcNow, default);
        return (ended, await OpenAsync());
    }

    // As whoever asks for the first time is told it.
    private async Task<(string Trace, string Told)> LeftAsync(string run)
    {
        var traces = new RunTraces(_runs, _store);
        await foreach (var (stored, trace) in traces.AllAsync(default))
            if (stored.Id == run)
                return (
                    JsonSerializer.Serialize(trace, Json.Options),
                    string.Join(", ", (await traces.LastLeftAsync(default)).OrderBy(l => l.Key))
                );
        return ("", "");
    }

    private Task<IReadOnlyList<RunLine>> ListAsync() =>
        new RunList(_runs, _store).OfAsync(10, null, null, null, null, default);

    [Fact]
    public async Task Each_kind_goes_when_it_has_had_its_time()
    {
        var (ended, open) = await FillAsync();
        var surveys = await _estates.SurveysAsync(100, null, default);
        var before = await ListAsync();
        Assert.Equal(0, await After(0).TidyAsync(default));
        // Answers first.
        Assert.Equal(1, await After(8).TidyAsync(default));
        Assert.Null(await _store.FindAnswerAsync("key", default));
        Assert.NotNull(await _store.FindOutputAsync(ended, "a1", default));
        Assert.True(await After(200).TidyAsync(default) > 0);
        Assert.Null(await _store.FindOutputAsync(ended, "a1", default));
        Assert.Equal(surveys.Count, (await _estates.SurveysAsync(100, null, default)).Count);
        // Of surveys the last stays, of the run everything.
        await After(400).TidyAsync(default);
        Assert.Equal(surveys[0], Assert.Single(await _estates.SurveysAsync(100, null, default)));
        Assert.NotNull(await _runs.StateAsync(ended, default));
        Assert.Empty(Damages());
        // In the end only its report is left, its line, and what it did to the points of others; what was only opened
        // is not touched.
        var state = await _runs.StateAsync(ended, default);
        var left = await LeftAsync(ended);
        Assert.NotEmpty(left.Told);
        await After(1200).TidyAsync(default);
        await Assert.ThrowsAsync<ArchivedRunException>(() => _runs.StateAsync(ended, default));
        Assert.NotNull(await _runs.StateAsync(open, default));
        Assert.Equal(before, await ListAsync());
        Assert.Equal(left, await LeftAsync(ended));
        var archive = (await _store.FindArchiveAsync(ended, default))!;
        Assert.Contains("completed", archive.WordsOfReport);
        Assert.Contains(state!.Before.Keys.First(), archive.Report);
        Assert.Empty(Damages());
        Assert.Equal(0, await After(1200).TidyAsync(default));
    }

    [Fact]
    public async Task Ended_in_the_middle_it_goes_on_and_nothing_counts_as_damaged()
    {
        var (ended, _) = await FillAsync();
        var before = await ListAsync();
        await After(1200).TidyAsync(default);
        var archive = (await _store.FindArchiveAsync(ended, default))!;
        // The same again in a copy of before, one row at a time, each looked at as if the service had ended there.
        var (again, _) = await FillAsync();
        await _store.ArchiveAsync(archive with { Run = again }, default);
        do
        {
            Assert.Empty(Damages());
            await Assert.ThrowsAsync<ArchivedRunException>(() => _runs.StateAsync(again, default));
            Assert.Equal(before.Count * 2, (await ListAsync()).Count);
        } while (await _store.ForgetEntriesAsync(1, default) == 1);
        Assert.Empty(Damages());
    }

    [Fact]
    public async Task What_people_set_holds_and_what_is_no_time_is_refused()
    {
        var findings = new Findings();
        var times = KeepingTimes.Usual.With("2 d", null, "x", "1 h", "9000 d", null, findings);
        Assert.Equal(TimeSpan.FromDays(2), times.Answers);
        Assert.Equal(KeepingTimes.Usual.Outputs, times.Outputs);
        Assert.Equal(3, findings.All.Length);
        await After(0).ChangeAsync(t => t with { Answers = TimeSpan.FromDays(2) }, "Wren", default);
        await FillAsync();
        Assert.Equal(1, await After(3).TidyAsync(default));
    }
}
