using CsCheck;
using TideStep.Core.Waves;

namespace TideStep.Core.Tests;

public sealed class WaveTests
{
    private static string Written(WavePlan plan) =>
        string.Join(" | ", plan.Waves.Select(w => string.Join(" ", w.Members.Select(m => m.Node))));

    private static Fleet One(string rest, int members = 3, string domains = "") =>
        new Fleet()
            .Node($"a[1-{members}]", $"site: s{domains}")
            .Chain("engine", ["1", "2"])
            .With("app", "engine", "1", $"\"a[1-{members}]\"", rest);

    [Fact]
    public void One_by_one_is_the_rule() =>
        Assert.Equal("a1 | a2 | a3", Written(WavePlanner.Plan(One("").Index(), 0, false).Plan!));

    [Fact]
    public void A_wave_never_takes_two_domains()
    {
        var plan = WavePlanner
            .Plan(One("guard: {keep: 2, at-once: 2}", 6, ", domain: [x, y, z]").Index(), 0, false)
            .Plan!;
        Assert.Equal("a1 a4 | a2 a5 | a3 a6", Written(plan));
        Assert.Equal(3, plan.LowerBound);
    }

    [Fact]
    public void Followers_go_before_the_leader() =>
        Assert.Equal(
            "a2 | a3 | a1",
            Written(
                WavePlanner
                    .Plan(One("guard: quorum, roles: {leader: [a1], follower: [a2, a3]}").Index(), 0, false)
                    .Plan!
            )
        );

    [Fact]
    public void Two_members_under_a_quorum_can_not_be_rolled()
    {
        var (plan, refusal) = WavePlanner.Plan(
            One("guard: quorum, roles: {leader: [a1], follower: [a2]}", 2).Index(),
            0,
            false
        );
        Assert.Null(plan);
        Assert.Contains("quorum needs 2 of 2", refusal!.What);
    }

    [Fact]
    public void A_member_that_is_out_already_counts_against_the_guard()
    {
        var (_, refusal) = WavePlanner.Plan(One("").Index("  app/a2: {running: \"1\", in-service: false}\n"), 0, false);
        Assert.Contains("1 is out already: app/a2 (not in step)", refusal!.What);
    }

    [Fact]
    public void The_guard_of_what_stands_on_the_nodes_holds_too()
    {
        var fleet = new Fleet()
            .Node("a[1-3]")
            .Chain("engine", ["1", "2"])
            .Chain("base", ["1", "2"])
            .With("app", "engine", "1", "\"a[1-3]\"", "stands-on: [os], guard: 2")
            .With("os", "base", "1", "\"a[1-3]\"", "guard: {keep: 0, at-once: 3}");
        var index = fleet.Index();
        Assert.Equal("a1 | a2 | a3", Written(WavePlanner.Plan(index, index.NumberOf("os"), true).Plan!));
    }

    [Fact]
    public void Whatever_the_estate_no_guard_is_broken_in_any_wave() =>
        Gen.Select(Gen.Int[2, 9], Gen.Int[0, 4], Gen.Int[1, 4], Gen.Bool, Gen.Int[1, 3])
            .Sample(
                (members, keep, atOnce, quorum, domains) =>
                {
                    var fleet = One(
                        $"guard: {{keep: {(quorum ? "quorum" : Math.Min(keep, members))}, at-once: "
                            + $"{atOnce}}}, roles: {{leader: [a1], follower: "
                            + $"[{string.Join(", ", Enumerable.Range(2, members - 1).Select(i => $"a{i}"))}]}}",
                        members,
                        $", domain: [{string.Join(", ", new[] { "x", "y", "z" }[..domains])}]"
                    );
                    var index = fleet.Index();
                    var (plan, refusal) = WavePlanner.Plan(index, 0, false);
                    if (plan is null)
                    {
                        Assert.NotNull(refusal);
                        return;
                    }
                    Assert.Equal(members, plan.Waves.Sum(w => w.Members.Length));
                    foreach (var wave in plan.Waves)
                    {
                        Assert.Single(wave.Members.Select(m => index.Estate.Nodes[m.Node].Domain).Distinct());
                        Assert.Single(wave.Members.Select(m => m.Role).Distinct());
                        Assert.True(wave.Members.Length <= atOnce);
                        Assert.True(
                            members - wave.Members.Length >= (quorum ? members / 2 + 1 : Math.Min(keep, members))
                        );
                    }
                    Assert.True(plan.Waves.Length >= plan.LowerBound);
                    Assert.Empty(Checked(index, "app", plan, WaveProof.Of(index, plan)));
                },
                iter: 300
            );

    private static IEnumerable<string> Checked(
        Estates.EstateIndex index,
        string component,
        WavePlan plan,
        WaveProof proof,
        bool wholeNodes = false
    ) =>
        new WaveChecker(index.Estate, index.Catalogue.Products.ToDictionary(p => p.Id, p => p.Voting)).Check(
            index.Readings,
            component,
            index.Estate.Find(component)!.Members,
            wholeNodes,
            plan,
            proof
        );

    [Fact]
    public void The_checker_finds_waves_that_do_not_hold_and_proofs_that_do_not_tell_the_truth()
    {
        var index = One("guard: {keep: 2, at-once: 2}", 4, ", domain: [x, y]").Index();
        var plan = WavePlanner.Plan(index, 0, false).Plan!;
        var proof = WaveProof.Of(index, plan);
        Assert.Empty(Checked(index, "app", plan, proof));
        var together = plan with
        {
            Waves =
            [
                plan.Waves[0] with
                {
                    Members = [.. plan.Waves[0].Members, .. plan.Waves[1].Members],
                },
                .. plan.Waves[2..],
            ],
            LowerBound = 1,
        };
        Assert.Contains(Checked(index, "app", together, WaveProof.Of(index, together)), w =>
            w.Contains("more than one failure domain", StringComparison.Ordinal)
        );
        var all = plan with
        {
            Waves = [plan.Waves[0] with { Members = index.Estate.Find("app")!.Members }],
            LowerBound = 1,
        };
        Assert.Contains(Checked(index, "app", all, WaveProof.Of(index, all)), w =>
            w.Contains("leaves 0 of 4 members of app in service, and 2 must stay", StringComparison.Ordinal)
        );
        Assert.Contains(Checked(index, "app", plan with { Waves = plan.Waves[1..] }, proof), w =>
            w.Contains("is in 0 waves", StringComparison.Ordinal)
        );
        Assert.Contains(
            Checked(index, "app", plan, new WaveProof([.. proof.Lines.Select(l => l with { Left = l.Left + 1 })])),
            w => w.Contains("are not those of the estate", StringComparison.Ordinal)
        );
        Assert.Contains(Checked(index, "app", plan, new WaveProof([])), w =>
            w.Contains("says nothing of", StringComparison.Ordinal)
        );
        Assert.Empty(Checked(index, "app", plan, proof, wholeNodes: true)); // nothing else is on these nodes
    }

    private sealed record Tenant(int[] Nodes, int Keep, int AtOnce, int[] Dependants);

    private static readonly Gen<(int Nodes, int AtOnce, Tenant[] Tenants)> Shared = Gen.Int[2, 5]
        .SelectMany(nodes =>
            Gen.Select(
                Gen.Int[1, nodes],
                Gen.Select(
                    Gen.Bool.Array[nodes],
                    Gen.Int[0, 1],
                    Gen.Int[1, 3],
                    Gen.Bool.Array[2],
                    (on, keep, atOnce, dependants) =>
                        new Tenant(
                            [.. Enumerable.Range(0, nodes).Where(i => on[i])],
                            keep,
                            atOnce,
                            [.. Enumerable.Range(0, 2).Where(i => dependants[i])]
                        )
                ).Array[0, 4],
                (atOnce, tenants) => (nodes, atOnce, tenants.Where(t => t.Nodes.Length > 0).ToArray())
            )
        );

    // Every way to part the nodes into waves, weighed by the rules as they are written.
    private static (int Outage, List<int[]> Waves)? BestByTrial(int nodes, int atOnce, Tenant[] tenants)
    {
        (int Outage, List<int[]> Waves)? best = null;
        foreach (var waves in Partitions(0, []))
        {
            var outage = 0;
            var holds = true;
            foreach (var wave in waves)
            {
                holds &= wave.Length <= atOnce;
                var gone = new HashSet<string>();
                if (wave.Length == nodes)
                    gone.Add("os");
                for (var t = 0; t < tenants.Length; t++)
                {
                    var lost = tenants[t].Nodes.Count(wave.Contains);
                    if (lost == 0)
                        continue;
                    holds &=
                        tenants[t].Nodes.Length - lost
                        >= Math.Max(tenants[t].Keep, tenants[t].Nodes.Length - tenants[t].AtOnce);
                    if (lost == tenants[t].Nodes.Length)
                    {
                        gone.Add($"t{t}");
                        gone.UnionWith(tenants[t].Dependants.Select(d => $"d{d}"));
                    }
                }
                // Whatever stands on a system of which no member is left is on the same nodes, and out with them.
                outage += gone.Count;
            }
            if (holds && (best is null || Compare((outage, waves), best.Value) < 0))
                best = (outage, waves);
        }
        return best;

        IEnumerable<List<int[]>> Partitions(int node, List<List<int>> sofar)
        {
            if (node == nodes)
            {
                yield return [.. sofar.Select(w => w.ToArray())];
                yield break;
            }
            for (var w = 0; w <= sofar.Count; w++)
            {
                var next = sofar.Select(x => x.ToList()).ToList();
                if (w == sofar.Count)
                    next.Add([node]);
                else
                    next[w].Add(node);
                foreach (var found in Partitions(node + 1, next))
                    yield return found;
            }
        }
    }

    private static int Compare((int Outage, List<int[]> Waves) a, (int Outage, List<int[]> Waves) b)
    {
        if (a.Outage != b.Outage)
            return a.Outage - b.Outage;
        if (a.Waves.Count != b.Waves.Count)
            return a.Waves.Count - b.Waves.Count;
        for (var w = 0; w < a.Waves.Count; w++)
        {
            for (var i = 0; i < Math.Min(a.Waves[w].Length, b.Waves[w].Length); i++)
                if (a.Waves[w][i] != b.Waves[w][i])
                    return a.Waves[w][i] - b.Waves[w][i];
            if (a.Waves[w].Length != b.Waves[w].Length)
                return a.Waves[w].Length - b.Waves[w].Length;
        }
        return 0;
    }

    [Fact]
    public void Waves_over_shared_nodes_have_the_least_outage_then_are_the_fewest_then_the_first() =>
        Shared.Sample(
            (nodes, atOnce, tenants) =>
            {
                var fleet = new Fleet()
                    .Node($"n[0-{nodes - 1}]", "site: s, domain: [a]")
                    .Node("x[0-1]")
                    .Chain("base", ["1", "2"])
                    .Chain("engine", ["1", "2"])
                    .With("os", "base", "1", $"\"n[0-{nodes - 1}]\"", $"guard: {{keep: 0, at-once: {atOnce}}}");
                for (var t = 0; t < tenants.Length; t++)
                    fleet.With(
                        $"t{t}",
                        "engine",
                        "1",
                        string.Join(", ", tenants[t].Nodes.Select(n => $"\"n{n}\"")),
                        $"stands-on: [os], guard: {{keep: {tenants[t].Keep}, at-once: {tenants[t].AtOnce}}}"
                    );
                for (var d = 0; d < 2; d++)
                    fleet.With(
                        $"d{d}",
                        "engine",
                        "1",
                        $"\"x{d}\"",
                        $"depends-on: ["
                            + (
                                string.Join(
                                    ", ",
                                    Enumerable
                                        .Range(0, tenants.Length)
                                        .Where(t => tenants[t].Dependants.Contains(d))
                                        .Select(t => $"t{t}")
                                )
                            )
                            + $"]"
                    );
                var index = fleet.Index();
                var (plan, refusal) = WavePlanner.Plan(index, index.NumberOf("os"), true);
                var best = BestByTrial(nodes, atOnce, tenants);
                Assert.Equal(best is null, plan is null);
                if (plan is null)
                    return;
                Assert.Equal(
                    string.Join(" | ", best!.Value.Waves.Select(w => string.Join(" ", w.Select(n => $"n{n}")))),
                    Written(plan)
                );
                Assert.Equal(best.Value.Outage, plan.Waves.Sum(w => w.ComponentsOut.Length));
            },
            iter: 2000
        );
}
