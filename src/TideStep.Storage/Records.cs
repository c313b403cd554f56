using TideStep.Core.Runs;

namespace TideStep.Storage;

/// <summary>A revision of a document, by whom and when; its length in characters.</summary>
public sealed record DocumentRevision(long Revision, string Digest, DateTimeOffset At, string Author, long Length);

/// <summary>One revision of a document; revisions of a kind and identifier count from 1, none is ever lost.</summary>
public sealed record StoredDocument(
    string Kind,
    string Id,
    long Revision,
    string Digest,
    string Body,
    DateTimeOffset At,
    string Author
)
{
    /// <summary>What is wrong with the row, where it is not what was written; only lists give such ones.</summary>
    public string? Damaged { get; init; }
}

/// <summary>A run as lists show it, as it was after one of its entries.</summary>
/// <param name="Sequence">The number of that entry.</param>
/// <param name="Words">What it is found by.</param>
public sealed record StoredRunLine(string Run, long Sequence, string Body, string Words);

/// <summary>What a run left, as it was after one of its entries.</summary>
/// <param name="Sequence">The number of that entry.</param>
/// <param name="Shape">In what shape it is written.</param>
public sealed record StoredRunTrace(string Run, long Sequence, string Shape, string Body);

/// <summary>A run's state after one of its entries.</summary>
/// <param name="Sequence">The number of that entry.</param>
/// <param name="Plan">The digest of the run's plan.</param>
/// <param name="Shape">In what shape it is written.</param>
/// <param name="Body">It, packed.</param>
public sealed record StoredSnapshot(string Run, long Sequence, string Plan, string Shape, string Body);

/// <summary>What is kept of a run when its entries have had their time.</summary>
/// <param name="At">When that was.</param>
/// <param name="Report">The closing report as JSON.</param>
/// <param name="WordsOfReport">The same as Markdown.</param>
/// <param name="Line">The run as lists show it, as JSON.</param>
/// <param name="Words">What it is found by.</param>
/// <param name="Trace">What it left that is asked for over all runs, as JSON; empty where it was archived before that
/// was kept.</param>
public sealed record StoredArchive(
    string Run,
    DateTimeOffset At,
    string Report,
    string WordsOfReport,
    string Line,
    string Words,
    string Trace
);

/// <summary>A frozen plan with who made it and when.</summary>
public sealed record StoredPlan(
    string Digest,
    string Estate,
    string Kind,
    string Body,
    DateTimeOffset At,
    string Author
)
{
    /// <summary>What is wrong with the row, where it is not what was written.</summary>
    public string? Damaged { get; init; }
}

/// <summary>A notice: waiting to be taken, sent, or given up.</summary>
/// <param name="Said">Why the last try failed, or null.</param>
public sealed record StoredNotice(
    string Id,
    string Run,
    string Rule,
    string Moment,
    string Body,
    DateTimeOffset At,
    string State,
    int Attempts,
    DateTimeOffset NextAt,
    string? Said
)
{
    public const string Waiting = "waiting";
    public const string Sent = "sent";
    public const string GivenUp = "given up";
}

/// <summary>A run's row: what finds its journal. <c>Ended</c> repeats the journal's last entry, for lists.</summary>
public sealed record StoredRun(
    string Id,
    string Plan,
    string? Parent,
    DateTimeOffset OpenedAt,
    long Epoch,
    string? Owner,
    string? Ended
)
{
    /// <summary>What is wrong with the row, where it is not what was written.</summary>
    public string? Damaged { get; init; }
}

/// <summary>An append or a claim was refused because another owner has the run, or another entry already has the
/// number.</summary>
public sealed class StaleOwnerException(string message) : Exception(message);

/// <summary>The database can't take what must be kept: the disk is full, the file can't be written, the server is
/// gone.</summary>
public sealed class StoreUnavailableException(string message, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>Whether it is room that is missing.</summary>
    public bool Full { get; init; }
}

/// <summary>What is kept can't be read or is not what was kept: entries or documents that were changed, cut or lost.
/// Nothing else is harmed by it.</summary>
public sealed class DamagedRecordException(string message, Exception? inner = null) : Exception(message, inner);

/// <summary>The entries of a run were taken away when they had had their time; its report is kept.</summary>
public sealed class ArchivedRunException(string run, string at)
    : Exception($"the entries of run {run} were kept till {at}")
{
    public string Run { get; } = run;
}
