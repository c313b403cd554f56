using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Returns;

namespace TideStep.Core.Plans;

/// <summary>Tells after each block of a plan whether the start can still be reached, with what loss, and how long it
/// takes.
/// Where every component is led back by exactly the versions it came through, each by the way that is best for it
/// alone, the reverse of the plan is a best return path; else the paths are searched.</summary>
internal sealed class ReturnOutlook(EstateIndex index, PathAnswer path, IReadOnlyDictionary<string, string> answers)
{
    /// <summary>Beyond so many components a return path that is no plain reverse is not searched for each
    /// block.</summary>
    private const int MostSearched = 40;

    private readonly Standing _standing = new(index) { Unbound = new ReturnBinding(index, answers).Of };
    private (Estate For, BackFigures Figures) _known = (index.Estate, new BackFigures(index));

    // Of members on other nodes the waves and outages are others.
    private BackFigures Figures =>
        (
            ReferenceEquals(_known.For, _standing.Estate)
                ? _known
                : _known = (_standing.Estate, new BackFigures(_standing.Now()))
        ).Figures;
    private readonly List<(ImmutableSortedDictionary<string, ComponentStanding> Changed, BackFigures Figures)> _after =
    [];
    private readonly List<ImmutableDictionary<string, Versions.Version>> _before = [];
    private readonly Dictionary<string, List<Move>> _moves = [];
    private (ImmutableSortedDictionary<string, ComponentStanding> For, ReturnPath Answer)? _last;
    private bool _joint;

    public void Begin(Move move)
    {
        _before.Add(_standing.Versions);
        _joint |= move.IsJoint;
        foreach (var component in move.Jumps.Select(j => j.Component).Distinct())
            if (_moves.TryGetValue(component, out var known))
                known.Add(move);
            else
                _moves[component] = [move];
    }

    /// <summary>A part with the return path as it stands after it, and with what it makes void.</summary>
    public Block After(Block block)
    {
        _standing.Voided.Clear();
        var answer = Path(block);
        return block with
        {
            Return = answer,
            Voids = [.. _standing.Voided.Distinct().Order(StringComparer.Ordinal)],
            VoidsCaptures =
            [
                .. block
                    .Lanes.SelectMany(l => l.Steps)
                    .Where(s => s.Voids is not null)
                    .SelectMany(s =>
                        s.Voids!.Value.Select(v => CaptureName.Of(v).Product is null ? $"{s.Component}/{v}" : v)
                    )
                    .Distinct()
                    .Order(StringComparer.Ordinal),
            ],
        };
    }

    private ReturnPath Path(Block block)
    {
        foreach (var step in block.Lanes.SelectMany(l => l.Steps))
            _standing.Take(step, block);
        _after.Add((_standing.Changed, Figures));
        if (_standing.Changed.IsEmpty)
            return new ReturnPath(ReturnState.Clean, TimeSpan.Zero, "nothing has been changed");
        if (_last is { } last && ReferenceEquals(last.For, _standing.Changed))
            return last.Answer;
        var answer = Reckon();
        _last = (_standing.Changed, answer);
        return answer;
    }

    // Each component's own way back is reckoned when its standing changes, and the sum is kept.
    private readonly Dictionary<string, (ComponentStanding For, ChainBack? Way, bool Plain)> _ways = [];
    private readonly SortedSet<string> _lossy = new(StringComparer.Ordinal);
    private readonly SortedSet<string> _closed = new(StringComparer.Ordinal);
    private (int Losses, TimeSpan Length, int Winding) _sum;

    private void Update()
    {
        foreach (var id in _standing.Touched)
        {
            if (_ways.Remove(id, out var old))
                Count(id, old, -1);
            if (!_standing.Changed.TryGetValue(id, out var standing))
                continue;
            var way = _before[0].GetValueOrDefault(id) is { } first ? standing.To(first, Figures) : null;
            var now = (standing, way, way is not null && IsPlainReverse(standing, way));
            _ways[id] = now;
            Count(id, now, 1);
        }
        _standing.Touched.Clear();
    }

    private void Count(string id, (ComponentStanding For, ChainBack? Way, bool Plain) its, int sign)
    {
        if (its.Way is null)
        {
            if (sign > 0)
                _closed.Add(id);
            else
                _closed.Remove(id);
            return;
        }
        _sum = (
            _sum.Losses + (sign * its.Way.Losses),
            _sum.Length + (sign * its.Way.Length),
            _sum.Winding + (its.Plain ? 0 : sign)
        );
        if (its.Way.Losses > 0)
        {
            if (sign > 0)
                _lossy.Add(id);
            else
                _lossy.Remove(id);
        }
    }

    private ReturnPath Reckon()
    {
        Update();
        if (_closed.Min is { } closed)
        {
            return new ReturnPath(ReturnState.Closed, TimeSpan.Zero, WhyClosed(closed, _ways[closed].For))
            {
                Partly = Partly(),
            };
        }
        if ((_sum.Winding == 0 && !_joint && !JointCouldHelp()) || _ways.Count > MostSearched)
        {
            // A component that was found mixed and comes to its one version has nothing before it that it could be led
            // back to.
            if (
                (_lossy.Min ?? _standing.Changed.Keys.FirstOrDefault(id => _ways[id].Way!.Jumps.Length > 0))
                is not { } said
            )
                return FoundMixed();
            var jumps = _ways[said].Way!.Jumps;
            return Say(
                _sum.Losses,
                _sum.Length,
                said,
                jumps.FirstOrDefault(j => j.Jump.Closes is not null, jumps[0]).Jump
            );
        }
        var found = ReturnSearch
            .Find(_standing, _before[0], path.Day, path.Asked.AllowUntested, path.Asked.Allowed, withReasons: false)
            .Value;
        if (found is not { Found: true })
            return new ReturnPath(
                ReturnState.Closed,
                TimeSpan.Zero,
                $"no order of reverse moves leads "
                    + $"{string.Join(", ", _ways.Keys.Order(StringComparer.Ordinal))} back through states that are "
                    + $"allowed"
            )
            {
                Partly = Partly(),
            };
        var taken = found.Moves.SelectMany(m => m.Jumps).ToList();
        if (taken.Count == 0)
            return FoundMixed();
        var worst = taken.FirstOrDefault(j => j.Jump.Closes is not null, taken[0]);
        return Say(
            taken.Count(j => j.Jump.Closes is not null),
            found.Moves.Aggregate(TimeSpan.Zero, (sum, m) => sum + m.Takes),
            worst.Component,
            worst.Jump
        );
    }

    private string WhyClosed(string id, ComponentStanding standing)
    {
        if (!_before[0].ContainsKey(id))
            return $"{id} {ComponentStanding.InstalledFirst}";
        if (standing.Broken.FirstOrDefault() is { Problem: { } broken, Jump: var jump })
            return $"{id}: {jump.Id} can't be carried out: {broken.What}{(broken.At is { } at ? $" ({at})" : "")}";
        if (standing.Replaced)
            return $"{id}: its members were replaced, and no jump down by 'replace' brings the old ones back";
        return $"{id} {standing.Now} has no way down to {_before[0][id]}"
            + $"{(standing.Floor is null ? "" : $" after the conversion to {standing.Floor}")} "
            + "and no set of rollback points covers it";
    }

    // The earliest move whose beginning everything that has changed since leads back to.
    private PartialReturn? Partly()
    {
        for (var move = 2; move <= _before.Count; move++)
        {
            var target = _before[move - 1];
            // What has no way to the start is asked first: there are few of them, and many that have changed.
            if (
                _closed.Any(id =>
                    !target.ContainsKey(id)
                    || (!Stands(id, target) && _standing.Changed[id].To(target[id], Figures) is null)
                )
            )
                continue;
            if (PartlyTo(move, target) is { } partly)
                return partly;
        }
        return null;
    }

    private bool Stands(string id, ImmutableDictionary<string, Versions.Version> target) =>
        _standing.Changed[id] is { Rest: null } standing && standing.Now.Equals(target.GetValueOrDefault(id));

    private PartialReturn? PartlyTo(int move, ImmutableDictionary<string, Versions.Version> target)
    {
        var (losses, length, changed) = (0, TimeSpan.Zero, 0);
        foreach (var (id, standing) in _standing.Changed)
        {
            if (Stands(id, target))
                continue;
            if (target.GetValueOrDefault(id) is not { } at || standing.To(at, Figures) is not { } way)
                return null;
            changed++;
            (losses, length) = (losses + way.Losses, length + way.Length);
        }
        return changed > 0 && StandsTogether(target)
            ? new PartialReturn(move, losses > 0 ? ReturnState.WithLoss : ReturnState.Clean, length)
            : null;
    }

    // That each has a way by itself is not yet that they come there together.
    private bool StandsTogether(ImmutableDictionary<string, Versions.Version> target) =>
        _standing.Changed.Count is 1 or > MostSearched
        || ReturnSearch
            .Find(_standing, target, path.Day, path.Asked.AllowUntested, path.Asked.Allowed, withReasons: false)
            .Value
            is { Found: true };

    private ReturnPath FoundMixed() =>
        new(
            ReturnState.Clean,
            TimeSpan.Zero,
            $"{_standing.Changed.First().Key} was found mixed, and is brought to the version that it counts as"
        );

    // A joint move has never less outage than its jumps one by one, and only time to save: by two outages of one
    // component, or of related ones that take the same out.
    private bool JointCouldHelp()
    {
        if (_ways.Count > MostSearched)
            return false;
        if (_ways.Values.Any(w => w.For.CanJoinAlone))
            return true;
        var joining = _ways.Where(w => w.Value.For.CanJoin).Select(w => w.Key).ToHashSet();
        return joining.Any(id =>
            _standing
                .Estate.Find(id)!
                .Relations.Any(r =>
                    joining.Contains(r.To) && Figures.OutWith(id, false) == Figures.OutWith(r.To, false)
                )
        );
    }

    // What costs most is said: a restore that loses writes, else the first jump.
    private static ReturnPath Say(int losses, TimeSpan length, string component, Jump jump)
    {
        var by = ComponentStanding.IsRestore(jump) ? $"{component} by {jump.Id}" : $"{component} by jump {jump.Id}";
        return new ReturnPath(
            losses > 0 ? ReturnState.WithLoss : ReturnState.Clean,
            length,
            losses > 0 ? $"{by}: what was written since its capture is lost" : by
        );
    }

    // Back through the same versions, in no heavier a mixture than on the way there: then every state and mixture on it
    // was allowed before.
    private bool IsPlainReverse(ComponentStanding standing, ChainBack way)
    {
        var moves = _moves[standing.Component.Id];
        if (way.Jumps.Length != moves.Count)
            return false;
        for (var i = 0; i < way.Jumps.Length; i++)
        {
            var (jump, method) = way.Jumps[i];
            var forward = moves[^(i + 1)];
            if (!jump.To.Equals(forward.From) || !jump.Requires.IsEmpty || !jump.Together.IsEmpty)
                return false;
            if (
                method is Method.Rolling or Method.Replace or Method.TwoSlot
                && forward.Method is Method.Offline or Method.SideBySide
            )
                return false;
        }
        return true;
    }

    /// <summary>How long it takes after a block to be led back to where the work stood before a move; closed ways count
    /// nothing.</summary>
    public TimeSpan Back(int block, int move)
    {
        var sum = TimeSpan.Zero;
        var (changed, figures) = _after[block];
        foreach (var (id, standing) in changed)
            if (
                _before[move - 1].GetValueOrDefault(id) is { } target
                && (standing.Rest is not null || !standing.Now.Equals(target))
                && standing.To(target, figures) is { } way
            )
                sum += way.Length;
        return sum;
    }
}
