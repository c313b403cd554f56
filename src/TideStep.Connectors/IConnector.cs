using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors;

/// <summary>What a far side is asked to do: a verb of ours and its arguments. A local file goes along with
/// <c>send</c>.</summary>
/// <param name="Verb">start, stop, restart-service, restart-node, install, send, command, capture, capture-by,
/// check-point or discard-point.</param>
public sealed record FarAction(string Verb, ImmutableArray<string> Arguments, string? LocalFile = null);

/// <summary>One fenced try at an action (4-execution, points 1 to 5).</summary>
/// <param name="Position">The journal position of its intent, in the whole store.</param>
/// <param name="StartWithin">How long after now it may still begin.</param>
public sealed record FencedAttempt(
    string Installation,
    string Id,
    long Epoch,
    long Position,
    TimeSpan StartWithin,
    string Component,
    FarAction Action
);

/// <summary>What a far side knows of an attempt.</summary>
public enum AttemptPhase
{
    Running,
    Ended,
    Restarted,
    Lost,
    Unknown,
    Torn,
}

/// <summary>An attempt as its record tells it; the output is bounded to its last 64 KiB.</summary>
public sealed record AttemptReading(AttemptPhase Phase, int? ExitCode, string Output);

/// <summary>What came of asking for an attempt: why it was refused, or what its record told after a short wait, if the
/// far side tells that with the same answer.</summary>
public sealed record Begun(string? Refused, AttemptReading? Reading)
{
    /// <summary>It began; its record has to be asked for.</summary>
    public static readonly Begun Unread = new(null, null);
}

/// <summary>The highest epoch and journal position that a far side has seen.</summary>
public sealed record FenceReading(long Epoch, long Position);

/// <summary>The readings that were taken of a member, and why the others could not be.</summary>
public sealed record Taken(IReadOnlyDictionary<Reference, Value> Values, IReadOnlyDictionary<Reference, string> Missed)
{
    public static readonly Taken Nothing = new(new Dictionary<Reference, Value>(), new Dictionary<Reference, string>());
}

/// <summary>A node that can't be reached or refuses: what, where, what to do. Thrown by connectors; the engine turns it
/// into a finding or a halt.</summary>
/// <param name="Lasting">Whether waiting does not help: a changed host key, a refused login.</param>
public sealed class ConnectorException(Problem problem, bool lasting, Exception? inner = null)
    : Exception(problem.ToString(), inner)
{
    public Problem Problem { get; } = problem;
    public bool Lasting { get; } = lasting;
}

/// <summary>How Tide Step reaches one kind of thing.</summary>
public interface IConnector
{
    /// <summary>The word by which estates name it: <c>ssh</c>, <c>stand-in</c>, <c>person</c>.</summary>
    string By { get; }

    /// <summary>Whether the far side keeps attempt records and obeys the fence; where not, an open intent is settled by
    /// its probe or by a person.</summary>
    bool KeepsRecords => true;

    /// <summary>Raises the epoch that a node obeys and tells what it had seen. Nothing of an older owner begins there
    /// afterwards.</summary>
    /// <exception cref="ConnectorException">The node can't be reached or refuses.</exception>
    Task<FenceReading> RaiseAsync(
        EstateNode node,
        string installation,
        long epoch,
        long position,
        CancellationToken ct
    );

    /// <summary>Begins an attempt, detached, and waits up to <paramref name="wait"/> for its end where that costs no
    /// further call.</summary>
    /// <exception cref="ConnectorException">The node can't be reached; the attempt may or may not have
    /// begun.</exception>
    Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct);

    /// <summary>Reads an attempt's record, waiting up to <paramref name="wait"/> for its end.</summary>
    Task<AttemptReading> StatusAsync(
        EstateNode node,
        string installation,
        string attempt,
        TimeSpan wait,
        CancellationToken ct
    );

    /// <summary>Stops the command of an attempt that still runs, by request first and by force when it does not heed
    /// that; its end is read from its record. Of an attempt that has ended nothing is touched.</summary>
    /// <exception cref="ConnectorException">The node can't be reached, or has seen a later epoch.</exception>
    Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct);

    /// <summary>Takes readings of a member; one that could not be taken is told with the reason.</summary>
    /// <exception cref="ConnectorException">The node can't be reached or refuses.</exception>
    Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    );
}

/// <summary>A file to be laid ready on nodes.</summary>
public sealed record StagedFile(string Name, string Path, long Bytes, string Sha256);

/// <summary>A connector that can lay files ready on its nodes, without effect there.</summary>
public interface IStager
{
    /// <inheritdoc cref="IConnector.By"/>
    string By { get; }

    /// <summary>Brings a file to the node's staging place: room is looked at first, what lies there already of it is
    /// gone on from, and its checksum is reckoned there.</summary>
    /// <param name="bytesPerSecond">The pace, or 0 for as fast as it goes.</param>
    /// <param name="sent">Told how many bytes lie there.</param>
    /// <exception cref="ConnectorException">There is no room, the line broke, or the checksum differs
    /// there.</exception>
    Task StageAsync(EstateNode node, StagedFile file, long bytesPerSecond, Action<long> sent, CancellationToken ct);
}
