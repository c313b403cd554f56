using System.Collections.Concurrent;
using TideStep.Core.Paths;

namespace TideStep.Engine.Plans;

/// <summary>The searches for paths that are under way, by the name that their asker gave them.</summary>
public sealed class Searches(TimeProvider time)
{
    private readonly ConcurrentDictionary<string, (SearchWatch Watch, long Since)> _running = new();

    /// <summary>How a search stands: how much it has looked at, for what, for how long, and whether it was told to
    /// stop.</summary>
    public sealed record Standing(string Id, long Looked, string Doing, TimeSpan For, bool Stopped);

    /// <summary>Runs a search under a name; when the asker goes away it is stopped.</summary>
    public async Task<T> RunAsync<T>(string? id, Func<SearchWatch, Task<T>> search, CancellationToken ct)
    {
        var watch = new SearchWatch();
        var known = id ?? Guid.NewGuid().ToString("N");
        if (!_running.TryAdd(known, (watch, time.GetTimestamp())))
            throw new InvalidOperationException($"a search is running under the name {known} already");
        using var gone = ct.Register(watch.Stop);
        try
        {
            return await search(watch);
        }
        finally
        {
            _running.TryRemove(known, out _);
        }
    }

    public Standing? Of(string id) =>
        _running.TryGetValue(id, out var its)
            ? new Standing(id, its.Watch.Looked, its.Watch.Doing, time.GetElapsedTime(its.Since), its.Watch.Stopped)
            : null;

    /// <summary>Tells a search to end with what it has; false where none runs under that name.</summary>
    public bool Stop(string id)
    {
        if (!_running.TryGetValue(id, out var its))
            return false;
        its.Watch.Stop();
        return true;
    }
}
