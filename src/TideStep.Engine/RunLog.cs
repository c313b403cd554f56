using TideStep.Core.Runs;

namespace TideStep.Engine;

/// <summary>A run's journal as its owner writes it: one append at a time, in the order in which they are asked for;
/// what is asked for while one is on its way goes together with the next, so that lanes side by side share a flush.
/// The state grows only by what is durable.</summary>
public sealed class RunLog
{
    private readonly RunContext _context;
    private readonly Lock _gate = new();
    private List<(RunEvent[] Events, TaskCompletionSource Done)> _waiting = [];
    private bool _writing;
    private Exception? _broken;
    private long _next;
    private DateTimeOffset _lastAt;

    public RunLog(RunContext context, string run, long epoch, RunState state)
    {
        (_context, Run, Epoch, State) = (context, run, epoch, state);
        (_next, _lastAt) = (state.Sequence, state.LastAt);
    }

    public string Run { get; }
    public long Epoch { get; private set; }
    private RunState State { get; }

    /// <summary>The time as the journal has it: never before its last entry, whatever the clock says.</summary>
    public DateTimeOffset Now
    {
        get
        {
            lock (_gate)
                return _context.Time.GetUtcNow() is var now && now > _lastAt ? now : _lastAt;
        }
    }

    /// <summary>Why nothing more can be appended; null where it can.</summary>
    public Exception? Broken
    {
        get
        {
            lock (_gate)
                return _broken;
        }
    }

    /// <summary>Called after every append that became part of the state, and when one failed.</summary>
    public event Action? Grew;

    /// <summary>Takes the run anew under a higher epoch: after a child run has raised it on the nodes that both work
    /// on.</summary>
    public async Task RenewAsync(string owner)
    {
        Epoch = await _context.Journal.TakeOwnershipAsync(Run, owner, CancellationToken.None);
        await AppendAsync(new Owned(owner));
    }

    /// <summary>Looks at the state while nothing changes it.</summary>
    public T Look<T>(Func<RunState, T> look)
    {
        lock (State)
            return look(State);
    }

    /// <summary>Appends events; they are durable and in the state when the task ends.</summary>
    public Task AppendAsync(params RunEvent[] events)
    {
        var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        lock (_gate)
        {
            if (_broken is not null)
                return Task.FromException(_broken);
            _waiting.Add((events, done));
            if (_writing)
                return done.Task;
            _writing = true;
        }
        _ = WriteAsync();
        return done.Task;
    }

    // Whoever comes while nobody writes does it; what has gathered meanwhile is another thread's, so that nobody writes
    // for others without end.
    private async Task WriteAsync()
    {
        List<(RunEvent[] Events, TaskCompletionSource Done)> batch;
        DateTimeOffset now;
        lock (_gate)
        {
            (batch, _waiting) = (_waiting, []);
            now = _context.Time.GetUtcNow();
            if (now < _lastAt)
                now = _lastAt; // a clock set back does not turn the journal's time
            _lastAt = now;
        }
        try
        {
            RunEvent[] events = batch.Count == 1 ? batch[0].Events : [.. batch.SelectMany(b => b.Events)];
            var entries = await _context.Journal.AppendAsync(Run, Epoch, _next, events, now, CancellationToken.None);
            _next += events.Length;
            lock (State)
                foreach (var entry in entries)
                    State.Apply(entry);
            _context.Feed.Publish(entries);
        }
        catch (Exception e)
        {
            // Whether the entries are there is not known: nothing more is said under this ownership.
            lock (_gate)
            {
                (_broken, _writing) = (e, false);
                batch.AddRange(_waiting);
                _waiting = [];
            }
            foreach (var (_, done) in batch)
                done.TrySetException(e);
            Grew?.Invoke();
            return;
        }
        foreach (var (_, done) in batch)
            done.TrySetResult();
        Grew?.Invoke();
        lock (_gate)
            if (!(_writing = _waiting.Count > 0))
                return;
        _ = Task.Run(WriteAsync);
    }
}
