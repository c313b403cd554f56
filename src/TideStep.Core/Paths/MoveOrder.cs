using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>Puts given jumps into their best order: each state between must be allowed, and criteria 8, 9, 11 and 12
/// are least.
/// What a move adds to these depends on the state that it starts from alone, so the best rest of the way from each
/// state is found once and kept (dynamic programming).</summary>
internal sealed class MoveOrder
{
    private readonly record struct Rest(long After, long Transitional, long Turn, int Next)
    {
        public bool Before(Rest other) =>
            (After, Transitional, Turn).CompareTo((other.After, other.Transitional, other.Turn)) < 0;
    }

    private static readonly Rest NoWay = new(0, 0, 0, -2);

    private readonly PathProblem _problem;
    private readonly int[] _components;
    private readonly ImmutableArray<Option>[] _chains;
    private readonly UInt128[] _radix;
    private readonly Dictionary<UInt128, Rest> _known = [];
    private readonly int[] _state;
    private readonly int[] _at;
    private readonly int[] _byText;
    private readonly List<int> _changing = [];
    private readonly bool _fits;
    private readonly int _most;

    public MoveOrder(PathProblem problem, ImmutableSortedDictionary<int, ImmutableArray<Option>> chains, int most)
    {
        (_problem, _most) = (problem, most);
        _components = [.. chains.Keys];
        _chains = [.. chains.Values];
        _state = problem.Today.ToArray();
        _at = new int[_components.Length];
        // Two moves of different components are told apart before their versions are: by the id and the sign after it.
        _byText =
        [
            .. Enumerable
                .Range(0, _components.Length)
                .Order(
                    Comparer<int>.Create((x, y) => Versions.VersionPart.CompareCodePoints(Id(x) + "@", Id(y) + "@"))
                ),
        ];
        string Id(int i) => problem.Index.Components[_components[i]].Id;
        _radix = new UInt128[_components.Length];
        var size = UInt128.One;
        _fits = true;
        for (var i = 0; i < _components.Length; i++)
        {
            _radix[i] = size;
            if (size > UInt128.MaxValue / (UInt128)(_chains[i].Length + 1))
            {
                _fits = false;
                break;
            }
            size *= (UInt128)(_chains[i].Length + 1);
        }
        _turns =
        [
            .. _components.Select(c =>
                problem.Index.Components[c].Site is { } site ? problem.Index.Estate.Sites[site].Turn : null
            ),
        ];
        _turnsMatter = _turns.OfType<int>().Distinct().Count() > 1;
        // Only pairs that touch a moving component change; the others hold a transitional verdict always or never.
        _changing = [.. _components.SelectMany(c => problem.PairsOf[c]).Distinct()];
        _standing = Enumerable
            .Range(0, problem.Index.Pairs.Length)
            .Except(_changing)
            .Any(p => problem.Meets(p, _state) && problem.Judge(p, _state).Transitional);
    }

    private readonly bool _standing;
    private readonly int?[] _turns;
    private readonly bool _turnsMatter;
    private int _closed;

    public int Looked { get; private set; }
    public bool CutOff { get; private set; }

    /// <summary>Whether the order is known to be the best one.</summary>
    public bool Proved { get; private set; } = true;

    /// <summary>Components that take part in blocking a jump somewhere: what is blocked and what blocks it. No other
    /// could open the way.</summary>
    public SortedSet<int> Blocking { get; } = [];

    public long AfterClosing { get; private set; }
    public long Transitional { get; private set; }
    public long OutOfTurn { get; private set; }

    /// <summary>The moves in their best order, or null where no order is allowed.</summary>
    public List<MoveOption>? Best()
    {
        if (_chains.Length == 0)
            return [];
        if (!_fits)
        {
            CutOff = true;
            return null;
        }
        var whole = Value(0);
        if (CutOff)
            return Greedy();
        if (whole == NoWay)
            return null;
        (AfterClosing, Transitional, OutOfTurn) = (whole.After, whole.Transitional, whole.Turn);
        var moves = new List<MoveOption>();
        UInt128 key = 0;
        for (var rest = whole; rest.Next >= 0; rest = _known.GetValueOrDefault(key))
        {
            moves.Add(_chains[rest.Next][_at[rest.Next]].AsMove);
            Step(rest.Next, +1);
            key += _radix[rest.Next];
            if (moves.Count == _chains.Sum(c => c.Length))
                break;
        }
        Reset();
        return moves;
    }

    private void Reset()
    {
        _closed = 0;
        for (var i = 0; i < _at.Length; i++)
            (_at[i], _state[_components[i]]) = (0, _problem.Today[_components[i]]);
    }

    private void Step(int i, int by)
    {
        if (_chains[i][by > 0 ? _at[i] : _at[i] - 1].Closes)
            _closed += by;
        _at[i] += by;
        _state[_components[i]] = _at[i] == 0 ? _problem.Today[_components[i]] : _chains[i][_at[i] - 1].To;
    }

    private Rest Value(UInt128 key)
    {
        if (_known.TryGetValue(key, out var known))
            return known;
        if (CutOff || ++Looked > _most || !_problem.Request.Goes)
        {
            CutOff = true;
            return NoWay;
        }
        var (best, left) = (NoWay, false);
        var closed = _closed > 0;
        foreach (var i in _byText)
        {
            if (_at[i] == _chains[i].Length)
                continue;
            left = true;
            if (!MayGo(i))
                continue;
            var turn = EarlierOutOfTurn(i);
            Step(i, +1);
            var transitional = HoldsTransitional();
            var rest = Value(key + _radix[i]);
            Step(i, -1);
            if (rest == NoWay)
                continue;
            var mine = new Rest(
                rest.After + (closed ? 1 : 0),
                rest.Transitional + (transitional ? 1 : 0),
                rest.Turn + turn,
                i
            );
            if (best == NoWay || mine.Before(best))
                best = mine;
        }
        return _known[key] = left ? best : new Rest(0, 0, 0, -1);
    }

    // Whether the next jump of a chain is allowed now; who stands in its way is noted.
    private bool MayGo(int i)
    {
        var option = _chains[i][_at[i]];
        var may = true;
        foreach (var demands in (ReadOnlySpan<List<Demand>>)[option.Requires, option.Together])
        foreach (var (other, allowed) in demands)
            if (_state[other] >= 0 && !allowed[_state[other]])
            {
                may = false;
                Note(i, other);
            }
        Step(i, +1);
        foreach (var pair in _problem.PairsOf[_components[i]])
            if (!_problem.MayStand(pair, _state))
            {
                may = false;
                Note(
                    i,
                    _problem.Index.Pairs[pair].A == _components[i]
                        ? _problem.Index.Pairs[pair].B
                        : _problem.Index.Pairs[pair].A
                );
            }
        Step(i, -1);
        return may;
    }

    private void Note(int blocked, int by)
    {
        Blocking.Add(_components[blocked]);
        Blocking.Add(by);
    }

    private bool HoldsTransitional()
    {
        if (_standing)
            return true;
        foreach (var pair in _changing)
            if (_problem.Meets(pair, _state) && _problem.Judge(pair, _state).Transitional)
                return true;
        return false;
    }

    private long EarlierOutOfTurn(int i)
    {
        if (!_turnsMatter || _turns[i] is not { } turn)
            return 0;
        long count = 0;
        for (var j = 0; j < _components.Length; j++)
            if (
                _at[j] > 0
                && _turns[j] > turn
                && _problem.Index.Components[_components[j]].Product
                    == _problem.Index.Components[_components[i]].Product
            )
                count += _at[j];
        return count;
    }

    // Too many states to try all: an order that is allowed, closing jumps late, sites in their turn.
    private List<MoveOption>? Greedy()
    {
        Proved = false;
        CutOff = false;
        Reset();
        var (moves, dead) = (new List<int>(), new HashSet<UInt128>());
        UInt128 key = 0;
        var total = _chains.Sum(c => c.Length);
        var left = _most;
        if (!Go())
        {
            CutOff = true;
            Reset();
            return null;
        }
        Reset();
        var made = new List<MoveOption>();
        var closed = false;
        foreach (var i in moves)
        {
            var option = _chains[i][_at[i]];
            if (closed)
                AfterClosing++;
            closed |= option.Closes;
            OutOfTurn += EarlierOutOfTurn(i);
            Step(i, +1);
            if (HoldsTransitional())
                Transitional++;
            made.Add(option.AsMove);
        }
        Reset();
        return made;

        bool Go()
        {
            if (moves.Count == total)
                return true;
            if (left-- <= 0 || !dead.Add(key))
                return false;
            var next = _byText
                .Where(i => _at[i] < _chains[i].Length)
                .OrderBy(i => _chains[i][_at[i]].Closes)
                .ThenBy(Turn)
                .ToList();
            foreach (var i in next)
            {
                if (!MayGo(i))
                    continue;
                Step(i, +1);
                key += _radix[i];
                moves.Add(i);
                if (Go())
                    return true;
                moves.RemoveAt(moves.Count - 1);
                key -= _radix[i];
                Step(i, -1);
            }
            return false;
        }

        int Turn(int i) => _turns[i] ?? 0;
    }
}
