using CsCheck;
using TideStep.Core.Waves;

namespace TideStep.Core.Tests;

public sealed class WaveTests
{
    private static string Written(WavePlan plan) => string.Join(" | ", plan.Waves.Select(w => string.Join(" ", w.Members.Select(m => m.Node))));

    private static Fleet One(string rest, int members = 3, string domains = "") => new Fleet().Node($"a[1-{members}]", $"site: s{domains}").Chain("engine", ["1", "2"]).With("app", "engine", "1", $"\"a[1-{members}]\"", rest);

    [Fact]
    public void One_by_one_is_the_rule() => Assert.Equal("a1 | a2 | a3", Written(WavePlanner.Plan(One("").Index(), 0, false).Plan!));

    [Fact]
    public void A_wave_never_takes_two_domains()
    {
        var plan = WavePlanner.Plan(One("guard: {keep: 2, at-once: 2}", 6, ", domain: [x, y, z]").Index(), 0, false).Plan!;
        Assert.Equal("a1 a4 | a2 a5 | a3 a6", Written(plan));
        Assert.Equal(3, plan.LowerBound);
    }

    [Fact]
    public void Followers_go_before_the_leader() =>
        Assert.Equal("a2 | a3 | a1", Written(WavePlanner.Plan(One("guard: quorum, roles: {leader: [a1], follower: [a2, a3]}").Index(), 0, false).Plan!));

    [Fact]
    public void Two_members_under_a_quorum_can_not_be_rolled()
    {
        var (plan, refusal) = WavePlanner.Plan(One("guard: quorum, roles: {leader: [a1], follower: [a2]}", 2).Index(), 0, false);
        Assert.Null(plan);
        Assert.Contains("quorum needs 2 of 2", refusal!.What);
    }

    [Fact]
    public void A_member_that_is_out_already_counts_against_the_guard()
    {
        var (_, refusal) = WavePlanner.Plan(One("").Index("  app/a2: {running: \"1\", in-service: false}\n"), 0, false);
        Assert.Contains("1 are out already", refusal!.What);
    }

    [Fact]
    public void The_guard_of_what_stands_on_the_nodes_holds_too()
    {
        var fleet = new Fleet().Node("a[1-3]").Chain("engine", ["1", "2"]).Chain("base", ["1", "2"])
            .With("app", "engine", "1", "\"a[1-3]\"", "stands-on: [os], guard: 2").With("os", "base", "1", "\"a[1-3]\"", "guard: {keep: 0, at-once: 3}");
        var index = fleet.Index();
        Assert.Equal("a1 | a2 | a3", Written(WavePlanner.Plan(index, index.NumberOf("os"), true).Plan!));
    }

    [Fact]
    public void Whatever_the_estate_no_guard_is_broken_in_any_wave() => Gen.Select(Gen.Int[2, 9], Gen.Int[0, 4], Gen.Int[1, 4], Gen.Bool, Gen.Int[1, 3]).Sample((members, keep, atOnce, quorum, domains) =>
    {
        var fleet = One($"guard: {{keep: {(quorum ? "quorum" : Math.Min(keep, members))}, at-once: {atOnce}}}, roles: {{leader: [a1], follower: [{string.Join(", ", Enumerable.Range(2, members - 1).Select(i => $"a{i}"))}]}}",
            members, $", domain: [{string.Join(", ", new[] { "x", "y", "z" }[..domains])}]");
        var index = fleet.Index();
        var (plan, refusal) = WavePlanner.Plan(index, 0, false);
        if (plan is null) { Assert.NotNull(refusal); return; }
        Assert.Equal(members, plan.Waves.Sum(w => w.Members.Length));
        foreach (var wave in plan.Waves)
        {
            Assert.Single(wave.Members.Select(m => index.Estate.Nodes[m.Node].Domain).Distinct());
            Assert.Single(wave.Members.Select(m => m.Role).Distinct());
            Assert.True(wave.Members.Length <= atOnce);
            Assert.True(members - wave.Members.Length >= (quorum ? members / 2 + 1 : Math.Min(keep, members)));
        }
        Assert.True(plan.Waves.Length >= plan.LowerBound);
    }, iter: 300);
}
