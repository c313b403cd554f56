using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Engine.Runs;

/// <summary>What a word makes of a run as it stands: the events that come of it, or why it is refused.</summary>
public delegate (RunEvent[] Events, Problem? Refused) Rule(RunState state);

/// <summary>A run's journal as its owner writes it: one append at a time, in the order in which they are asked for;
/// what is asked for while one is on its way goes together with the next, so that lanes side by side share a flush.
/// The state grows only by what is durable.</summary>
public sealed class RunLog
{
    private readonly RunContext _context;
    private readonly Lock _gate = new();
    private List<Waiting> _waiting = [];
    private bool _writing;
    private Exception? _broken;
    private long _next;
    private DateTimeOffset _lastAt;

    /// <summary>What is asked for: events, or a rule that gives them once its turn has come.</summary>
    private sealed record Waiting(RunEvent[] Events, Rule? Rule, TaskCompletionSource<Problem?> Done);

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
    public Task AppendAsync(params RunEvent[] events) => AskAsync(events, null);

    /// <summary>Appends what a rule allows: it is put to the state with everything before it in it, and nothing comes
    /// between the question and the append, so that of two who say what excludes each other one is refused.</summary>
    /// <returns>Why it was refused; null where it was not.</returns>
    public Task<Problem?> SayAsync(Rule rule) => AskAsync([], rule);

    private Task<Problem?> AskAsync(RunEvent[] events, Rule? rule)
    {
        var asked = new Waiting(
            events,
            rule,
            new TaskCompletionSource<Problem?>(TaskCreationOptions.RunContinuationsAsynchronously)
        );
        lock (_gate)
        {
            if (_broken is not null)
                return Task.FromException<Problem?>(_broken);
            _waiting.Add(asked);
            if (_writing)
                return asked.Done.Task;
            _writing = true;
        }
        _ = WriteAsync();
        return asked.Done.Task;
    }

    // Whoever comes while nobody writes does it; what has gathered meanwhile is another thread's, so that nobody writes
    // for others without end.
    private async Task WriteAsync()
    {
        var (batch, now) = Gathered();
        var events = EventsOf(batch);
        try
        {
            if (events.Length > 0)
                await KeepAsync(events, now);
        }
        catch (Exception e)
        {
            Break(batch, e);
            return;
        }
        foreach (var asked in batch)
            asked.Done.TrySetResult(null);
        if (events.Length > 0)
            Grew?.Invoke();
        lock (_gate)
            if (!(_writing = _waiting.Count > 0))
                return;
        _ = Task.Run(WriteAsync);
    }

    // A rule waits until everything before it is in the state: what is written together has none but at its head.
    private (List<Waiting> Batch, DateTimeOffset Now) Gathered()
    {
        lock (_gate)
        {
            var next = _waiting.FindIndex(1, w => w.Rule is not null);
            var many = next < 0 ? _waiting.Count : next;
            var batch = _waiting[..many];
            _waiting = _waiting[many..];
            var now = _context.Time.GetUtcNow();
            if (now < _lastAt)
                now = _lastAt; // a clock set back does not turn the journal's time
            _lastAt = now;
            return (batch, now);
        }
    }

    // What is refused is out of the batch.
    private RunEvent[] EventsOf(List<Waiting> batch)
    {
        if (batch[0].Rule is { } rule)
            try
            {
                var (allowed, refused) = Look(s => rule(s));
                if (refused is null)
                    batch[0] = batch[0] with { Events = allowed };
                else
                {
                    batch[0].Done.TrySetResult(refused);
                    batch.RemoveAt(0);
                }
            }
            catch (Exception e)
            {
                batch[0].Done.TrySetException(e);
                batch.RemoveAt(0);
            }
        return batch.Count == 1 ? batch[0].Events : [.. batch.SelectMany(b => b.Events)];
    }

    private async Task KeepAsync(RunEvent[] events, DateTimeOffset now)
    {
        var entries = await _context.Journal.AppendAsync(Run, Epoch, _next, events, now, CancellationToken.None);
        _next += events.Length;
        lock (State)
            foreach (var entry in entries)
                State.Apply(entry);
        _context.Feed.Publish(entries);
    }

    // Whether the entries are there is not known: nothing more is said under this ownership.
    private void Break(List<Waiting> batch, Exception e)
    {
        lock (_gate)
        {
            (_broken, _writing) = (e, false);
            batch.AddRange(_waiting);
            _waiting = [];
        }
        foreach (var asked in batch)
            asked.Done.TrySetException(e);
        Grew?.Invoke();
    }
}
