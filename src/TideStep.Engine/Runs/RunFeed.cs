using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Json;
using System.Threading.Channels;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Engine.Runs;

/// <summary>An entry on its way to listeners, and its form as a server-sent event, which is made once however many
/// listen.</summary>
public sealed class FeedEntry(JournalEntry entry)
{
    public JournalEntry Entry { get; } = entry;

    /// <summary>The event as it goes over the line, in UTF-8.</summary>
    public byte[] Event =>
        _event ??= Encoding.UTF8.GetBytes(
            $"id: {Entry.Sequence}\ndata: {JsonSerializer.Serialize(Entry, Json.Options)}\n\n"
        );
    private byte[]? _event;
}

/// <summary>Passes every appended entry to whoever listens; a slow listener is cut off and resumes from the journal by
/// sequence number.</summary>
public sealed class RunFeed
{
    private const int Backlog = 10_000;

    /// <summary>All who listen to the same; the array is made anew whenever somebody comes or leaves, so that passing
    /// on costs nothing but the passing.</summary>
    internal sealed class Audience
    {
        private readonly Lock _gate = new();

        public volatile Listener[] Listeners = [];

        public void Add(Listener listener)
        {
            lock (_gate)
                Listeners = [.. Listeners, listener];
        }

        public void Remove(Listener listener)
        {
            lock (_gate)
                Listeners = [.. Listeners.Where(l => l != listener)];
        }
    }

    /// <summary>One who listens, to a run or to all of them, until it is given up or cut off.</summary>
    public sealed class Listener : IDisposable
    {
        private readonly Audience _among;

        internal Listener(Audience among)
        {
            _among = among;
            among.Add(this);
        }

        private readonly Channel<FeedEntry> _channel = Channel.CreateBounded<FeedEntry>(
            new BoundedChannelOptions(Backlog) { SingleReader = true }
        );

        /// <summary>How many listen to the same.</summary>
        public int Company => _among.Listeners.Length;

        /// <summary>What was appended since; it ends when the listener was too slow.</summary>
        public ChannelReader<FeedEntry> Entries => _channel.Reader;

        internal void Pass(FeedEntry entry)
        {
            if (_channel.Writer.TryWrite(entry))
                return;
            _channel.Writer.TryComplete();
            Dispose();
        }

        public void Dispose() => _among.Remove(this);
    }

    private readonly ConcurrentDictionary<string, Audience> _byRun = new();
    private readonly Audience _ofAll = new();

    public void Publish(IReadOnlyList<JournalEntry> entries)
    {
        foreach (var entry in entries)
        {
            var passed = new FeedEntry(entry);
            foreach (var listener in _ofAll.Listeners)
                listener.Pass(passed);
            if (_byRun.TryGetValue(entry.Run, out var its))
                foreach (var listener in its.Listeners)
                    listener.Pass(passed);
        }
    }

    /// <summary>Begins to listen; everything that is appended from now on comes.</summary>
    /// <param name="run">The run; all of them where null.</param>
    public Listener Listen(string? run) => new(run is null ? _ofAll : _byRun.GetOrAdd(run, _ => new Audience()));

    /// <summary>Entries as they are appended, of one run or of all, until cancelled or cut off.</summary>
    public async IAsyncEnumerable<JournalEntry> ListenAsync(
        string? run,
        TaskCompletionSource? listening,
        [EnumeratorCancellation] CancellationToken ct
    )
    {
        using var listener = Listen(run);
        listening?.TrySetResult();
        await foreach (var passed in listener.Entries.ReadAllAsync(ct))
            yield return passed.Entry;
    }
}
