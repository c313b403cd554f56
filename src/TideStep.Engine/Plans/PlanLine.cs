using System.Collections.Concurrent;
using TideStep.Engine.Estates;
using TideStep.Storage;

namespace TideStep.Engine.Plans;

/// <summary>A kept plan in a list.</summary>
public sealed record PlanLine(
    string Digest,
    string Estate,
    string Kind,
    IReadOnlyList<string> Goal,
    TimeSpan Expected,
    int Moves,
    DateTimeOffset Made,
    string By
)
{
    /// <summary>Why nothing can be done with it: what is kept of it is damaged, or newer than this program.</summary>
    public string? SetAside { get; init; }
}

/// <summary>The list of plans. A plan never changes, so that its line is made once.</summary>
public sealed class PlanList(IDocumentStore store)
{
    private const int MostKept = 10_000;

    private readonly ConcurrentDictionary<string, PlanLine> _lines = new();

    /// <summary>Plans, newest first; those behind a plan where its digest is given.</summary>
    /// <param name="made">Only those made from one moment on and before another.</param>
    public async Task<IReadOnlyList<PlanLine>> OfAsync(
        int most,
        string? after,
        (DateTimeOffset? Since, DateTimeOffset? Before) made,
        CancellationToken ct
    )
    {
        var lines = (await store.PlansAsync(most, after, ct, made)).Select(Line).ToList();
        if (_lines.Count > MostKept)
            _lines.Clear();
        return lines;
    }

    private PlanLine Line(StoredPlan stored)
    {
        if (stored.Damaged is null && _lines.TryGetValue(stored.Digest, out var known))
            return known;
        PlanLine Of(IReadOnlyList<string> goal, TimeSpan expected, int moves) =>
            new(stored.Digest, stored.Estate, stored.Kind, goal, expected, moves, stored.At, stored.Author);
        try
        {
            var plan = EstateDesk.Read(stored);
            return _lines[stored.Digest] = Of(plan.Goal, plan.Expected, plan.Moves.Length);
        }
        catch (DamagedRecordException e)
        {
            return Of([], TimeSpan.Zero, 0) with { SetAside = e.Message };
        }
    }
}
