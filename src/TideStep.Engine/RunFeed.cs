using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using System.Threading.Channels;
using TideStep.Core.Runs;

namespace TideStep.Engine;

/// <summary>Passes every appended entry to whoever listens; a slow listener is cut off and resumes from the journal by sequence number.</summary>
public sealed class RunFeed
{
    private const int Backlog = 10_000;

    private readonly ConcurrentDictionary<Guid, (string? Run, Channel<JournalEntry> Channel)> _listeners = new();

    public void Publish(IReadOnlyList<JournalEntry> entries)
    {
        foreach (var (key, (run, channel)) in _listeners)
            foreach (var entry in entries)
                if ((run is null || run == entry.Run) && !channel.Writer.TryWrite(entry))
                {
                    channel.Writer.TryComplete();
                    _listeners.TryRemove(key, out _);
                    break;
                }
    }

    /// <summary>Entries as they are appended, of one run or of all, until cancelled or cut off.</summary>
    public async IAsyncEnumerable<JournalEntry> ListenAsync(string? run, TaskCompletionSource? listening, [EnumeratorCancellation] CancellationToken ct)
    {
        var key = Guid.NewGuid();
        var channel = Channel.CreateBounded<JournalEntry>(new BoundedChannelOptions(Backlog) { SingleReader = true });
        _listeners[key] = (run, channel);
        listening?.TrySetResult();
        try
        {
            await foreach (var entry in channel.Reader.ReadAllAsync(ct)) yield return entry;
        }
        finally { _listeners.TryRemove(key, out _); }
    }
}
