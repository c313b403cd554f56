using System.Collections.Concurrent;
using TideStep.Core.Documents;

namespace TideStep.Connectors;

/// <summary>Calls to far sides that keep no record of them: what this process still knows is all there is. After its
/// end nothing is known, and it is told so.</summary>
internal sealed class CallsUnderWay
{
    private sealed record Call(Task<AttemptReading> Work, CancellationTokenSource Stop);

    private readonly ConcurrentDictionary<string, Call> _calls = new();

    /// <summary>Begins a call under the attempt's name and waits a little for its end.</summary>
    public async Task<Begun> BeginAsync(
        string attempt,
        Func<CancellationToken, Task<AttemptReading>> work,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        var stop = new CancellationTokenSource();
        _calls[attempt] = new Call(Task.Run(() => work(stop.Token), CancellationToken.None), stop);
        return new Begun(null, await StatusAsync(attempt, wait, ct));
    }

    /// <summary>How a call stands. One that ended is kept and told again: there are few.</summary>
    public async Task<AttemptReading> StatusAsync(string attempt, TimeSpan wait, CancellationToken ct)
    {
        if (!_calls.TryGetValue(attempt, out var call))
            return new AttemptReading(AttemptPhase.Unknown, null, "");
        await Task.WhenAny(call.Work, Task.Delay(wait, ct));
        ct.ThrowIfCancellationRequested();
        return call.Work.IsCompleted ? await call.Work : new AttemptReading(AttemptPhase.Running, null, "");
    }

    public void Stop(string attempt)
    {
        if (_calls.TryGetValue(attempt, out var call))
            call.Stop.Cancel();
    }

    /// <summary>The problem of an action that this kind of node has no way to do.</summary>
    public static ConnectorException CanNot(string node, string verb, string by, string can) =>
        new(
            new Problem($"'{verb}' can't be done on {node}, which is reached by {by}", null, $"It can do: {can}."),
            lasting: true
        );
}
