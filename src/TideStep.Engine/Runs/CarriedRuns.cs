using System.Collections.Concurrent;
using System.Collections.Immutable;

namespace TideStep.Engine.Runs;

/// <summary>The runs that this service carries, each by whoever carries it.</summary>
public sealed class CarriedRuns
{
    private readonly ConcurrentDictionary<string, RunExecutor> _executors = new();

    /// <summary>The components that runs at work have reserved, by the run; those of one run aside.</summary>
    public ImmutableDictionary<string, string> Reserved(string? but) =>
        _executors
            .Where(e => e.Key != but)
            .SelectMany(e =>
                e.Value.Log.Look(s => s.StartedAt is not null && s.End is null ? s.Plan.Components.ToList() : [])
                    .Select(c => (Component: c, Run: e.Key))
            )
            .DistinctBy(r => r.Component)
            .ToImmutableDictionary(r => r.Component, r => r.Run);

    /// <summary>The executor of a run that this service carries, or null.</summary>
    public RunExecutor? Find(string run) => _executors.GetValueOrDefault(run);

    /// <summary>All of them, as they are now.</summary>
    internal IReadOnlyCollection<KeyValuePair<string, RunExecutor>> All => _executors.ToArray();

    /// <summary>Carries a run by an executor, in place of the one before.</summary>
    internal void Carry(string run, RunExecutor executor) => _executors[run] = executor;

    /// <summary>Carries a run no longer, whoever did.</summary>
    internal void Drop(string run) => _executors.TryRemove(run, out _);

    /// <summary>Carries a run no longer, where this executor still did.</summary>
    internal void LetGo(string run, RunExecutor executor) => _executors.TryRemove(KeyValuePair.Create(run, executor));
}
