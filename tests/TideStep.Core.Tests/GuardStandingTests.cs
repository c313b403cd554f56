using CsCheck;
using TideStep.Core.Waves;
using TideStep.Tests;

namespace TideStep.Core.Tests;

/// <summary>How guards stand on what serves, against the planner's own reckoning and by counts that are told.</summary>
public sealed class GuardStandingTests
{
    private static readonly string[] Guards = ["quorum", "0", "1", "2", "50%", "60%", "100%"];

    private static Guarded One(string guard, int members, int voting) =>
        new(
            new Fleet()
                .Node($"a[1-{members}]")
                .Document(
                    "p",
                    "tidestep: product/1\nproduct: {id: p, roles: [keeper, witness], voting: [keeper]}\n"
                        + "releases: {\"1\": {}}\n"
                )
                .With(
                    "app",
                    "p",
                    "1",
                    $"\"a[1-{members}]\"",
                    $"guard: {guard}, roles: {{keeper: [{Names(1, voting)}], "
                        + $"witness: [{Names(voting + 1, members)}]}}"
                )
        );

    private static string Names(int first, int last) =>
        string.Join(", ", Enumerable.Range(first, Math.Max(0, last - first + 1)).Select(i => $"a{i}"));

    /// <summary>A component by itself under its guard.</summary>
    private sealed class Guarded(Fleet fleet)
    {
        public Core.Estates.EstateIndex Index { get; } = fleet.Index();

        public GuardStanding With(IReadOnlySet<string> serving, bool asPlanned = false) =>
            GuardStanding.Of(Index.Components[0], fleet.Catalogue.Find("p")!, serving, asPlanned);

        public string? Missing(IReadOnlySet<string> outgoing, IReadOnlySet<string> serving) =>
            GuardStanding.Missing(Index.Components[0], fleet.Catalogue.Find("p")!, outgoing, serving);
    }

    [Fact]
    public void It_holds_exactly_where_the_planner_reckons_so() =>
        Gen.Select(Gen.Int[1, 7], Gen.Int[0, Guards.Length - 1], Gen.Int[0, 2], Gen.Int[1, 7], Gen.Int[0, 127])
            .Sample(
                (members, guard, margin, voting, bits) =>
                {
                    var keep = Guards[guard] == "2" && members < 2 ? "1" : Guards[guard];
                    var one = One($"{{keep: {keep}, margin: {margin}}}", members, Math.Min(voting, members));
                    var all = one.Index.Components[0].Members.Select(m => m.Id).ToList();
                    var outside = all.Where((_, i) => (bits & (1 << i)) != 0).ToHashSet();
                    Assert.Equal(
                        Service.GuardHolds(one.Index, 0, outside),
                        one.With(all.Except(outside).ToHashSet()).Holds
                    );
                },
                iter: 500
            );

    [Fact]
    public void It_counts_what_votes_and_names_what_is_out()
    {
        var one = One("{keep: quorum, margin: 1}", 5, 4);
        var stands = one.With(new HashSet<string> { "app/a1", "app/a2", "app/a3", "app/a5" });
        Assert.Equal((3, 4, false), (stands.Serving, stands.Needed, stands.Holds));
        Assert.Equal(["a4"], stands.Out);
        Assert.True(one.With(new HashSet<string>(), asPlanned: true).Holds);
    }

    [Fact]
    public void A_wave_is_kept_back_with_the_counts()
    {
        var one = One("{keep: 2, at-once: 2}", 4, 4);
        IReadOnlySet<string> Of(params string[] nodes) => nodes.Select(n => $"app/{n}").ToHashSet();
        Assert.Null(one.Missing(Of("a1"), Of("a2", "a3", "a4")));
        Assert.Null(one.Missing(Of("a1"), Of("a2", "a3")));
        Assert.Equal(
            "app needs 2 in service besides those of the wave and has 1 (out: a3, a4)",
            one.Missing(Of("a1"), Of("a2"))
        );
        Assert.Equal(
            "app may have 1 out at once; out already: a3",
            One("{keep: 0, at-once: 1}", 3, 3).Missing(Of("a1"), Of("a2"))
        );
    }
}
