namespace TideStep.Storage;

/// <summary>Something about who may come in: a person, a program's token or a session.</summary>
/// <param name="Kind">Which of them.</param>
/// <param name="Id">Its identifier; of tokens and sessions the hash of what their holder shows.</param>
/// <param name="Revision">How often it was written; the first time it is 1.</param>
/// <param name="Body">What it is, in JSON.</param>
public sealed record StoredAccess(string Kind, string Id, long Revision, string Body)
{
    /// <summary>Whether it is not what was written: nobody comes in by it, and all others do.</summary>
    public bool Damaged { get; init; }
}

/// <summary>A line of the record.</summary>
/// <param name="Number">Its number, without gaps; 0 before it is written.</param>
/// <param name="Who">The identifier of who acted, empty where nobody knows.</param>
/// <param name="About">What it was about, as <c>runs/r1</c>.</param>
/// <param name="Body">All of it, in JSON.</param>
public sealed record StoredRecordLine(long Number, DateTimeOffset At, string Who, string About, string Body)
{
    /// <summary>Whether it stands for all lines up to it, which were taken away.</summary>
    public bool Summary { get; init; }

    /// <summary>What is wrong with it, where it is not what was written or does not follow the line before.</summary>
    public string? Damaged { get; init; }
}

/// <summary>Who may come in, and what everybody did.</summary>
public interface IAccessStore
{
    /// <summary>All of a kind, by identifier; those that are damaged say so.</summary>
    Task<IReadOnlyList<StoredAccess>> AccessAsync(string kind, CancellationToken ct);

    /// <exception cref="DamagedRecordException">The row is not what was written.</exception>
    Task<StoredAccess?> FindAccessAsync(string kind, string id, CancellationToken ct);

    /// <summary>Keeps a row whose revision follows the one that is kept.</summary>
    /// <returns>Whether it did; else somebody else wrote it in between.</returns>
    Task<bool> SaveAccessAsync(StoredAccess row, CancellationToken ct);

    Task ForgetAccessAsync(string kind, string id, CancellationToken ct);

    /// <summary>Appends a line to the record, behind all others.</summary>
    /// <returns>Its number.</returns>
    Task<long> AppendRecordAsync(StoredRecordLine line, CancellationToken ct);

    /// <summary>Lines of the record, newest first.</summary>
    /// <param name="who">Only of this identifier; of everybody where null.</param>
    /// <param name="about">Only about this; about everything where null.</param>
    /// <param name="since">Only from then on.</param>
    /// <param name="before">Only with a lower number.</param>
    Task<IReadOnlyList<StoredRecordLine>> RecordAsync(
        string? who,
        string? about,
        DateTimeOffset? since,
        long? before,
        int limit,
        CancellationToken ct
    );

    /// <summary>Lines behind a number, oldest first, each compared with its seal and with the line before it.</summary>
    Task<IReadOnlyList<StoredRecordLine>> RecordAfterAsync(long after, int limit, CancellationToken ct);

    /// <summary>Takes away old lines, the oldest first; a line that tells how many they were and from when to when
    /// stands in their place, and the chain goes on from it.</summary>
    /// <returns>How many went.</returns>
    Task<int> ForgetRecordAsync(DateTimeOffset before, int most, CancellationToken ct);
}
