using System.Net;
using System.Net.ServerSentEvents;
using System.Text.Json;
using System.Text.Json.Nodes;
using TideStep.Core.Documents;
using TideStep.Tests;

namespace TideStep.Service.Tests;

/// <summary>Who watches a run gets it once and then what changes; put together, that is the run as anybody finds it who
/// asks for all of it.</summary>
public sealed class WatchTests
{
    private const string Page = "lanes=current&most=20";

    // What a watcher has put together once the run has ended, how many of each event there were, and their bytes.
    private sealed record Watched(JsonNode Seen, int Views, int Changes, long Bytes, bool Forward);

    private static async Task<Watched> WatchAsync(DemoStack stack, string run, TaskCompletionSource? first = null)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(2));
        await using var stream = await stack.Service.GetStreamAsync($"/api/runs/{run}/changes?{Page}", limit.Token);
        JsonNode? seen = null;
        var (views, changes, bytes, forward, last) = (0, 0, 0L, true, 0L);
        await foreach (var item in SseParser.Create(stream).EnumerateAsync(limit.Token))
        {
            bytes += item.Data.Length;
            if (item.EventType == "view")
                (seen, views) = (JsonNode.Parse(item.Data), views + 1);
            else
                (seen, changes) = (
                    JsonDelta.Apply(seen, JsonSerializer.Deserialize<List<JsonOperation>>(item.Data, Json.Options)!),
                    changes + 1
                );
            first?.TrySetResult();
            forward &= (long)seen!["sequence"]! >= last;
            last = (long)seen["sequence"]!;
            if (seen["ended"] is not null)
                return new Watched(seen, views, changes, bytes, forward);
        }
        throw new InvalidOperationException($"the stream of {run} ended before the run");
    }

    [Fact]
    public async Task Changes_put_together_are_the_run_as_it_stands()
    {
        await using var stack = await DemoStack.StartAsync();
        var run = await stack.OpenAsync();
        var first = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        var early = WatchAsync(stack, run, first);
        await first.Task.WaitAsync(TimeSpan.FromMinutes(1));
        await stack.Good("run", "start", run);
        await stack.UntilDoneAsync(d => d is { Verb: "install", What: "begun" });
        var late = WatchAsync(stack, run);
        var all = await Task.WhenAll(early, late);
        var now = JsonNode.Parse(await stack.Service.GetStringAsync($"/api/runs/{run}?{Page}"));
        Assert.All(all, w => Assert.True(JsonNode.DeepEquals(w.Seen, now), $"{w.Seen}\n{now}"));
        Assert.All(all, w => Assert.True(w.Forward));
        Assert.Equal(1, all[1].Views);
        Assert.True(all[0].Changes > 5, $"{all[0]}");
        // What changes is a small part of what there is.
        var whole = now!.ToJsonString().Length;
        Assert.True(all[0].Bytes < (all[0].Views + all[0].Changes) * whole / 3, $"{all[0].Bytes} of {whole}");
        // Who watches a run that has ended gets it as it is.
        Assert.Equal((1, 0), await WatchAsync(stack, run) is var ended ? (ended.Views, ended.Changes) : default);
    }

    [Fact]
    public async Task What_is_not_there_is_refused_before_anything_is_sent()
    {
        await using var stack = await DemoStack.StartAsync();
        Assert.Equal(HttpStatusCode.NotFound, (await stack.Service.GetAsync("/api/runs/none/changes")).StatusCode);
        Assert.Equal(
            HttpStatusCode.UnprocessableEntity,
            (await stack.Service.GetAsync("/api/runs/none/changes?lanes=some")).StatusCode
        );
    }
}
