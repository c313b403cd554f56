using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Tests;

/// <summary>A journal in memory with the stores' fence. It can be cut: from the k-th append on the process that writes
/// counts as ended.</summary>
internal sealed class MemoryJournal(long after = 0) : IJournal
{
    private readonly Lock _gate = new();
    private readonly List<JournalEntry> _entries = [];
    private long _epoch = after;

    /// <summary>How many more appends become durable before the cut; null for no cut.</summary>
    public int? Left { get; set; }

    /// <summary>Told of each entry once it is durable, before anything follows from it.</summary>
    public Action<JournalEntry>? Appended { get; set; }

    public IReadOnlyList<JournalEntry> Entries
    {
        get
        {
            lock (_gate)
                return [.. _entries];
        }
    }

    public async Task<IReadOnlyList<(string Subject, string Run)>> CreateReservedRunAsync(
        StoredRun run,
        RunEvent opened,
        DateTimeOffset at,
        IReadOnlyCollection<string> subjects,
        CancellationToken ct
    )
    {
        await CreateRunAsync(run, opened, at, ct);
        return [];
    }

    /// <summary>The epoch of the last owner.</summary>
    public long Epoch
    {
        get
        {
            lock (_gate)
                return _epoch;
        }
        set
        {
            lock (_gate)
                _epoch = value;
        }
    }

    public Task CreateRunAsync(StoredRun run, RunEvent opened, DateTimeOffset at, CancellationToken ct)
    {
        lock (_gate)
            _entries.Add(new JournalEntry(run.Id, 1, 0, at, opened));
        return Task.CompletedTask;
    }

    public Task<long> TakeOwnershipAsync(string run, string owner, CancellationToken ct, bool ended = false)
    {
        lock (_gate)
            return Task.FromResult(++_epoch);
    }

    public Task<IReadOnlyList<JournalEntry>> AppendAsync(
        string run,
        long epoch,
        long expected,
        IReadOnlyList<RunEvent> events,
        DateTimeOffset at,
        CancellationToken ct
    )
    {
        lock (_gate)
        {
            if (Left is 0)
                throw new ProcessEnded();
            if (epoch != _epoch)
                throw new StaleOwnerException($"epoch {epoch} is not {_epoch}");
            if (expected != _entries.Count)
                throw new StaleOwnerException($"the journal has {_entries.Count} entries, not {expected}");
            if (Left is { } left)
                Left = left - 1;
            var added = events.Select((e, i) => new JournalEntry(run, expected + 1 + i, epoch, at, e)).ToList();
            _entries.AddRange(added);
            if (Appended is { } told)
                added.ForEach(told);
            return Task.FromResult<IReadOnlyList<JournalEntry>>(added);
        }
    }

    public Task<IReadOnlyList<JournalEntry>> ReadAsync(string run, long after, CancellationToken ct) =>
        Task.FromResult<IReadOnlyList<JournalEntry>>([.. Entries.Where(e => e.Sequence > after)]);

    public Task<long> LastPositionAsync(CancellationToken ct)
    {
        lock (_gate)
            return Task.FromResult((long)_entries.Count);
    }

    public Task SaveOutputAsync(string run, string attempt, string body, CancellationToken ct) => Task.CompletedTask;

    public Task<string?> FindOutputAsync(string run, string attempt, CancellationToken ct) =>
        Task.FromResult<string?>(null);

    public Task<IReadOnlyList<StoredRun>> RunsAsync(bool openOnly, int limit, string? after, CancellationToken ct) =>
        throw new NotSupportedException();

    public Task<StoredRun?> FindRunAsync(string run, CancellationToken ct) => throw new NotSupportedException();

    public Task<IReadOnlyList<(string Subject, string Run)>> ReserveAsync(
        string run,
        IReadOnlyCollection<string> subjects,
        CancellationToken ct
    ) => throw new NotSupportedException();

    public Task ReleaseAsync(string run, CancellationToken ct) => Task.CompletedTask;
}

/// <summary>Stands for kill -9: nothing of this process happens afterwards.</summary>
internal sealed class ProcessEnded() : Exception("the process ended");
