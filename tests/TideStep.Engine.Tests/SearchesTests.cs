using TideStep.Core.Paths;
using TideStep.Engine.Plans;

namespace TideStep.Engine.Tests;

/// <summary>A search can be looked at while it runs, and ended with what it has.</summary>
public sealed class SearchesTests
{
    private readonly Searches _searches = new(TimeProvider.System);

    [Fact]
    public async Task A_search_is_known_while_it_runs_and_ends_when_it_is_told_to()
    {
        var begun = new TaskCompletionSource<SearchWatch>();
        var told = new TaskCompletionSource();
        var search = _searches.RunAsync(
            "mine",
            async watch =>
            {
                begun.SetResult(watch);
                await told.Task;
                return watch.Stopped;
            },
            default
        );
        await begun.Task;
        Assert.False(_searches.Of("mine")!.Stopped);
        await Assert.ThrowsAsync<InvalidOperationException>(() =>
            _searches.RunAsync("mine", _ => Task.FromResult(0), default)
        );
        Assert.True(_searches.Stop("mine"));
        told.SetResult();
        Assert.True(await search);
        Assert.Null(_searches.Of("mine"));
        Assert.False(_searches.Stop("mine"));
    }

    [Fact]
    public async Task Where_the_asker_goes_away_the_search_is_stopped()
    {
        using var gone = new CancellationTokenSource();
        Assert.True(
            await _searches.RunAsync(
                null,
                async watch =>
                {
                    await gone.CancelAsync();
                    return watch.Stopped;
                },
                gone.Token
            )
        );
    }
}
