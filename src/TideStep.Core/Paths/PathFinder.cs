using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Paths;

/// <summary>From an estate, its readings, a catalogue and a goal to the best path, or to the reasons why there is
/// none.</summary>
public static class PathFinder
{
    public static Checked<PathAnswer> Find(PathRequest request)
    {
        var findings = new Findings();
        var (targets, pinned) = GoalResolution.Resolve(request, findings);
        if (findings.Any)
            return new Checked<PathAnswer>(null, findings.All);
        request.Watch?.Begins("the best path");
        var problem = new PathProblem(request, targets, pinned, relaxed: false);
        if (GoalResolution.Unmeetable(problem) is { Count: > 0 } unmeetable)
            return new Checked<PathAnswer>(
                new PathAnswer(
                    false,
                    true,
                    request.Day,
                    [],
                    [],
                    [.. unmeetable],
                    GoalOf(problem, null),
                    [],
                    Notes(problem)
                )
                {
                    Asked = request.Goal,
                },
                []
            );
        var (search, end, proved) = Search(problem);
        var stopped = request.Watch is { Stopped: true };
        proved &= !stopped;
        var notes = end is null ? Notes(problem) : [];
        if (stopped)
            notes = notes.Add("the search was stopped by a person; this is what it had");
        if (proved && end is null)
            request.Watch?.Begins("the smallest set of reasons why there is no path");
        if (end is null)
        {
            var (reasons, missed) =
                proved && request.WithReasons
                    ? ReasonsOf(new PathReasons(new PathProblem(request, targets, pinned, relaxed: true)))
                    : ([], null);
            if (missed is not null)
                notes = notes.Add(missed);
            return new Checked<PathAnswer>(
                new PathAnswer(
                    false,
                    proved,
                    request.Day,
                    [],
                    [],
                    [.. reasons],
                    GoalOf(problem, null),
                    NearestOf(problem, search.Nearest),
                    notes
                )
                {
                    Asked = request.Goal,
                },
                []
            );
        }
        var trail = PathSearch.Trail(end).ToList();
        var explanation = new PathExplanation(problem, trail);
        var moves = Moves(problem, trail, explanation);
        var noted = new PathNotes(problem, trail);
        var (pairs, unrelated) = (noted.Pairs(), noted.Unrelated());
        notes = [.. notes, .. noted.Told(pairs, unrelated), .. JumpsNamed(problem, trail)];
        return new Checked<PathAnswer>(
            new PathAnswer(
                true,
                proved,
                request.Day,
                moves,
                Criteria(problem, search.Layout, end.Cost),
                [],
                GoalOf(problem, end.State),
                [],
                proved ? notes : notes.Add(Gap(problem, search, end.Cost))
            )
            {
                Driven = explanation.Driven(),
                Pairs = pairs,
                Unrelated = unrelated,
                Asked = request.Goal,
            },
            []
        );
    }

    // Few enough components to look at every state: up to nine that can move.
    private const int FewMoving = 9;
    private const int ExactStates = 150_000;

    private static (PathSearch Search, PathSearch.Label? End, bool Proved) Search(PathProblem problem)
    {
        if (problem.Request.Small != false && IsSmall(problem) && Exactly(problem) is var small && small.Proved)
            return small;
        var (search, end, proved) = ByStructure(problem);
        proved &= !problem.DependsOnOthers;
        return proved && end is not null && problem.Found.Any(f => f.Length > 1)
            ? Searched(problem, end)
            : (search, end, proved);
    }

    // What is mixed is judged by all of its versions, and in which order it goes then changes what is relied on: the
    // search over states has the last word, bounded by what no order changes.
    private static (PathSearch Search, PathSearch.Label? End, bool Proved) Searched(
        PathProblem problem,
        PathSearch.Label end
    )
    {
        var trail = PathSearch.Trail(end);
        var search = new PathSearch(problem);
        var cost = (long[])end.Cost.Clone();
        cost[CostLayout.Untested] = Math.Max(cost[CostLayout.Untested], search.ReliedOn(trail));
        for (var i = search.Layout.AfterClosing; i < cost.Length; i++)
            cost[i] = long.MaxValue;
        var wider = new PathSearch(problem, problem.Request.Joint, cost);
        return wider.Find() is { } best ? (wider, best, wider.Exhausted) : (search, end, false);
    }

    // What is carried on counts as relied on too, and the searches by structure do not weigh it.
    private static (PathSearch Search, PathSearch.Label End, bool Proved)? Weighed(
        PathProblem problem,
        PathSearch search,
        PathSearch.Label end
    )
    {
        var trail = PathSearch.Trail(end);
        if (search.ReliedOn(trail) <= end.Cost[CostLayout.Untested])
            return null;
        var cost = (long[])end.Cost.Clone();
        cost[CostLayout.Untested] = search.ReliedOn(trail);
        var wider = new PathSearch(problem, problem.Request.Joint, cost);
        return (wider, wider.Find() ?? PathSearch.Follow(problem, trail, cost), wider.Exhausted);
    }

    private static bool IsSmall(PathProblem problem) =>
        Enumerable
            .Range(0, problem.Today.Length)
            .Count(c =>
                problem.Today[c] >= 0 && !problem.Pinned.Contains(c) && problem.Options[c].Any(o => o.Count > 0)
            ) <= FewMoving;

    // Every state by single moves, then with joint moves where one could be better, bounded by what is known.
    private static (PathSearch Search, PathSearch.Label? End, bool Proved) Exactly(PathProblem problem)
    {
        var search = new PathSearch(problem, most: ExactStates);
        var known = KnownCost(problem, search);
        if (HoldsAlready(problem))
            return (search, PathSearch.Follow(problem, [], new long[search.Layout.Length]), true);
        if (!new EndDomains(problem).Any)
        {
            search = new PathSearch(problem, most: NearestStates);
            search.Find();
            return (search, null, true);
        }
        if (known is not null)
            search = new PathSearch(problem, bound: known, most: ExactStates);
        var end = search.Find();
        if (!search.Exhausted || !problem.Request.Joint || !search.JointCouldHelp(end, null))
            return (search, end, search.Exhausted);
        var wider = new PathSearch(problem, joint: true, end?.Cost ?? known, most: ExactStates);
        end = wider.Find() ?? end;
        return (wider, end, wider.Exhausted);
    }

    // What a path that is known costs by the criteria that are asked now; null where none is known.
    private static long[]? KnownCost(PathProblem problem, PathSearch search)
    {
        if (problem.Request.Known.IsEmpty)
            return null;
        var (state, moves) = (problem.Today.ToArray(), new List<MoveOption>());
        foreach (var move in problem.Request.Known)
        {
            var before = state.ToArray();
            var options = move.Jumps.Select(j => Step(j)).ToList();
            if (options.Any(o => o is null))
                return null;
            moves.Add(
                move.IsJoint
                    ? new MoveOption(
                        [.. options.Select(o => o!)],
                        (long)move.Takes.TotalSeconds,
                        (long)move.OutageTime.TotalSeconds,
                        [.. move.Out.Select(problem.Index.NumberOf)],
                        move.Written
                    )
                    : problem.In(options[0]!, before).AsMove
            );
        }
        return search.CostOf(moves);

        // The same jump by the same method from where its component stands then.
        Option? Step(TakenJump jump)
        {
            var c = problem.Index.NumberOf(jump.Component);
            var option = problem
                .Options[c][state[c]]
                .FirstOrDefault(o =>
                    o.Jump == jump.Jump && o.Method == jump.Method && problem.Versions[c][o.To].Equals(jump.To)
                );
            if (option is not null)
                state[c] = option.To;
            return option;
        }
    }

    private static (PathSearch Search, PathSearch.Label? End, bool Proved) ByStructure(PathProblem problem)
    {
        var search = new PathSearch(problem);
        if (HoldsAlready(problem))
            return (search, PathSearch.Follow(problem, [], new long[search.Layout.Length]), true);
        // A path that relies on nothing untested is better than any that does, and is found sooner.
        if (problem.Request.Goal.AllowUntested)
        {
            var strict = new PathProblem(
                problem.Request with
                {
                    Goal = problem.Request.Goal with { AllowUntested = false },
                },
                problem.Targets,
                problem.Pinned,
                relaxed: false
            )
            {
                Whole = problem,
            };
            if (
                ChainSearch.Fits(strict)
                && new EndDomains(strict).CanAllStand() == true
                && ByStructure(strict) is { End: not null, Proved: true } sure
                // What is carried on is relied on too; then others may rely on as little.
                && sure.End.Cost[CostLayout.Untested] == 0
                // What only the narrowed rules keep together might be taken apart by all that is allowed.
                && PathSearch.Trail(sure.End).All(m => !m.IsJoint)
            )
                return sure;
        }
        // Where the ends themselves can't stand together there is no path by any moves; what can be reached is looked
        // at a little, to name the nearest.
        var domains = new EndDomains(problem);
        if (!domains.Any)
        {
            search = new PathSearch(problem, most: NearestStates);
            return (search, search.Find(), true);
        }
        if (problem.Request.Goal.AllowUntested && Relying(problem, domains) is { } relying)
            return relying;
        PathSearch.Label? end;
        long[]? least = null;
        bool proved;
        // Ends that are found stand together; only where none are, it has to be asked whether any could.
        if (ChainSearch.Fits(problem) && new StructuredSearch(problem).Find(domains) is { } told)
            (end, proved, least) = (PathSearch.Follow(problem, told.Moves, told.Cost), true, told.Cost);
        else if (domains.CanAllStand() == false)
        {
            search = new PathSearch(problem, most: NearestStates);
            return (search, search.Find(), true);
        }
        else if (!CanBeReached(problem))
        {
            search = new PathSearch(problem, most: NearestStates);
            search.Find();
            return (search, null, true);
        }
        else if (ChainSearch.Fits(problem))
        {
            var chains = new ChainSearch(problem);
            var best = chains.Find();
            (end, proved, least) = (
                best is { } found ? PathSearch.Follow(problem, found.Moves, found.Cost) : null,
                chains.Exhausted,
                chains.Least
            );
        }
        else
            (end, proved) = (search.Find(), search.Exhausted);
        // No ends that could stand together were found though all were tried: joint moves would lead to none either.
        if (end is null && proved && least is null && ChainSearch.Fits(problem))
        {
            search = new PathSearch(problem, most: NearestStates);
            search.Find();
            return (search, null, true);
        }
        if (end is not null && Weighed(problem, search, end) is { } weighed)
            return weighed;
        // A second search with joint moves, bounded by what the first one found, where one could be better or open a
        // way.
        if (problem.Request.Joint && search.JointCouldHelp(end, least))
        {
            var wider = new PathSearch(problem, joint: true, end?.Cost);
            (search, end) = (wider, wider.Find() ?? end);
            proved = wider.Exhausted; // it also looks at every path of single moves
        }
        return (search, end, proved);
    }

    // Which jump it is, where a product has several between the same versions, and what it loses.
    private static IEnumerable<string> JumpsNamed(PathProblem problem, List<MoveOption> trail) =>
        trail
            .SelectMany(
                (move, i) =>
                    move.Jumps.Select(option =>
                    {
                        var twins = problem
                            .Options[option.Component][option.From]
                            .Where(o => o.To == option.To && o.Jump.Id != option.Jump.Id)
                            .Select(o => o.Jump.Id)
                            .Distinct()
                            .ToList();
                        var loses = option.Loses ? $", which loses {string.Join(", ", option.Jump.Loses)}" : "";
                        return twins.Count == 0 && !option.Loses
                            ? null
                            : $"move {i + 1}: {option.Written} is made by jump {option.Jump.Id}"
                                + $"{(twins.Count == 0 ? "" : $", not by {string.Join(" or ", twins)}")}{loses}";
                    })
            )
            .OfType<string>();

    // Where the smallest set is not found in time, what is known of it is said.
    private static (List<Reason> Reasons, string? Missed) ReasonsOf(PathReasons search) =>
        search.Find() is { Count: > 0 } found ? (found, null)
        : search.AtLeast is { Count: > 0 } some
            ? (
                some,
                $"no set of reasons that makes a path was found within the limit of the search; any has at "
                    + $"least {some.Count}, and these are not enough by themselves"
            )
        : ([], "no smallest set of reasons was found within the limit of the search");

    // Ends may stand together and still not be reached together; what is found out of that serves the searches that
    // follow.
    private static bool CanBeReached(PathProblem problem)
    {
        problem.Reach = new PairReach(problem);
        if (new EndDomains(problem).CanAllStand() != false)
            return true;
        problem.Reach = null;
        return false;
    }

    /// <summary>Whether there is any path.</summary>
    internal static bool LeadsAnywhere(PathProblem problem) => Search(problem).End is not null;

    // Where untested pairs are needed, those of the best ends are allowed by name and no others: a path found so relies
    // on as few as any.
    private static (PathSearch, PathSearch.Label?, bool)? Relying(PathProblem problem, EndDomains domains)
    {
        if (new StructuredSearch(problem).ReliedAtEnds(domains) is not var (relied, least, unique))
            return null;
        // What runs nothing has no version to be allowed by.
        if (relied.Any(r => r.A < 0 || r.B < 0 || problem.IsAbsent(problem.Index.Pairs[r.Pair].B, r.B)))
            return null;
        Estates.AllowedPair Named((int Pair, int A, int B) r) =>
            problem.Index.Pairs[r.Pair] is var pair
                ? new(
                    problem.Index.Components[pair.A].Id,
                    problem.Versions[pair.A][r.A].Label,
                    problem.Index.Components[pair.B].Id,
                    problem.Versions[pair.B][r.B].Label
                )
                : null!;
        var goal = problem.Request.Goal with
        {
            AllowUntested = false,
            Allowed = [.. problem.Request.Goal.Allowed, .. relied.Select(Named)],
        };
        var named = new PathProblem(
            problem.Request with
            {
                Goal = goal,
            },
            problem.Targets,
            problem.Pinned,
            relaxed: false
        )
        {
            Whole = problem,
        };
        var (search, end, proved) = Search(named);
        if (end is null)
            return null;
        var cost = (long[])end.Cost.Clone();
        // What is passed on the way counts as well as what is relied on at the ends.
        cost[CostLayout.Untested] = new PathSearch(problem).ReliedOn(PathSearch.Trail(end));
        // Other ends with as few untested pairs could still be better where the order of these costs more than the ends
        // themselves.
        var reached =
            cost[CostLayout.Untested] == relied.Count
            && Enumerable.Range(0, search.Layout.AfterClosing).All(i => cost[i] == least[i])
            && cost[search.Layout.AfterClosing] + cost[search.Layout.Transitional] + cost[search.Layout.OutOfTurn] == 0;
        var joint = problem.Request.Joint && search.JointCouldHelp(end, null);
        var found = PathSearch.Follow(problem, [.. PathSearch.Trail(end)], cost);
        if (proved && unique && reached && !joint)
            return (new PathSearch(problem), found, true);
        // Then the search over states has to say so, bounded by what is known.
        var wider = new PathSearch(problem, joint, cost);
        return (wider, wider.Find() ?? found, wider.Exhausted);
    }

    private const int NearestStates = 1_000;

    // The first criterion in which the answer may not be best, and by how much at most.
    private static string Gap(PathProblem problem, PathSearch search, long[] cost)
    {
        var least = search.LeastCost();
        var criteria = Criteria(problem, search.Layout, cost);
        var bounds = Criteria(problem, search.Layout, least);
        var at = Enumerable
            .Range(0, criteria.Length)
            .First(i =>
                i == criteria.Length - 1
                || bounds.FirstOrDefault(b => b.Number == criteria[i].Number && b.Name == criteria[i].Name)?.Value
                    < criteria[i].Value
            );
        return $"not proved best: criterion {criteria[at].Number} ({criteria[at].Name}) is {criteria[at].Value} here "
            + $"and at least {bounds.FirstOrDefault(b => b.Name == criteria[at].Name)?.Value ?? 0} in any path";
    }

    /// <summary>The same with the paths that other orders of the criteria would choose.</summary>
    public static Checked<PathAnswer> FindWithAlternatives(PathRequest request)
    {
        var answer = Find(request);
        return answer.Ok
            ? new Checked<PathAnswer>(
                answer.Value! with
                {
                    Alternatives = Paths.Alternatives.Of(request, answer.Value!),
                },
                []
            )
            : answer;
    }

    // A goal that holds with its components at their best releases asks for nothing, whatever else is to be said of
    // today.
    private static bool HoldsAlready(PathProblem problem)
    {
        foreach (var target in problem.Targets)
        {
            var (c, today) = (target.Component, problem.Today[target.Component]);
            if (
                today < 0
                || problem.IsAbsent(c, today)
                || problem.IsMixed(c, today)
                || !target.Range.Contains(problem.Versions[c][today], problem.Products[c]!.IsRelease)
            )
                return false;
            if (!target.AnyWillDo && Ranking.Distance(target.BestFirst, problem.Versions[c][today]) > 0)
                return false;
        }
        return problem.Request.Goal.SupportedAt is null
            || Enumerable
                .Range(0, problem.Today.Length)
                .All(c => problem.Today[c] >= 0 && RemainingCost.MayEnd(problem, c, problem.Today[c]));
    }

    private static ImmutableArray<Move> Moves(PathProblem problem, List<MoveOption> trail, PathExplanation explanation)
    {
        var state = problem.Today.ToArray();
        var moves = ImmutableArray.CreateBuilder<Move>();
        var reasons = new OutageReasons(problem);
        foreach (var move in trail)
        {
            var whyOut = reasons.Of(move, state);
            foreach (var jump in move.Jumps)
                state[jump.Component] = jump.To;
            moves.Add(
                new Move(
                    [.. move.Jumps.Select(j => Taken(problem, j))],
                    TimeSpan.FromSeconds(move.Seconds),
                    TimeSpan.FromSeconds(move.OutageSeconds),
                    [.. move.Out.Select(o => problem.Index.Components[o].Id)],
                    move.Jumps[0].Waves,
                    Transitional(problem, state)
                )
                {
                    Pairs = explanation.PairsAfter(move, state),
                    WhyOut = whyOut,
                    Proof = move.Jumps[0].Waves is { } waves
                        ? Waves.WaveProof.Of(move.Jumps[0].WavesOn ?? problem.Index, waves)
                        : null,
                }
            );
        }
        return moves.ToImmutable();
    }

    private static TakenJump Taken(PathProblem problem, Option option)
    {
        var (c, versions) = (option.Component, problem.Versions[option.Component]);
        var before =
            !problem.IsMixed(c, option.From) ? versions[option.From]
            : problem.Found[c].Any(f => f != option.To) ? versions[problem.Found[c].First(f => f != option.To)]
            : problem.Unsettled[c]!.Idle[0].Installed;
        return new TakenJump(problem.Index.Components[c].Id, before, versions[option.To], option.Jump, option.Method);
    }

    private static ImmutableArray<TransitionalPair> Transitional(PathProblem problem, int[] state)
    {
        var found = ImmutableArray.CreateBuilder<TransitionalPair>();
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
        {
            if (
                !problem.Meets(pair, state)
                || problem.Judge(pair, state).Verdict is not { Verdict: Verdict.Transitional } verdict
            )
                continue;
            var (a, b, _) = problem.Index.Pairs[pair];
            found.Add(
                new TransitionalPair(
                    problem.Index.Components[a].Id,
                    problem.Versions[a][state[a]].Label,
                    problem.Index.Components[b].Id,
                    problem.Versions[b][state[b]].Label,
                    verdict.Why
                )
            );
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<CriterionValue> Criteria(PathProblem problem, CostLayout layout, long[] cost)
    {
        var list = ImmutableArray.CreateBuilder<CriterionValue>();
        list.Add(new CriterionValue(1, "untested pairs relied on", cost[CostLayout.Untested]));
        for (var t = 0; t < layout.Targets; t++)
            list.Add(
                new CriterionValue(
                    2,
                    $"distance from the best release: {problem.Index.Components[problem.Targets[t].Component].Id}",
                    cost[layout.GoalAt(t)]
                )
            );
        if (cost[layout.Losing] > 0)
            list.Add(new CriterionValue(2, "jumps that lose data", cost[layout.Losing]));
        list.Add(new CriterionValue(3, "components moved that the goal does not name", cost[layout.OthersMoved]));
        list.Add(new CriterionValue(4, "outage seconds", cost[layout.Outage]));
        list.Add(new CriterionValue(5, "jumps that close the return path", cost[layout.Closing]));
        list.Add(new CriterionValue(6, "jumps", cost[layout.Jumps]));
        list.Add(new CriterionValue(7, "total seconds", cost[layout.Time]));
        list.Add(new CriterionValue(8, "jumps after the return path closes", cost[layout.AfterClosing]));
        list.Add(new CriterionValue(9, "states with a transitional pair", cost[layout.Transitional]));
        foreach (var other in layout.Others)
            if (cost[layout.OtherRank(other)] > 0)
                list.Add(
                    new CriterionValue(
                        10,
                        $"distance from the best release: {problem.Index.Components[other].Id}",
                        cost[layout.OtherRank(other)]
                    )
                );
        list.Add(new CriterionValue(11, "moves out of turn", cost[layout.OutOfTurn]));
        return list.ToImmutable();
    }

    private static ImmutableArray<(string, string, string)> GoalOf(PathProblem problem, int[]? end) =>
        [
            .. problem.Targets.Select(t =>
                (
                    problem.Index.Components[t.Component].Id,
                    Label(problem, t.Component, problem.Today[t.Component]),
                    end is null ? t.Range.Text : Label(problem, t.Component, end[t.Component])
                )
            ),
        ];

    private static ImmutableArray<(string, string)> NearestOf(PathProblem problem, PathSearch.Label? nearest) =>
        nearest is null
            ? []
            :
            [
                .. Enumerable
                    .Range(0, nearest.State.Length)
                    .Where(c => nearest.State[c] != problem.Today[c])
                    .Select(c => (problem.Index.Components[c].Id, Label(problem, c, nearest.State[c]))),
            ];

    private static string Label(PathProblem problem, int c, int version) => problem.LabelOf(c, version);

    private static ImmutableArray<string> Notes(PathProblem problem)
    {
        var notes = new PathNotes(problem, []);
        return notes.Told(notes.Pairs(), []);
    }
}
