using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Engine.Tests;

/// <summary>Far sides in memory with attempt records and a fence as real ones keep them, and a record of its own of all
/// that was done.</summary>
internal sealed class FarSide : IConnector
{
    private sealed class Node
    {
        public long Epoch,
            Position;
        public readonly Dictionary<string, (AttemptPhase Phase, int Code, string Output)> Attempts = [];
        public readonly Dictionary<string, string> Running = [];
        public readonly HashSet<string> Stopped = [],
            Measures = [];
    }

    private readonly Dictionary<string, Node> _nodes = [];
    private readonly Lock _gate = new();

    public string By => "stand-in";

    /// <summary>What was carried out, in order: node, verb and first argument.</summary>
    public List<string> Deeds { get; } = [];

    /// <summary>The same with all arguments of commands.</summary>
    public List<string> Whole { get; } = [];

    /// <summary>The fields that were asked for, by node.</summary>
    public System.Collections.Concurrent.ConcurrentBag<(string Node, string Field)> Asked { get; } = [];

    /// <summary>What a call does besides: may throw to break it off. Given the call's name (raise, begin, begun,
    /// status, read), the node and the verb.</summary>
    public Func<string, string, string, Task> Around { get; set; } = (_, _, _) => Task.CompletedTask;

    /// <summary>The exit status of an action; 0 unless a test says otherwise. Null hangs.</summary>
    public Func<string, FarAction, int?> Outcome { get; set; } = (_, _) => 0;

    /// <summary>What an action prints.</summary>
    public Func<string, FarAction, string> Prints { get; set; } = (_, _) => "";

    /// <summary>What an action that still runs has printed so far.</summary>
    public Func<string> Running { get; set; } = () => "";

    /// <summary>Whether a command ends when it is stopped.</summary>
    public bool HeedsStop { get; set; } = true;

    /// <summary>The highest number of members that were stopped at one time.</summary>
    public int MostStopped { get; private set; }

    public IEnumerable<string> Measures
    {
        get
        {
            lock (_gate)
                return [.. _nodes.SelectMany(n => n.Value.Measures.Select(m => $"{n.Key} {m}"))];
        }
    }

    public int Stopped
    {
        get
        {
            lock (_gate)
                return _nodes.Values.Sum(n => n.Stopped.Count);
        }
    }

    public void SetRunning(string node, string component, string version)
    {
        lock (_gate)
            Of(node).Running[component] = version;
    }

    public string RunningOf(string node, string component)
    {
        lock (_gate)
            return Of(node).Running[component];
    }

    public void SetPosition(string node, long position)
    {
        lock (_gate)
            Of(node).Position = position;
    }

    /// <summary>Ends an attempt that hangs.</summary>
    public void EndHanging(int code)
    {
        lock (_gate)
            foreach (var node in _nodes.Values)
            foreach (var (id, _) in node.Attempts.Where(a => a.Value.Phase == AttemptPhase.Running).ToList())
                node.Attempts[id] = (AttemptPhase.Ended, code, "late");
    }

    /// <summary>Tears every attempt record of a node.</summary>
    public void Forget(string node)
    {
        lock (_gate)
            foreach (var id in Of(node).Attempts.Keys.ToList())
                Of(node).Attempts[id] = (AttemptPhase.Torn, 0, "");
    }

    private Node Of(string id) => _nodes.TryGetValue(id, out var node) ? node : _nodes[id] = new Node();

    public static ConnectorException Away(string node) => new(new Problem($"{node} does not answer"), lasting: false);

    public async Task<FenceReading> RaiseAsync(
        EstateNode node,
        string installation,
        long epoch,
        long position,
        CancellationToken ct
    )
    {
        await Around("raise", node.Id, "");
        lock (_gate)
        {
            var its = Of(node.Id);
            var seen = new FenceReading(its.Epoch, its.Position);
            if (epoch >= its.Epoch)
                (its.Epoch, its.Position) = (epoch, Math.Max(position, its.Position));
            return seen;
        }
    }

    public async Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct)
    {
        await Around("begin", node.Id, attempt.Action.Verb);
        lock (_gate)
        {
            var its = Of(node.Id);
            if (attempt.Epoch < its.Epoch)
                return new Begun($"epoch {attempt.Epoch} is below {its.Epoch}", null);
            if (its.Attempts.ContainsKey(attempt.Id))
                return new Begun("the attempt is known already", null);
            (its.Epoch, its.Position) = (attempt.Epoch, Math.Max(its.Position, attempt.Position));
            var code = Outcome(node.Id, attempt.Action);
            its.Attempts[attempt.Id] = code is { } ended
                ? (AttemptPhase.Ended, ended, Output(node.Id, attempt))
                : (AttemptPhase.Running, 0, "");
            if (code == 0)
                Carry(node.Id, its, attempt);
        }
        await Around("begun", node.Id, attempt.Action.Verb);
        return Begun.Unread;
    }

    private string Output(string node, FencedAttempt attempt) =>
        attempt.Action.Verb == "capture"
            ? $"{{\"place\":\"/points/{node}\",\"bytes\":10,\"sha256\":\"ab\",\"entries\":1}}"
            : Prints(node, attempt.Action);

    private void Carry(string id, Node node, FencedAttempt attempt)
    {
        var first = attempt.Action.Arguments.FirstOrDefault() ?? "";
        if (attempt.Action.Verb != "check-point")
        {
            Deeds.Add($"{id} {attempt.Action.Verb} {first}");
            Whole.Add(
                $"{id} {attempt.Action.Verb} {string.Join(' ', attempt.Action.Arguments.Take(first == "x" ? 1 : 9))}"
            );
        }
        switch (attempt.Action.Verb)
        {
            case "stop":
                node.Stopped.Add(attempt.Component);
                break;
            case "start":
                node.Stopped.Remove(attempt.Component);
                break;
            case "install":
                node.Running[attempt.Component] = attempt.Action.Arguments[1];
                break;
            case "command" when first == "quiet":
                node.Measures.Add(string.Join(' ', attempt.Action.Arguments));
                break;
            case "command" when first == "loud":
                node.Measures.Remove(string.Join(' ', attempt.Action.Arguments.Skip(1).Prepend("quiet")));
                break;
        }
        MostStopped = Math.Max(MostStopped, _nodes.Values.Sum(n => n.Stopped.Count));
    }

    public async Task<AttemptReading> StatusAsync(
        EstateNode node,
        string installation,
        string attempt,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        await Around("status", node.Id, "");
        lock (_gate)
            return Of(node.Id).Attempts.TryGetValue(attempt, out var known)
                ? new AttemptReading(
                    known.Phase,
                    known.Phase == AttemptPhase.Ended ? known.Code : null,
                    known.Phase == AttemptPhase.Running ? Running() : known.Output
                )
                : new AttemptReading(AttemptPhase.Unknown, null, "");
    }

    public async Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct)
    {
        await Around("stop-attempt", node.Id, "");
        lock (_gate)
        {
            var its = Of(node.Id);
            if (its.Attempts.TryGetValue(attempt, out var known) && known.Phase == AttemptPhase.Running && HeedsStop)
                its.Attempts[attempt] = (AttemptPhase.Ended, 143, "stopped");
        }
    }

    /// <summary>What is installed, by <c>node component</c>, where that is not what runs.</summary>
    public Dictionary<string, string> Installed { get; } = [];

    /// <summary>What nodes tell besides their versions.</summary>
    public System.Collections.Concurrent.ConcurrentDictionary<(string Node, string Reading), Value> Told { get; } =
        new();

    public async Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        await Around("read", node.Id, "");
        foreach (var reference in wanted)
            if (product.Readings.GetValueOrDefault(reference.Key)?.Field is { } field)
                Asked.Add((node.Id, field));
        lock (_gate)
        {
            var its = Of(node.Id);
            var found = new Dictionary<Reference, Value>();
            foreach (var reference in wanted)
                if (
                    reference.Key is "running" or "installed"
                    && its.Running.TryGetValue(member.Component, out var version)
                    && !its.Stopped.Contains(member.Component)
                )
                    found[reference] = Value.Of(
                        product.Scheme.TryParse(
                            reference.Key == "installed"
                                ? Installed.GetValueOrDefault($"{node.Id} {member.Component}", version)
                                : version
                        )!
                    );
                else if (Told.TryGetValue((node.Id, reference.Key), out var told))
                    found[reference] = told;
            return Taken.Nothing with { Values = found };
        }
    }
}
