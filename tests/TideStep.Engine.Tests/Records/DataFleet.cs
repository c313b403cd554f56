using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Engine.Tests.Records;

/// <summary>One program on a node: what is installed and runs, the form of its data, and every write that it
/// has.</summary>
internal sealed record ProgramState(
    string Installed,
    string? Running,
    string Form,
    ImmutableSortedSet<int> Writes,
    ImmutableSortedSet<string> Measures
)
{
    /// <summary>The forms that its data had before, the last one last: what is converted back comes back to
    /// these.</summary>
    public ImmutableStack<string> Before { get; init; } = [];

    public ProgramState Convert(string to) => to == Form ? this : this with { Form = to, Before = Before.Push(Form) };

    /// <summary>Back to the last form that a version can read.</summary>
    public ProgramState ConvertBack(string version)
    {
        var its = this;
        while (string.CompareOrdinal(its.Form, version) > 0 && !its.Before.IsEmpty)
            its = its with { Form = its.Before.Peek(), Before = its.Before.Pop() };
        return its;
    }
}

/// <summary>What was carried out with success, in order.</summary>
internal sealed record Deed(string Node, string Attempt, string Verb, string Words);

/// <summary>A far side whose programs have data: whatever serves writes, programs refuse data of a later form, and
/// points hold what was there. It can be copied at any moment, and its record shares nothing with the
/// journal.</summary>
internal sealed class DataFleet : IConnector
{
    private sealed record Attempt(int Code, string Output);

    private readonly Lock _gate = new();
    private ImmutableDictionary<string, ProgramState> _programs = ImmutableDictionary<string, ProgramState>.Empty;
    private ImmutableDictionary<string, ImmutableDictionary<string, ProgramState>> _points = ImmutableDictionary<
        string,
        ImmutableDictionary<string, ProgramState>
    >.Empty;
    private readonly Dictionary<(string Node, string Id), Attempt> _attempts = [];
    private readonly Dictionary<string, long> _epochs = [];
    private int _writes;

    public string By => "stand-in";

    public List<Deed> Deeds { get; } = [];

    /// <summary>The status with which an action ends before it does anything; null where it does what it
    /// should.</summary>
    public Func<string, FarAction, int?> Fails { get; set; } = (_, _) => null;

    /// <summary>Whether a call does not get through.</summary>
    public Func<string, bool> IsAway { get; set; } = _ => false;

    /// <summary>Every program, by <c>component/node</c>.</summary>
    public ImmutableDictionary<string, ProgramState> Programs
    {
        get
        {
            lock (_gate)
                return _programs;
        }
    }

    public void Add(string member, string version)
    {
        lock (_gate)
            _programs = _programs.Add(member, new ProgramState(version, version, version, [0], []));
    }

    /// <summary>The same as it stands now, without faults and with a record of its own.</summary>
    public DataFleet Copy()
    {
        lock (_gate)
            return new DataFleet
            {
                _programs = _programs,
                _points = _points,
                _writes = _writes,
            };
    }

    private void Reach(string node)
    {
        if (IsAway(node))
            throw new ConnectorException(new Problem($"{node} does not answer"), lasting: false);
    }

    public Task<FenceReading> RaiseAsync(
        EstateNode node,
        string installation,
        long epoch,
        long position,
        CancellationToken ct
    )
    {
        Reach(node.Id);
        lock (_gate)
        {
            var seen = _epochs.GetValueOrDefault(node.Id);
            _epochs[node.Id] = Math.Max(seen, epoch);
            return Task.FromResult(new FenceReading(seen, 0));
        }
    }

    public Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct)
    {
        Reach(node.Id);
        lock (_gate)
        {
            if (attempt.Epoch < _epochs.GetValueOrDefault(node.Id))
                return Task.FromResult(new Begun("its epoch is past", null));
            if (_attempts.ContainsKey((node.Id, attempt.Id)))
                return Task.FromResult(new Begun("the attempt is known already", null));
            var done = Fails(node.Id, attempt.Action) is { } code
                ? new Attempt(code, "it failed")
                : Carry($"{attempt.Component}/{node.Id}", attempt);
            _attempts[(node.Id, attempt.Id)] = done;
            if (done.Code == 0)
                Deeds.Add(
                    new Deed(node.Id, attempt.Id, attempt.Action.Verb, string.Join(' ', attempt.Action.Arguments))
                );
        }
        // The answer may be lost where the effect was not.
        Reach(node.Id);
        return Task.FromResult(Begun.Unread);
    }

    private Attempt Carry(string member, FencedAttempt attempt)
    {
        var (its, words) = (_programs[member], attempt.Action.Arguments);
        // Whatever serves meanwhile writes.
        _writes++;
        _programs = _programs.ToImmutableDictionary(
            p => p.Key,
            p =>
                p.Value.Running is null || p.Key == member
                    ? p.Value
                    : p.Value with
                    {
                        Writes = p.Value.Writes.Add(_writes),
                    }
        );
        switch (attempt.Action.Verb)
        {
            case "stop":
                return Set(its with { Running = null });
            case "start" when string.CompareOrdinal(its.Installed, its.Form) < 0:
                return new Attempt(6, $"{its.Installed} refuses data of {its.Form}");
            case "start":
                return Set(its with { Running = its.Installed, Writes = its.Writes.Add(_writes) });
            case "install":
                return Set(its with { Installed = words[1] });
            case "capture":
                var place = $"/points/{attempt.Id}";
                var all = words.Contains("all");
                _points = _points.SetItem(
                    place,
                    _programs.Where(p => p.Key == member || (all && Of(p.Key) == Of(member))).ToImmutableDictionary()
                );
                return new Attempt(0, $"{{\"place\":\"{place}\",\"bytes\":10,\"sha256\":\"ab\",\"entries\":1}}");
            case "check-point":
                return new Attempt(_points.ContainsKey(words[0]) ? 0 : 5, "");
            default:
                return Command(its, words);
        }

        Attempt Set(ProgramState now)
        {
            _programs = _programs.SetItem(member, now);
            return new Attempt(0, "");
        }

        static string Of(string member) => member[..member.IndexOf('/')];

        Attempt Bring(ImmutableDictionary<string, ProgramState> saved)
        {
            _programs = _programs.SetItems(
                saved.Select(p =>
                    KeyValuePair.Create(
                        p.Key,
                        _programs[p.Key] with
                        {
                            Installed = p.Value.Installed,
                            Form = p.Value.Form,
                            Before = p.Value.Before,
                            Writes = p.Value.Writes,
                        }
                    )
                )
            );
            return new Attempt(0, "");
        }

        Attempt Command(ProgramState its, ImmutableArray<string> words) =>
            words[0] switch
            {
                "quiet" => its.Measures.Contains(words[1])
                    ? new Attempt(8, "is quiet already")
                    : Set(its with { Measures = its.Measures.Add(words[1]) }),
                "loud" => Set(its with { Measures = its.Measures.Remove(words[1]) }),
                "convert" => Set(its.Convert(words[1])),
                "convert-back" => Set(its.ConvertBack(words[1])),
                "bring-back" when _points.TryGetValue(words[1], out var saved) => Bring(saved),
                "bring-back" => new Attempt(5, $"{words[1]} is not there"),
                _ => new Attempt(0, ""),
            };
    }

    public Task<AttemptReading> StatusAsync(
        EstateNode node,
        string installation,
        string attempt,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        Reach(node.Id);
        lock (_gate)
            return Task.FromResult(
                _attempts.TryGetValue((node.Id, attempt), out var known)
                    ? new AttemptReading(AttemptPhase.Ended, known.Code, known.Output)
                    : new AttemptReading(AttemptPhase.Unknown, null, "")
            );
    }

    public Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct) =>
        Task.CompletedTask;

    public Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        Reach(node.Id);
        var its = Programs[member.Id];
        Value? Of(string key) =>
            key switch
            {
                "running" when its.Running is { } runs => Value.Of(product.Scheme.TryParse(runs)!),
                "installed" => Value.Of(product.Scheme.TryParse(its.Installed)!),
                _ => null,
            };
        return Task.FromResult(
            Taken.Nothing with
            {
                Values = wanted
                    .Select(w => (Reference: w, Value: Of(w.Key)))
                    .Where(v => v.Value is not null)
                    .ToDictionary(v => v.Reference, v => v.Value!),
            }
        );
    }
}
