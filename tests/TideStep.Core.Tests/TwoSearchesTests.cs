using CsCheck;
using TideStep.Core.Paths;

namespace TideStep.Core.Tests;

/// <summary>Two searches that share little answer the same question: jumps first and their order afterwards, and the
/// walk over states. On estates too large to try every sequence,
/// with twin sites in turn, peers, shared nodes, closing jumps and pairs that are only tolerated.</summary>
public sealed class TwoSearchesTests
{
    private static readonly Gen<(Fleet Fleet, string Goal)> Estates = Gen.Int[0, int.MaxValue].Select(Build);

    private static (Fleet, string) Build(int seed)
    {
        var random = new Random(seed);
        var fleet = new Fleet().Sites("  s: {turn: 1, peers: [t]}\n  t: {turn: 2, peers: [s]}\n  u: {}\n");
        var products = random.Next(2, 4);
        var goals = new List<string>();
        for (var p = 0; p < products; p++)
        {
            var twins = random.Next(3) > 0;
            foreach (var site in twins ? new[] { "s", "t" } : ["u"])
            {
                var id = $"c{p}{site}";
                fleet.Node($"{id}x[1-2]", $"site: {site}");
                var needs = Enumerable
                    .Range(0, p)
                    .Where(_ => random.Next(3) > 0)
                    .SelectMany(o =>
                        fleet.Has($"c{o}{site}") ? [$"c{o}{site}"]
                        : fleet.Has($"c{o}u") ? new[] { $"c{o}u" }
                        : []
                    )
                    .ToList();
                var rest =
                    $"site: {site}"
                    + (needs.Count > 0 ? $", depends-on: [{string.Join(", ", needs)}]" : "")
                    + (twins && site == "t" && random.Next(2) == 0 ? $", peer: [c{p}s]" : "");
                fleet.With(id, $"p{p}", "1", $"\"{id}x[1-2]\"", rest);
            }
            if (p == products - 1 || random.Next(3) == 0)
                goals.Add($"{{product: p{p}, to: \">={random.Next(2, 4)}\"}}");
            fleet.Product($"p{p}", Catalogue(random, p));
        }
        return (fleet, $"goal: [{string.Join(", ", goals)}]");
    }

    private static string Catalogue(Random random, int p)
    {
        var text = "releases: {\"1\": {}, \"2\": {}, \"3\": {}}\nsteps: {convert: {do: {command: [x]}}}\njumps:\n";
        foreach (var (from, to) in new[] { (1, 2), (2, 3), (1, 3) })
        {
            if (to - from > 1 && random.Next(2) == 0)
                continue;
            var offline = random.Next(3) == 0 ? $", offline: {{outage: {random.Next(1, 5)} min}}" : "";
            text +=
                $"  j{from}{to}: {{from: \"={from}\", to: \"{to}\", methods: {{rolling: {{member: "
                + $"{random.Next(1, 4)} "
                + $"min}}{offline}}}{(random.Next(5) == 0 ? ", closes: convert, after-all: [convert]" : "")}"
                + (p > 0 && random.Next(5) == 0 ? $", requires: [{{product: p{random.Next(p)}, range: \">=2\"}}]" : "")
                + $"}}\n";
        }
        text +=
            $"rules:\n- {{peer: p{p}, by: major, older-by: 1, newer-by: 1, verdict: "
            + $"{(random.Next(2) == 0 ? "transitional" : "supported")}}}\n";
        for (var o = 0; o < p; o++)
            if (random.Next(3) > 0)
                text +=
                    $"- {{depends-on: p{o}, by: major, older-by: {random.Next(0, 3)}, newer-by: "
                    + $"{random.Next(0, 2)}}}\n- {{this: \"={random.Next(1, 4)}\", depends-on: p{o}, at: "
                    + $"\"={random.Next(1, 4)}\", verdict: "
                    + $"{(random.Next(2) == 0 ? "transitional" : "unsupported")}}}\n";
        return text;
    }

    private static string Write(IEnumerable<MoveOption> moves) =>
        string.Join(" ", moves.Select(m => $"{m.Written}/{m.Jumps[0].Method}"));

    [Fact]
    public void Jumps_first_gives_what_the_walk_over_states_gives()
    {
        var (found, outOfTurn, structured) = (0, 0, 0);
        Estates.Sample(
            pair =>
            {
                var request = pair.Fleet.Request(pair.Goal);
                var findings = new Documents.Findings();
                var (targets, pinned) = GoalResolution.Resolve(request, findings);
                var problem = new PathProblem(request, targets, pinned, relaxed: false);
                var walk = new PathSearch(problem);
                var expected = walk.Find();
                var chains = new ChainSearch(problem);
                var actual = chains.Find();
                Assert.True(walk.Exhausted && chains.Exhausted);
                Assert.Equal(expected is null, actual is null);
                // What is carried on the searches by structure do not weigh; the planner then asks the walk.
                if (actual is { } relying && walk.ReliedOn(relying.Moves) > 0)
                    return;
                Assert.Equal(
                    expected is null ? null : Write(PathSearch.Trail(expected)),
                    actual is { } way ? Write(way.Moves) : null
                );
                var told = new StructuredSearch(problem).Find(new EndDomains(problem));
                if (told is { } its && walk.ReliedOn(its.Moves) == 0)
                {
                    Assert.Equal(Write(PathSearch.Trail(expected!)), Write(its.Moves));
                    Assert.Equal(expected!.Cost, its.Cost);
                    Interlocked.Increment(ref structured);
                }
                if (expected is null)
                    return;
                Assert.True(new EndDomains(problem).CanAllStand());
                Assert.Equal(expected.Cost, actual!.Value.Cost);
                Interlocked.Increment(ref found);
                if (expected.Cost[^1] > 0)
                    Interlocked.Increment(ref outOfTurn);
            },
            iter: 300
        );
        Assert.True(found > 60, $"only {found} estates had a path");
        Assert.True(structured > 30, $"only {structured} could be told by structure");
        Assert.True(outOfTurn > 5, $"only {outOfTurn} paths left a site's turn");
    }

    [Fact]
    public void A_large_estate_is_planned_and_proved_by_its_structure()
    {
        var (index, goal) = TideStep.Tests.LargeEstate.Read(TideStep.Tests.LargeEstate.Write(1000));
        var answer = Fleet.Good(PathFinder.Find(new PathRequest(index, goal, Nights.Day(-6), Joint: false)));
        Assert.True(answer is { Found: true, Proved: true });
        var written = answer.Moves.Select(m => m.Written).ToList();
        Assert.Equal(200, index.Components.Length);
        Assert.True(
            written.IndexOf("service-00-south@6.12") < written.IndexOf("os-south@12.8")
                && written.IndexOf("os-south@12.8") < written.IndexOf("service-00-south@7.8")
        );
        Assert.True(
            written.FindLastIndex(w => w.StartsWith("os-south", StringComparison.Ordinal))
                < written.FindIndex(w => w.StartsWith("os-north", StringComparison.Ordinal))
        );
    }

    [Fact]
    public void Ends_that_are_taken_away_are_ends_of_no_path() =>
        Estates.Sample(
            pair =>
            {
                var request = pair.Fleet.Request(pair.Goal) with { Joint = true };
                var (targets, pinned) = GoalResolution.Resolve(request, new Documents.Findings());
                var problem = new PathProblem(request, targets, pinned, relaxed: false);
                var ends = new EndDomains(problem);
                if (new PathSearch(problem, joint: true).Find() is not { By: not null } end)
                    return;
                for (var c = 0; c < end.State.Length; c++)
                    Assert.True(ends.May(c, end.State[c]));
            },
            iter: 150
        );

    [Fact]
    public void Versions_that_two_components_can_not_come_to_end_no_path()
    {
        var refused = 0;
        Estates.Sample(
            pair =>
            {
                var request = pair.Fleet.Request(pair.Goal) with { Joint = true };
                var (targets, pinned) = GoalResolution.Resolve(request, new Documents.Findings());
                PathProblem Problem() => new(request, targets, pinned, relaxed: false);
                var problem = Problem();
                var reach = new PairReach(problem);
                var narrowed = Problem();
                narrowed.Reach = new PairReach(narrowed);
                var can = new EndDomains(narrowed).CanAllStand();
                if (can == false)
                    Interlocked.Increment(ref refused);
                if (new PathSearch(problem, joint: true).Find() is not { By: not null } end)
                    return;
                Assert.True(can);
                for (var p = 0; p < problem.Index.Pairs.Length; p++)
                    Assert.True(reach.Reaches(p, end.State), $"{pair.Goal}\n{pair.Fleet.Texts}");
            },
            iter: 200
        );
        Assert.True(refused > 10, $"only {refused} estates were refused");
    }

    [Fact]
    public void Reasons_told_by_pairs_are_as_few_as_those_found_state_by_state()
    {
        var compared = 0;
        TinyPathless.Sample(
            pair =>
            {
                var request = pair.Fleet.Request(pair.Goal);
                var (targets, pinned) = GoalResolution.Resolve(request, new Documents.Findings());
                if (PathFinder.LeadsAnywhere(new PathProblem(request, targets, pinned, relaxed: false)))
                    return;
                PathReasons Search() => new(new PathProblem(request, targets, pinned, relaxed: true));
                var (told, tried) = (Search().Find(), Search().ByStates());
                Assert.Equal(tried.Select(r => r.Kind), told.Select(r => r.Kind));
                Interlocked.Increment(ref compared);
            },
            iter: 250
        );
        Assert.True(compared > 30, $"only {compared} estates had no path");
    }

    private static readonly Gen<(Fleet Fleet, string Goal)> TinyPathless = Gen.Int[0, int.MaxValue]
        .Select(TideStep.Tests.TinyEstates.Build);
}
