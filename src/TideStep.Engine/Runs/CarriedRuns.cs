using System.Collections.Concurrent;
using System.Collections.Immutable;

namespace TideStep.Engine.Runs;

/// <summary>The runs that this service carries, each by whoever carries it.</summary>
public sealed class CarriedRuns
{
    private readonly ConcurrentDictionary<string, RunExecutor> _executors = new();
    private readonly ConcurrentDictionary<string, (RunExecutor By, Exception Why)> _interrupted = new();

    /// <summary>The components that runs at work have reserved, by the run; those of one run aside. One that is
    /// interrupted has its own still.</summary>
    public ImmutableDictionary<string, string> Reserved(string? but) =>
        _executors
            .Concat(_interrupted.Select(e => KeyValuePair.Create(e.Key, e.Value.By)))
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
    internal void Carry(string run, RunExecutor executor)
    {
        _executors[run] = executor;
        _interrupted.TryRemove(run, out _);
    }

    /// <summary>What interrupted a run that this service takes up again as soon as it can; null where nothing
    /// did.</summary>
    public Exception? WhyInterrupted(string run) => _interrupted.TryGetValue(run, out var its) ? its.Why : null;

    /// <summary>Carries a run no longer until it is taken up again; its components stay reserved.</summary>
    internal void Interrupt(string run, RunExecutor executor, Exception why)
    {
        _interrupted[run] = (executor, why);
        LetGo(run, executor);
    }

    /// <summary>Waits no longer for a run that was interrupted: another service has it, or it is gone.</summary>
    internal void Forget(string run) => _interrupted.TryRemove(run, out _);

    /// <summary>Carries a run no longer, whoever did.</summary>
    internal void Drop(string run) => _executors.TryRemove(run, out _);

    /// <summary>Carries a run no longer, where this executor still did.</summary>
    internal void LetGo(string run, RunExecutor executor) => _executors.TryRemove(KeyValuePair.Create(run, executor));
}
