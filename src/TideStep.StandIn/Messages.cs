namespace TideStep.StandIn;

/// <summary>Asks a node to carry out one action under an attempt record.</summary>
/// <param name="Installation">The Tide Step installation that asks; records are kept apart by it.</param>
/// <param name="StartBy">The last moment to begin, seconds since 1970; later it is refused.</param>
/// <param name="Verb">start, stop, restart-service, restart-node, install, send, command, capture, capture-by,
/// check-point or discard-point.</param>
public sealed record AttemptRequest(
    string Installation,
    string Attempt,
    long Epoch,
    long Sequence,
    long StartBy,
    string Component,
    string Verb,
    IReadOnlyList<string> Arguments
);

/// <summary>Stops the command of an attempt that still runs.</summary>
public sealed record StopRequest(string Installation, long Epoch);

/// <summary>Raises the lowest epoch that a node still obeys.</summary>
public sealed record FenceRequest(string Installation, long Epoch, long Sequence);

/// <summary>The fence as it stands: the highest epoch and journal position seen.</summary>
public sealed record FenceState(long Epoch, long Sequence);

/// <summary>What is known of an attempt: running, ended, torn (a record that can't be read) or unknown.</summary>
public sealed record AttemptStatus(string State, int? ExitCode, string Output, long Boot);

/// <summary>Switches a fault on.</summary>
/// <param name="Verb">The action it strikes, or * for all.</param>
/// <param name="Kind">fail-once, fail-always, hang, lose-contact, late, wrong-version, disk-full, bad-checksum, reverts
/// (a restarted node boots its other slot), record-torn or record-missing.</param>
/// <param name="Seconds">How long contact is lost or how much later it comes back; for ever where 0.</param>
public sealed record FaultRequest(string Node, string Verb, string Kind, double Seconds = 0);

/// <summary>Changes what a member tells of one reading from now on, such as <c>free("/data")</c> after a disk was
/// grown.</summary>
public sealed record ReadingChange(string Component, string Name, string Value);

/// <summary>One thing that was done to a node, in the fleet's own record.</summary>
public sealed record Deed(
    long Number,
    DateTimeOffset At,
    string Node,
    string Component,
    string Verb,
    string Arguments,
    string Attempt,
    string What
);

/// <summary>A member as the far side itself tells it.</summary>
public sealed record MemberReport(
    string Component,
    string Product,
    string? Running,
    string? Installed,
    string? Staged,
    string? Role,
    bool Serving,
    IReadOnlyDictionary<string, string> Values
);

/// <summary>A node as it tells itself.</summary>
public sealed record NodeReport(string Node, long Boot, double FreeBytes, IReadOnlyList<MemberReport> Members);

/// <summary>A file that lies ready on a node.</summary>
public sealed record StagedRequest(long Bytes, string Sha256);

/// <summary>The state of a member as a node captured it.</summary>
public sealed record CapturedState(string Component, string? Version, string? DataVersion, string Sha256, long Bytes);
