using TideStep.Core.Runs;

namespace TideStep.Engine;

/// <summary>A run's journal as its owner writes it: appends are numbered in order and may overlap, so that lanes side by side share a flush; the state grows only by what is durable.</summary>
public sealed class RunLog
{
    private readonly RunContext _context;
    private readonly Lock _gate = new();
    private Task _tail = Task.CompletedTask;
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
    public DateTimeOffset Now { get { lock (_gate) return _context.Time.GetUtcNow() is var now && now > _lastAt ? now : _lastAt; } }

    /// <summary>Called after every append that became part of the state.</summary>
    public event Action? Grew;

    /// <summary>Takes the run anew under a higher epoch: after a child run has raised it on the nodes that both work on.</summary>
    public async Task RenewAsync(string owner)
    {
        Epoch = await _context.Journal.TakeOwnershipAsync(Run, owner, CancellationToken.None);
        await AppendAsync(new Owned(owner));
    }

    /// <summary>Looks at the state while nothing changes it.</summary>
    public T Look<T>(Func<RunState, T> look)
    {
        lock (State) return look(State);
    }

    /// <summary>Appends events; they are durable and in the state when the task ends.</summary>
    public Task AppendAsync(params RunEvent[] events)
    {
        lock (_gate)
        {
            var now = _context.Time.GetUtcNow();
            if (now < _lastAt) now = _lastAt; // a clock set back does not turn the journal's time
            _lastAt = now;
            var append = _context.Journal.AppendAsync(Run, Epoch, _next, events, now, CancellationToken.None);
            _next += events.Length;
            return _tail = FinishAsync(_tail, append);
        }
    }

    private async Task FinishAsync(Task before, Task<IReadOnlyList<JournalEntry>> append)
    {
        await before;
        var entries = await append;
        lock (State) foreach (var entry in entries) State.Apply(entry);
        _context.Feed.Publish(entries);
        Grew?.Invoke();
    }
}
