using System.Security.Cryptography;
using System.Text;
using System.Text.Json;

namespace TideStep.StandIn;

/// <summary>A simulated node: its members, its disk, its attempt records and its faults. All calls pass one lock, like
/// a node's own.</summary>
internal sealed class SimulatedNode(string id, FleetClock clock, FleetRecord record)
{
    private sealed class AttemptRecord
    {
        public required string State { get; set; }
        public int? ExitCode { get; set; }
        public string Output { get; set; } = "";
        public long Boot { get; init; }
    }

    private readonly Lock _gate = new();
    private readonly Dictionary<string, SimulatedMember> _members = [];
    private readonly Dictionary<string, FenceState> _fences = [];
    private readonly Dictionary<(string, string), AttemptRecord> _attempts = [];
    private readonly Dictionary<string, CapturedState> _points = [];
    private readonly Dictionary<string, DateTimeOffset> _completeAt = [];
    private readonly List<FaultRequest> _faults = [];
    private DateTimeOffset _awayUntil = DateTimeOffset.MinValue;
    private DateTimeOffset _busyUntil = DateTimeOffset.MinValue;
    private long _boot = 1;
    private double _freeBytes = 40.0 * 1024 * 1024 * 1024;

    public string Id { get; } = id;

    public void Add(SimulatedMember member) => _members[member.Component] = member;

    /// <summary>Whether the node answers at all now.</summary>
    public bool Answers
    {
        get
        {
            lock (_gate)
                return clock.Now >= _awayUntil;
        }
    }

    public NodeReport Report()
    {
        lock (_gate)
            return new NodeReport(
                Id,
                _boot,
                _freeBytes,
                [.. _members.Values.OrderBy(m => m.Component, StringComparer.Ordinal).Select(m => m.Report(clock.Now))]
            );
    }

    /// <summary>What was captured here, by its place.</summary>
    public IReadOnlyDictionary<string, CapturedState> Captured()
    {
        lock (_gate)
            return new SortedDictionary<string, CapturedState>(_points, StringComparer.Ordinal);
    }

    /// <summary>Holds a state that an earlier fleet captured here.</summary>
    public void Hold(string place, CapturedState state)
    {
        lock (_gate)
            _points[place] = state;
    }

    private readonly SortedDictionary<string, StagedRequest> _laid = new(StringComparer.Ordinal);

    /// <summary>Lays a file ready: it takes room and has no other effect. Why not, where there is none.</summary>
    public string? Lay(string name, StagedRequest file)
    {
        lock (_gate)
        {
            if (_laid.TryGetValue(name, out var known) && known == file)
                return null;
            if (file.Bytes > _freeBytes)
                return $"no room on {Id}: needs {file.Bytes} bytes, has {_freeBytes:0}";
            _freeBytes -= file.Bytes;
            _laid[name] = file;
            return null;
        }
    }

    public IReadOnlyDictionary<string, StagedRequest> Laid()
    {
        lock (_gate)
            return new Dictionary<string, StagedRequest>(_laid);
    }

    public void Fault(FaultRequest fault)
    {
        lock (_gate)
        {
            if (fault is { Kind: "lose-contact", Verb: "*" })
                LoseContact(fault.Seconds);
            else
                _faults.Add(fault);
        }
    }

    private void LoseContact(double seconds) =>
        _awayUntil = seconds <= 0 ? DateTimeOffset.MaxValue : clock.Now + clock.Pace(TimeSpan.FromSeconds(seconds));

    /// <summary>Changes a reading of a member; false where the node has no such member.</summary>
    public bool Set(string component, string name, string value)
    {
        lock (_gate)
        {
            if (!_members.TryGetValue(component, out var member))
                return false;
            member.Set(name, value);
            return true;
        }
    }

    public void ClearFaults()
    {
        lock (_gate)
        {
            _faults.Clear();
            _awayUntil = DateTimeOffset.MinValue;
        }
    }

    public FenceState Raise(FenceRequest request)
    {
        lock (_gate)
        {
            var now = _fences.GetValueOrDefault(request.Installation, new FenceState(0, 0));
            return _fences[request.Installation] =
                new FenceState(Math.Max(now.Epoch, request.Epoch), Math.Max(now.Sequence, request.Sequence))
                    is var raised
                && request.Epoch < now.Epoch
                    ? now
                    : raised;
        }
    }

    public AttemptStatus Status(string installation, string attempt)
    {
        lock (_gate)
        {
            if (Strikes("record-missing", "*", consume: false))
                return new AttemptStatus("unknown", null, "", _boot);
            if (!_attempts.TryGetValue((installation, attempt), out var known))
                return new AttemptStatus("unknown", null, "", _boot);
            if (Strikes("record-torn", "*", consume: false))
                return new AttemptStatus("torn", null, "", _boot);
            // A node that restarted in the middle knows that the attempt began and not how it ended.
            if (known.State == "running" && known.Boot != _boot)
                known.State = "restarted";
            return new AttemptStatus(known.State, known.ExitCode, known.Output, _boot);
        }
    }

    private static readonly HashSet<string> Verbs =
    [
        "stop",
        "start",
        "restart-service",
        "restart-node",
        "install",
        "send",
        "capture",
        "capture-by",
        "check-point",
        "discard-point",
        "command",
    ];

    /// <summary>Begins an attempt, or says why not.</summary>
    public string? Begin(AttemptRequest request)
    {
        lock (_gate)
        {
            var fence = _fences.GetValueOrDefault(request.Installation, new FenceState(0, 0));
            if (request.Epoch < fence.Epoch)
                return $"epoch {request.Epoch} is below {fence.Epoch}, the highest seen here";
            if (_attempts.ContainsKey((request.Installation, request.Attempt)))
                return "the attempt is known already";
            if (clock.Now.ToUnixTimeSeconds() > request.StartBy)
                return "its start-by time has passed";
            if (!Verbs.Contains(request.Verb))
                return $"it does not know how to {request.Verb}";
            _fences[request.Installation] = new FenceState(request.Epoch, Math.Max(fence.Sequence, request.Sequence));
            var attempt = new AttemptRecord { State = "running", Boot = _boot };
            _attempts[(request.Installation, request.Attempt)] = attempt;
            // An installer tells how far it is.
            if (request.Verb == "install")
                attempt.Output = "unpacking\n";
            if (Strikes("hang", request.Verb, consume: true))
            {
                Note(request, "hangs");
                return null;
            }
            if (_faults.FirstOrDefault(f => f.Kind == "lose-contact" && f.Verb == request.Verb) is { } lost)
            {
                _faults.Remove(lost);
                LoseContact(lost.Seconds);
            }
            var takes = clock.TimeOf(request.Verb);
            Note(request, "begun");
            if (request.Verb is not ("check-point" or "discard-point"))
                _busyUntil = clock.Now + takes;
            if (request.Verb == "install")
                _ = clock.After(takes / 2, () =>
                {
                    lock (_gate)
                        if (attempt.State == "running")
                            attempt.Output += "setting up\n";
                });
            _ = clock.After(takes, () => Finish(request, attempt));
            return null;
        }
    }

    /// <summary>Stops an attempt's command where it still runs, or says why not.</summary>
    public string? Stop(string attempt, StopRequest request)
    {
        lock (_gate)
        {
            var fence = _fences.GetValueOrDefault(request.Installation, new FenceState(0, 0));
            if (request.Epoch < fence.Epoch)
                return $"epoch {request.Epoch} is below {fence.Epoch}, the highest seen here";
            if (
                _attempts.TryGetValue((request.Installation, attempt), out var known)
                && known.State == "running"
                && known.Boot == _boot
            )
            {
                (known.ExitCode, known.Output, known.State) = (143, "stopped by request", "ended");
                record.Add(Id, "", "stop-attempt", "", attempt, "done");
            }
            return null;
        }
    }

    private void Finish(AttemptRequest request, AttemptRecord attempt)
    {
        lock (_gate)
        {
            if (attempt.Boot != _boot || attempt.State != "running")
                return;
            var (code, output) =
                Strikes("fail-once", request.Verb, consume: true)
                    ? (1, "the action failed (fault switched on for one time)")
                : Strikes("fail-always", request.Verb, consume: false) ? (1, "the action failed (fault switched on)")
                : Carry(request);
            (attempt.ExitCode, attempt.Output, attempt.State) = (code, attempt.Output + output, "ended");
            Note(request, code == 0 ? "done" : $"failed with {code}");
        }
    }

    private void Note(AttemptRequest request, string what) =>
        record.Add(Id, request.Component, request.Verb, string.Join(' ', request.Arguments), request.Attempt, what);

    private bool Strikes(string kind, string verb, bool consume)
    {
        var at = _faults.FindIndex(f => f.Kind == kind && (f.Verb == "*" || verb == "*" || f.Verb == verb));
        if (at < 0)
            return false;
        if (consume)
            _faults.RemoveAt(at);
        return true;
    }

    private (int Code, string Output) Carry(AttemptRequest request)
    {
        if (!_members.TryGetValue(request.Component, out var member))
            return (127, $"no {request.Component} on {Id}");
        string Argument(int at) => at < request.Arguments.Count ? request.Arguments[at] : "";
        switch (request.Verb)
        {
            case "stop":
                (member.Started, member.Admitted) = (false, false);
                return (0, $"{Argument(0)} stopped");
            case "start" or "restart-service":
                return Start(member, Argument(0));
            case "restart-node":
                RestartNode();
                return (0, "restarting");
            case "install":
                return Install(member, Argument(0), Argument(1));
            case "send":
                return Strikes("bad-checksum", "send", consume: true)
                    ? (4, $"{Argument(0)}: checksum differs")
                    : (0, $"{Argument(0)} is at {Argument(1)}");
            case "capture" or "capture-by":
                return Capture(member, Argument(0));
            case "check-point":
                return _points.TryGetValue(Argument(0), out var point) && point.Sha256 == Argument(1)
                    ? (0, "whole: checksum and listing agree")
                    : (5, $"{Argument(0)} is not there or not whole");
            case "discard-point":
                if (!_points.TryGetValue(Argument(0), out var kept))
                    return (0, $"{Argument(0)} was gone already");
                if (kept.Sha256 != Argument(1))
                    return (6, $"{Argument(0)} is not what was captured, and was left");
                _points.Remove(Argument(0));
                return (0, $"{Argument(0)} is gone");
            default:
                return Command(member, request.Arguments);
        }
    }

    private (int, string) Start(SimulatedMember member, string service)
    {
        if (member.DataVersion is { Length: > 0 } data && member.Installed is { } program && Older(program, data))
            return (6, $"{service}: {program} refuses to start on data of {data}");
        member.Running = Strikes("wrong-version", "start", consume: true) ? member.Running : member.Installed;
        (member.Started, member.Admitted) = (true, true);
        member.DrainedAt = DateTimeOffset.MaxValue;
        member.CaughtUpAt = clock.Now + clock.TimeOf("catch-up");
        return (0, $"{service} started, {member.Running}");
    }

    private void RestartNode()
    {
        _boot++;
        _awayUntil =
            clock.Now
            + clock.TimeOf("restart-node")
            + (Strikes("late", "restart-node", consume: true) ? clock.TimeOf("late") : TimeSpan.Zero);
        var reverts = Strikes("reverts", "restart-node", consume: true);
        foreach (var member in _members.Values)
        {
            // A watchdog of the node's own does not like what it booted, and goes back to the slot that was good.
            if (reverts && member.Staged is not null)
                (member.Installed, member.Staged) = (member.Staged, member.Installed);
            if (member.Started)
            {
                member.Running = member.Installed;
                member.CaughtUpAt = _awayUntil + clock.TimeOf("catch-up");
            }
            member.DrainedAt = DateTimeOffset.MaxValue;
        }
    }

    private (int, string) Install(SimulatedMember member, string package, string version)
    {
        if (Strikes("disk-full", "install", consume: true))
            return (28, $"{package}: no space left on the device");
        if (Strikes("bad-checksum", "install", consume: true))
            return (4, $"{package} {version}: checksum differs");
        if (version.Length == 0)
            return (2, $"{package}: no version named");
        member.Installed = version;
        // A program that is replaced while it runs goes on as it was until it restarts.
        return (0, $"{package} {version} installed");
    }

    private (int, string) Capture(SimulatedMember member, string name)
    {
        if (Strikes("disk-full", "capture", consume: true))
            return (28, "no space left on the device");
        var text = $"{Id}/{member.Component}/{member.Installed}/{member.DataVersion}";
        var sum = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));
        var place = $"/var/backups/{name}";
        _points[place] = new CapturedState(member.Component, member.Installed, member.DataVersion, sum, 1_200_000_000);
        return (
            0,
            JsonSerializer.Serialize(
                new
                {
                    place,
                    bytes = 1_200_000_000L,
                    sha256 = sum,
                    entries = 214,
                }
            )
        );
    }

    private (int, string) Command(SimulatedMember member, IReadOnlyList<string> arguments)
    {
        var (verb, first) = (arguments.Count > 0 ? arguments[0] : "", arguments.Count > 1 ? arguments[1] : "");
        switch (verb)
        {
            case "drain":
                (member.Admitted, member.DrainedAt) = (false, clock.Now + clock.TimeOf("drain"));
                return (0, "no new work is taken; sessions run out");
            case "admit":
                member.Admitted = true;
                return (0, "takes work again");
            case "pool" when first is "in" or "out" && arguments.Count > 2:
                member.Set($"pool.{arguments[2]}", first == "in" ? "yes" : "no");
                return (0, $"{arguments[2]} is {first}");
            case "notice":
                return first is "up" or "down"
                    ? (0, first == "up" ? $"shown to users: {string.Join(' ', arguments.Skip(2))}" : "no longer shown")
                    : (2, "up or down?");
            case "retire":
                (member.Started, member.Admitted) = (false, false);
                return (0, "no longer one of the members");
            case "stage":
                member.Staged = first;
                return (0, $"{first} waits in the other slot");
            case "switch":
                if (member.Staged is null)
                    return (3, "nothing is staged");
                (member.Installed, member.Staged) = (member.Staged, member.Installed);
                return (
                    0,
                    $"{member.Installed} takes effect at the next start; {member.Staged} is kept in the other slot"
                );
            case "convert":
                foreach (var m in _members.Values.Where(m => m.Component == member.Component))
                    m.DataVersion = first;
                return (0, $"data converted to {first}: 1000 objects, 0 failed");
            case "snapshot":
                return Snapshot(member, first, arguments.Count > 2 ? arguments[2] : "");
            case "try-out":
                return _points.ContainsKey(first)
                    ? (
                        0,
                        $"{first} restored into a scratch place and read there: 214 entries; the scratch "
                            + $"place is cleared"
                    )
                    : (5, $"{first} is not there");
            case "bring-back":
                if (!_points.TryGetValue(first, out var point))
                    return (5, $"{first} is not there");
                (member.Installed, member.DataVersion) = (point.Version, point.DataVersion);
                return (0, $"brought back {point.Version} from {first}");
            default:
                return (127, $"{verb}: no such command on this stand-in");
        }
    }

    // What a manager of machines does: it keeps states of its own under a name, each complete only a moment after it
    // was asked for.
    private (int, string) Snapshot(SimulatedMember member, string what, string name)
    {
        if (what == "take")
        {
            if (Strikes("disk-full", "capture", consume: true))
                return (28, "no space left for a snapshot");
            _points[name] = new CapturedState(member.Component, member.Installed, member.DataVersion, "", 800_000_000);
            _completeAt[name] = clock.Now + clock.TimeOf("capture");
            return (0, $"{name} is being taken");
        }
        if (!_points.TryGetValue(name, out var point))
            return (5, $"there is no snapshot {name}");
        if (what == "drop")
            return _points.Remove(name) ? (0, $"{name} is dropped") : (5, $"there is no snapshot {name}");
        return (
            0,
            JsonSerializer.Serialize(
                new
                {
                    name,
                    state = clock.Now >= _completeAt[name] ? "complete" : "creating",
                    bytes = point.Bytes,
                    of = point.Version,
                }
            )
        );
    }

    // Numbers by value, dot by dot: enough for the stand-in's own versions.
    private static bool Older(string a, string b)
    {
        var (x, y) = (a.Split('.'), b.Split('.'));
        for (var i = 0; i < Math.Min(x.Length, y.Length); i++)
            if (int.TryParse(x[i], out var p) && int.TryParse(y[i], out var q) && p != q)
                return p < q;
        return x.Length < y.Length;
    }
}
