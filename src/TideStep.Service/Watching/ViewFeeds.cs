using System.Text;
using System.Text.Json;
using System.Threading.Channels;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Runs;

namespace TideStep.Service.Watching;

/// <summary>Tells those who watch a run what changed on their page. However many look at the same page, it is made once
/// for all of them, and what goes over the line after the first view is what differs from the one before.</summary>
/// <param name="look">Makes a page's view; null where there is no such run.</param>
public sealed class ViewFeeds(
    RunFeed feed,
    Func<RunPage, CancellationToken, Task<RunView?>> look,
    TimeProvider time,
    Action<string, Exception> log
)
{
    // Between two views of a page: what comes meanwhile is told together.
    private static readonly TimeSpan Gather = TimeSpan.FromMilliseconds(100);

    private readonly Lock _gate = new();
    private readonly Dictionary<RunPage, Watched> _pages = [];

    /// <summary>Begins to watch a page: its view comes first, then what changes.</summary>
    public Watcher Watch(RunPage page)
    {
        lock (_gate)
        {
            if (!_pages.TryGetValue(page, out var its))
            {
                _pages[page] = its = new Watched(page);
                _ = Task.Run(() => CarryOnAsync(its));
            }
            return its.Join(Leave);
        }
    }

    /// <summary>How many pages are made at present.</summary>
    public int Pages
    {
        get
        {
            lock (_gate)
                return _pages.Count;
        }
    }

    private void Leave(Watched its, Watcher watcher)
    {
        lock (_gate)
            if (its.Left(watcher) && _pages.GetValueOrDefault(its.Page) == its)
            {
                _pages.Remove(its.Page);
                its.Stop();
            }
    }

    private async Task CarryOnAsync(Watched its)
    {
        try
        {
            while (await UntilCutOffAsync(its)) { }
        }
        catch (OperationCanceledException) when (its.Stopped.IsCancellationRequested)
        { /* nobody looks at it any more */
        }
        catch (Exception e)
        {
            log($"the page of run {its.Page.Run} can't be made", e);
        }
        lock (_gate)
        {
            if (_pages.GetValueOrDefault(its.Page) == its)
                _pages.Remove(its.Page);
            its.End();
        }
    }

    // Who listens is cut off where more came than it took up: the next view tells it all the same.
    private async Task<bool> UntilCutOffAsync(Watched its)
    {
        using var listener = feed.Listen(its.Page.Run);
        while (true)
        {
            var began = time.GetTimestamp();
            if (await look(its.Page, its.Stopped) is not { } view)
                return false;
            its.Tell(view);
            if (!await listener.Entries.WaitToReadAsync(its.Stopped))
                return true;
            if (Gather - time.GetElapsedTime(began) is var left && left > TimeSpan.Zero)
                await Task.Delay(left, time, its.Stopped);
            while (listener.Entries.TryRead(out _)) { }
        }
    }

    /// <summary>One who watches a page, until it is given up, was too slow, or can't be made any more.</summary>
    public sealed class Watcher(Action<Watcher> leave) : IDisposable
    {
        private const int Backlog = 100;

        private readonly Channel<byte[]> _frames = Channel.CreateBounded<byte[]>(
            new BoundedChannelOptions(Backlog) { SingleReader = true }
        );

        /// <summary>Server-sent events in UTF-8: <c>view</c> with a whole view, then <c>change</c> with a JSON Patch of
        /// it.</summary>
        public ChannelReader<byte[]> Frames => _frames.Reader;

        internal bool Pass(byte[] frame) => _frames.Writer.TryWrite(frame);

        internal void End() => _frames.Writer.TryComplete();

        public void Dispose() => leave(this);
    }

    /// <summary>A page that is watched, with the view that was told last.</summary>
    private sealed class Watched(RunPage page)
    {
        private readonly Lock _gate = new();
        private readonly CancellationTokenSource _stop = new();
        private readonly HashSet<Watcher> _watchers = [];
        private JsonDocument? _last;
        private byte[] _whole = [];

        public RunPage Page { get; } = page;
        public CancellationToken Stopped => _stop.Token;

        public Watcher Join(Action<Watched, Watcher> leave)
        {
            var watcher = new Watcher(w => leave(this, w));
            lock (_gate)
            {
                _watchers.Add(watcher);
                if (_whole.Length > 0)
                    watcher.Pass(_whole);
            }
            return watcher;
        }

        /// <summary>Whether nobody is left.</summary>
        public bool Left(Watcher watcher)
        {
            lock (_gate)
                return _watchers.Remove(watcher) && _watchers.Count == 0;
        }

        public void Stop() => _stop.Cancel();

        public void End()
        {
            lock (_gate)
                foreach (var watcher in _watchers)
                    watcher.End();
        }

        public void Tell(RunView view)
        {
            var text = JsonSerializer.SerializeToUtf8Bytes(view, Json.Options);
            var now = JsonDocument.Parse(text);
            var whole = Frame("view", view.Sequence, text);
            var frame = whole;
            if (_last is not null)
            {
                var delta = JsonDelta.Between(_last.RootElement, now.RootElement);
                if (delta.Count == 0)
                    return;
                var change = Frame("change", view.Sequence, JsonSerializer.SerializeToUtf8Bytes(delta, Json.Options));
                frame = change.Length < whole.Length ? change : whole;
            }
            lock (_gate)
            {
                _last?.Dispose();
                (_last, _whole) = (now, whole);
                // Who takes up nothing comes again, and gets a whole view then.
                foreach (var slow in _watchers.Where(w => !w.Pass(frame)).ToList())
                {
                    slow.End();
                    _watchers.Remove(slow);
                }
            }
        }

        private static byte[] Frame(string name, long sequence, byte[] data) =>
            [.. Encoding.UTF8.GetBytes($"event: {name}\nid: {sequence}\ndata: "), .. data, (byte)'\n', (byte)'\n'];
    }
}
