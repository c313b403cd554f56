using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>Counts moves out of turn: pairs of moves of the same product, the earlier one at a site with the higher
/// turn (3-planning, criterion 11). Of the moves that were made only their kinds and numbers matter: for each product
/// the highest turn at which it moved.</summary>
internal sealed class MoveTurns(PathProblem problem)
{
    private readonly bool _matter =
        problem.Index.Estate.Sites.Values.Select(s => s.Turn).OfType<int>().Distinct().Count() > 1;
    private readonly Dictionary<string, int> _numbers = [];
    private readonly List<(string Product, int Turn)[]> _kinds = [];

    private int? TurnOf(int component) =>
        problem.Index.Components[component].Site is { } site ? problem.Index.Estate.Sites[site].Turn : null;

    private string ProductOf(int component) => problem.Index.Components[component].Product;

    /// <summary>What was made once a move is made as well.</summary>
    public ImmutableSortedDictionary<int, int> After(ImmutableSortedDictionary<int, int> made, MoveOption move)
    {
        if (!_matter || KindOf(move) is not { } kind)
            return made;
        return made.SetItem(kind, made.GetValueOrDefault(kind) + 1);
    }

    /// <summary>With how many of the moves made a further one is out of turn.</summary>
    public int OutOfTurn(ImmutableSortedDictionary<int, int> made, MoveOption move)
    {
        if (!_matter || made.IsEmpty)
            return 0;
        var count = 0;
        foreach (var (kind, times) in made)
            if (
                move.Jumps.Any(j =>
                    TurnOf(j.Component) is { } turn
                    && _kinds[kind].Any(k => k.Product == ProductOf(j.Component) && k.Turn > turn)
                )
            )
                count += times;
        return count;
    }

    public static bool Same(ImmutableSortedDictionary<int, int> one, ImmutableSortedDictionary<int, int> other) =>
        ReferenceEquals(one, other) || (one.Count == other.Count && one.SequenceEqual(other));

    private int? KindOf(MoveOption move)
    {
        var kind = move
            .Jumps.Where(j => TurnOf(j.Component) is not null)
            .GroupBy(j => ProductOf(j.Component))
            .OrderBy(g => g.Key, StringComparer.Ordinal)
            .Select(g => (g.Key, g.Max(j => TurnOf(j.Component)!.Value)))
            .ToArray();
        if (kind.Length == 0)
            return null;
        var key = string.Join(' ', kind);
        if (_numbers.TryGetValue(key, out var number))
            return number;
        _kinds.Add(kind);
        return _numbers[key] = _kinds.Count - 1;
    }
}
