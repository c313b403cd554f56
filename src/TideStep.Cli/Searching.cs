using System.Diagnostics;
using System.Text.Json.Nodes;
using TideStep.Client;
using TideStep.Core.Paths;

namespace TideStep.Cli;

/// <summary>A search that tells how it stands once it takes longer than a moment, and that Ctrl-C ends with what it
/// has.</summary>
internal static class Searching
{
    private static readonly TimeSpan Quiet = TimeSpan.FromSeconds(1);

    /// <summary>Searches on files.</summary>
    public static Task<T> OnFilesAsync<T>(Func<SearchWatch, T> search, CancellationToken ct)
    {
        var watch = new SearchWatch();
        return WatchedAsync(
            Task.Run(() => search(watch), CancellationToken.None),
            () => Task.FromResult<(long, string)?>((watch.Looked, watch.Doing)),
            () =>
            {
                watch.Stop();
                return Task.CompletedTask;
            },
            ct
        );
    }

    /// <summary>Lets the service search for the path of a goal.</summary>
    public static Task<JsonNode?> ByServiceAsync(
        ServiceClient client,
        string route,
        string goal,
        string name,
        CancellationToken ct
    )
    {
        var id = Guid.NewGuid().ToString("N");
        return WatchedAsync(
            client.PostAsync(
                route,
                new
                {
                    goal,
                    name,
                    search = id,
                },
                CancellationToken.None
            ),
            StandsAsync,
            async () =>
            {
                try
                {
                    await client.DeleteAsync($"/api/searches/{id}", CancellationToken.None);
                }
                catch (RefusedException) { }
            },
            ct
        );

        async Task<(long, string)?> StandsAsync()
        {
            try
            {
                return await client.GetAsync<JsonObject>($"/api/searches/{id}", CancellationToken.None) is var its
                    ? ((long)its["looked"]!, (string)its["doing"]!)
                    : null;
            }
            catch (RefusedException)
            {
                return null;
            } // it has just ended
        }
    }

    private static async Task<T> WatchedAsync<T>(
        Task<T> search,
        Func<Task<(long Looked, string Doing)?>> stands,
        Func<Task> stop,
        CancellationToken ct
    )
    {
        var (since, told, shown) = (Stopwatch.GetTimestamp(), false, false);
        var stopped = new TaskCompletionSource();
        using var asked = ct.Register(() => stopped.TrySetResult());
        while (!search.IsCompleted)
        {
            await Task.WhenAny(
                told
                    ? [search]
                    : [search, stopped.Task, Task.Delay(TimeSpan.FromMilliseconds(250), CancellationToken.None)]
            );
            if (search.IsCompleted || told)
                continue;
            if (ct.IsCancellationRequested)
            {
                told = true;
                await stop();
                continue;
            }
            if (Console.IsErrorRedirected || Stopwatch.GetElapsedTime(since) < Quiet || await stands() is not { } its)
                continue;
            Console.Error.Write(
                $"\rsearching for {its.Doing}: {its.Looked:N0} states, "
                    + $"{Stopwatch.GetElapsedTime(since).TotalSeconds:0} s; Ctrl-C ends it with what it has",
                -99
            );
            shown = true;
        }
        if (shown)
            Console.Error.Write($"\r{"", -99}\r");
        return await search;
    }
}
