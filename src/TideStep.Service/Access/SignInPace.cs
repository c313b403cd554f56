using System.Collections.Concurrent;

namespace TideStep.Service.Access;

/// <summary>Slows down who tries passwords: after some that were wrong, each further one has to wait longer, by the
/// name and by where it comes from.</summary>
public sealed class SignInPace(TimeProvider time)
{
    private const int Free = 5;
    private const int MostKept = 10_000;
    private static readonly TimeSpan First = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan Longest = TimeSpan.FromMinutes(15);
    private readonly ConcurrentDictionary<string, (int Wrong, DateTimeOffset Until)> _tries = new();

    /// <summary>How long has to be waited before any of these may try again; null where none has to.</summary>
    public TimeSpan? Wait(params ReadOnlySpan<string> of)
    {
        TimeSpan? longest = null;
        foreach (var one in of)
            if (_tries.TryGetValue(one, out var its) && its.Until - time.GetUtcNow() is { Ticks: > 0 } left)
                longest = left > longest ? left : longest ?? left;
        return longest;
    }

    /// <summary>Counts one that was wrong.</summary>
    public void Wrong(params ReadOnlySpan<string> of)
    {
        if (_tries.Count > MostKept)
            foreach (var old in _tries.Where(t => t.Value.Until < time.GetUtcNow()).ToList())
                _tries.TryRemove(old);
        foreach (var one in of)
            _tries.AddOrUpdate(one, _ => (1, time.GetUtcNow()), (_, its) => (its.Wrong + 1, UntilAfter(its.Wrong + 1)));
    }

    /// <summary>Forgets those, for one was right.</summary>
    public void Right(params ReadOnlySpan<string> of)
    {
        foreach (var one in of)
            _tries.TryRemove(one, out _);
    }

    private DateTimeOffset UntilAfter(int wrong) =>
        wrong < Free
            ? time.GetUtcNow()
            : time.GetUtcNow() + TimeSpan.FromTicks(Math.Min(Longest.Ticks, First.Ticks << Math.Min(wrong - Free, 16)));
}
