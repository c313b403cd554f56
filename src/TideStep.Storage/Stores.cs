using TideStep.Core.Runs;

namespace TideStep.Storage;

/// <summary>The append-only records of runs. An append carries the owner's epoch and the sequence number it expects;
/// anything stale is refused whatever else fails.</summary>
public interface IJournal
{
    /// <summary>Makes a run and its first entry.</summary>
    Task CreateRunAsync(StoredRun run, RunEvent opened, DateTimeOffset at, CancellationToken ct);

    /// <summary>Makes a run, its first entry and its reservations, or nothing of it; returns the runs that hold any of
    /// the subjects.</summary>
    Task<IReadOnlyList<(string Subject, string Run)>> CreateReservedRunAsync(
        StoredRun run,
        RunEvent opened,
        DateTimeOffset at,
        IReadOnlyCollection<string> subjects,
        CancellationToken ct
    );

    /// <summary>Gives a run to an owner under an epoch above every earlier one of all runs.</summary>
    /// <param name="ended">Whether it is a run that has ended, for what is still done about it afterwards; otherwise
    /// one that has not.</param>
    /// <exception cref="StaleOwnerException">There is no such run, or it has ended, or it has not.</exception>
    Task<long> TakeOwnershipAsync(string run, string owner, CancellationToken ct, bool ended = false);

    /// <summary>Appends entries after <paramref name="expected"/> and returns them once they are durable.</summary>
    /// <exception cref="StaleOwnerException">Another owner has the run, or the journal is longer than
    /// expected.</exception>
    Task<IReadOnlyList<JournalEntry>> AppendAsync(
        string run,
        long epoch,
        long expected,
        IReadOnlyList<RunEvent> events,
        DateTimeOffset at,
        CancellationToken ct
    );

    /// <summary>The entries after a sequence number, in order.</summary>
    Task<IReadOnlyList<JournalEntry>> ReadAsync(string run, long after, CancellationToken ct);

    /// <summary>The newest runs first, at most <paramref name="limit"/>, those behind the run <paramref name="after"/>
    /// where it is given.</summary>
    Task<IReadOnlyList<StoredRun>> RunsAsync(bool openOnly, int limit, string? after, CancellationToken ct);

    Task<StoredRun?> FindRunAsync(string run, CancellationToken ct);

    /// <summary>The highest position any entry of any run has; attempt records on far sides carry it.</summary>
    Task<long> LastPositionAsync(CancellationToken ct);

    Task SaveOutputAsync(string run, string attempt, string body, CancellationToken ct);

    Task<string?> FindOutputAsync(string run, string attempt, CancellationToken ct);

    /// <summary>Reserves subjects for a run, all or none; returns the runs that hold any of them.</summary>
    Task<IReadOnlyList<(string Subject, string Run)>> ReserveAsync(
        string run,
        IReadOnlyCollection<string> subjects,
        CancellationToken ct
    );

    Task ReleaseAsync(string run, CancellationToken ct);
}

/// <summary>Runs as lists show them: rows that the journal can rebuild.</summary>
public interface IRunLines
{
    /// <summary>The newest runs first, each with the number of its last entry and the row that is kept of it, which may
    /// be behind or missing.</summary>
    /// <param name="after">Only those behind this run; from the newest on where null.</param>
    /// <param name="before">Only those opened before then; all where null.</param>
    Task<IReadOnlyList<(StoredRun Run, long Last, StoredRunLine? Line)>> LinesAsync(
        int limit,
        string? after,
        DateTimeOffset? before,
        CancellationToken ct
    );

    /// <summary>Keeps a row, unless a later one is kept already.</summary>
    Task SaveLineAsync(StoredRunLine line, CancellationToken ct);

    /// <summary>Takes away every row that the journal can make anew, traces and snapshots among them; each comes again
    /// when it is asked for.</summary>
    /// <returns>How many there were.</returns>
    Task<int> ForgetRowsAsync(CancellationToken ct);
}

/// <summary>What runs left that is asked for over all runs: rows that the journal can rebuild, and of archived runs the
/// only thing that is left of it.</summary>
public interface IRunTraces
{
    /// <summary>Runs, newest first, each with the number of its last entry and that of the entry which its trace was
    /// kept after, where one of this shape is kept.</summary>
    /// <param name="after">Only those behind this run; from the newest on where null.</param>
    Task<IReadOnlyList<(StoredRun Run, long Last, long? Traced)>> TracedAsync(
        int limit,
        string? after,
        string shape,
        CancellationToken ct
    );

    /// <summary>The traces of some runs, as far as they are kept and are what was written.</summary>
    Task<IReadOnlyList<(string Run, string Body)>> FindTracesAsync(
        IReadOnlyCollection<string> runs,
        CancellationToken ct
    );

    /// <summary>Keeps one, unless a later one is kept already.</summary>
    Task SaveTraceAsync(StoredRunTrace trace, CancellationToken ct);
}

/// <summary>States of runs as they were after one of their entries, so that taking a run up costs what came since.
/// Each is a copy that the journal can rebuild; one that does not fit is as good as none.</summary>
public interface ISnapshots
{
    /// <summary>Keeps one in place of the one before.</summary>
    Task SaveSnapshotAsync(StoredSnapshot snapshot, CancellationToken ct);

    /// <summary>The last one of a run in a shape; null where there is none, it was damaged, or the entry that it was
    /// taken after is not the one that is there.</summary>
    Task<StoredSnapshot?> FindSnapshotAsync(string run, string shape, CancellationToken ct);
}

/// <summary>Takes away what had its time, a few rows at a time, so that nobody waits for it. Each call gives how many
/// rows went; none are left where that is fewer than were allowed.</summary>
public interface IKeeping
{
    Task<int> ForgetAnswersAsync(DateTimeOffset before, int most, CancellationToken ct);

    /// <summary>Outputs of runs that ended before then, and of those whose entries are gone.</summary>
    Task<int> ForgetOutputsAsync(DateTimeOffset before, int most, CancellationToken ct);

    /// <summary>Notices that were sent or given up.</summary>
    Task<int> ForgetNoticesAsync(DateTimeOffset before, int most, CancellationToken ct);

    /// <summary>Revisions of documents of a kind, from the first on; never the last one of any.</summary>
    Task<int> ForgetRevisionsAsync(string kind, DateTimeOffset before, int most, CancellationToken ct);

    /// <summary>Runs that ended before then, with nothing said of them since, whose entries are all there; in the order
    /// of their identifiers, after one.</summary>
    Task<IReadOnlyList<string>> EndedBeforeAsync(DateTimeOffset before, string after, int most, CancellationToken ct);

    /// <summary>Keeps the report of a run in place of its entries, which may go from then on.</summary>
    Task ArchiveAsync(StoredArchive archive, CancellationToken ct);

    /// <exception cref="DamagedRecordException">It is not what was written.</exception>
    Task<StoredArchive?> FindArchiveAsync(string run, CancellationToken ct);

    /// <summary>Takes away entries of runs that are archived.</summary>
    Task<int> ForgetEntriesAsync(int most, CancellationToken ct);
}

/// <summary>Notices that are to be sent: each once, whatever ends in between, and tried again until it is
/// taken.</summary>
public interface INoticeStore
{
    /// <summary>The entries of all runs after a position, in order, with their positions.</summary>
    Task<IReadOnlyList<(long Position, JournalEntry Entry)>> ReadAllAsync(long after, int limit, CancellationToken ct);

    /// <summary>The highest position any entry of any run has.</summary>
    Task<long> LastPositionAsync(CancellationToken ct);

    /// <summary>Up to which position the journal was read for notices.</summary>
    Task<long> NoticesReadAsync(CancellationToken ct);

    /// <summary>Keeps notices, each once by its identifier, together with the position up to which the journal was read
    /// for them.</summary>
    Task QueueAsync(IReadOnlyCollection<StoredNotice> notices, long readTo, CancellationToken ct);

    /// <summary>Takes notices that are due; nobody else gets them until <paramref name="until"/>.</summary>
    Task<IReadOnlyList<StoredNotice>> ClaimAsync(
        DateTimeOffset now,
        DateTimeOffset until,
        int limit,
        CancellationToken ct
    );

    /// <summary>What came of a try.</summary>
    Task TriedAsync(string id, string state, int attempts, DateTimeOffset nextAt, string? said, CancellationToken ct);

    /// <summary>Notices, newest first; of one run where it is given, and behind a notice where that is.</summary>
    Task<IReadOnlyList<StoredNotice>> NoticesAsync(int limit, string? run, string? after, CancellationToken ct);
}

/// <summary>Documents and plans; nothing is overwritten.</summary>
public interface IDocumentStore
{
    /// <summary>Saves several documents, all or none, each as the next revision of its kind and identifier where it
    /// differs from the last.</summary>
    Task<IReadOnlyList<StoredDocument>> SaveAsync(IReadOnlyList<StoredDocument> documents, CancellationToken ct);

    /// <summary>Keeps a document as the next revision after a known one, if that still is the last; false where another
    /// came first, of whichever instance.</summary>
    /// <param name="revision">The last revision that the document was made from; 0 where there was none.</param>
    Task<bool> SaveAfterAsync(StoredDocument document, long revision, CancellationToken ct);

    /// <exception cref="DamagedRecordException">It is not what was written, or was taken away.</exception>
    Task<StoredDocument?> FindAsync(string kind, string id, CancellationToken ct);

    /// <summary>The number of the last revision, whatever became of it; 0 where there never was one.</summary>
    Task<long> RevisionAsync(string kind, string id, CancellationToken ct);

    Task<StoredDocument?> FindAsync(string kind, string id, long revision, CancellationToken ct);

    /// <summary>What is known of a document's revisions, newest first, without what they say.</summary>
    Task<IReadOnlyList<DocumentRevision>> RevisionsAsync(string kind, string id, int limit, CancellationToken ct);

    /// <summary>The last revision of every document of a kind; those that are damaged say so.</summary>
    Task<IReadOnlyList<StoredDocument>> LatestAsync(string kind, CancellationToken ct);

    Task SavePlanAsync(StoredPlan plan, CancellationToken ct);

    /// <summary>Plans whose digest begins so, two at most.</summary>
    Task<IReadOnlyList<StoredPlan>> PlansLikeAsync(string beginning, CancellationToken ct);

    Task<StoredPlan?> FindPlanAsync(string digest, CancellationToken ct);

    /// <summary>Plans, newest first; those behind the one with the digest <paramref name="after"/> where that is
    /// given.</summary>
    /// <param name="made">Only those made from one moment on and before another; all where left out.</param>
    Task<IReadOnlyList<StoredPlan>> PlansAsync(
        int limit,
        string? after,
        CancellationToken ct,
        (DateTimeOffset? Since, DateTimeOffset? Before) made = default
    );

    /// <summary>A value kept for this installation, made once by <paramref name="make"/>.</summary>
    Task<string> SettingAsync(string name, Func<string> make, CancellationToken ct);

    /// <summary>The answer given to a request under an idempotency key, or null.</summary>
    Task<(string Request, string Body)?> FindAnswerAsync(string key, CancellationToken ct);

    Task SaveAnswerAsync(string key, string request, string body, DateTimeOffset at, CancellationToken ct);
}
