using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Waves;

namespace TideStep.Core.Tests;

/// <summary>Nodes on nodes: what stands on a host goes out with it, unless the host can be emptied of it.</summary>
public sealed class HostTests
{
    private const string Base =
        "releases: {\"1\": {}, \"2\": {}}\njumps:\n  up: {from: \"=1\", to: \"2\", methods: {rolling: "
        + "{member: 5 min}}, "
        + "restarts: node, change: [put]}\nsteps:\n  put: {do: {command: [put]}}\n"
        + "  move-away: {do: {command: [move-away]}}\n";

    // Three hosts with a machine on each, and one engine on each machine.
    private static Fleet Three(string guest = "", string product = "", string guard = "guard: {keep: 2}") =>
        new Fleet()
            .Node("h[1-3]", "site: s, domain: [x, y, z]")
            .Node("v[1-3]", $"site: s, on: [h1, h2, h3]{guest}")
            .Product("host", Base + product)
            .Chain("engine", ["1", "2"])
            .With("app", "engine", "1", "\"v[1-3]\"", $"{guard}, stands-on: [floor]")
            .With("floor", "host", "1", "\"h[1-3]\"");

    private const string Empties = "routines: {empty: [move-away]}\nempty: {times: 3, every: 5 min}\n";

    private static Plan Planned(Fleet fleet) =>
        Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: floor, to: 2}]"), "e", "c"));

    [Fact]
    public void What_stands_on_a_host_goes_out_with_it_and_its_guard_counts()
    {
        var waves = WavePlanner.Plan(Three().Index(), 1, restartsNode: true).Plan!;
        Assert.Equal(["app/v1", "app/v2", "app/v3"], waves.Waves.Select(w => Assert.Single(w.AlsoOut).Id));
        var (_, refusal) = WavePlanner.Plan(Three(guard: "guard: {keep: 3}").Index(), 1, restartsNode: true);
        Assert.Equal("app", refusal!.Component);
    }

    [Fact]
    public void A_machine_leaves_before_its_host_in_the_plan()
    {
        var fleet = Three().Product("engine", Base + "routines: {leave: [put], return: [put]}\n");
        var lane = Planned(fleet).Blocks.First(b => b.Wave == 1).Lanes.Single();
        Assert.Equal("floor/h1", lane.Subject);
        Assert.Contains(lane.Steps, s => s.Member == "app/v1");
    }

    [Fact]
    public void The_restart_of_a_machine_leaves_its_host_alone()
    {
        var fleet = Three().Product("engine", Base);
        var waves = WavePlanner.Plan(fleet.Index(), 0, restartsNode: true).Plan!;
        Assert.All(waves.Waves, w => Assert.Empty(w.AlsoOut));
    }

    [Fact]
    public void A_machine_without_a_domain_is_in_that_of_its_host_and_one_that_can_be_moved_in_none()
    {
        var one = new Fleet()
            .Node("h1")
            .Node("v[1-3]", "site: s, on: h1")
            .Chain("engine", ["1", "2"])
            .With("app", "engine", "1", "\"v[1-3]\"", "guard: {at-once: 2}");
        Assert.Equal(2, WavePlanner.Plan(one.Index(), 0, false).Plan!.Waves.Length);
        Assert.Equal(("s", "y"), Three().Estate.DomainOf("v2"));
        Assert.Equal(("", "v2"), Three(", movable: true").Estate.DomainOf("v2"));
    }

    [Fact]
    public void A_host_is_emptied_of_what_can_be_moved_with_attempts_before_it_leaves()
    {
        var plan = Planned(Three(", movable: true", Empties, guard: "guard: {keep: 3}"));
        foreach (var wave in plan.Blocks.Where(b => b.Wave > 0))
        {
            Assert.DoesNotContain(wave.Outgoing, m => m.StartsWith("app/", StringComparison.Ordinal));
            var first = wave.Lanes.Single().Steps[0];
            Assert.Equal("move-away", first.Name);
            Assert.Equal(new AttemptPolicy(3, TimeSpan.FromMinutes(5)), first.Attempts);
        }
    }

    [Fact]
    public void Every_host_of_a_component_is_emptied_where_any_carries_what_can_be_moved()
    {
        // Only the first host carries a machine; after its wave that machine stands on another.
        var fleet = new Fleet()
            .Node("h[1-2]", "site: s")
            .Node("v1", "site: s, on: h1, movable: true")
            .Product("host", Base + Empties)
            .Chain("engine", ["1", "2"])
            .With("app", "engine", "1", "v1")
            .With("floor", "host", "1", "\"h[1-2]\"");
        Assert.All(Planned(fleet).Blocks.Where(b => b.Wave > 0).Select(b => b.Lanes.Single()), l =>
            Assert.Equal("move-away", l.Steps[0].Name)
        );
    }

    [Fact]
    public void A_host_that_nothing_says_how_to_empty_makes_no_plan()
    {
        var fleet = Three(", movable: true");
        var made = PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: floor, to: 2}]"), "e", "c");
        Assert.Null(made.Value);
        Assert.Contains(made.Problems, p =>
            p.What.Contains("h1 would have to be emptied of v1", StringComparison.Ordinal)
        );
    }

    [Theory]
    [InlineData("n1: {site: s, on: n9}", "there is no node 'n9' to stand on")]
    [InlineData("n1: {site: s, movable: true}", "and it stands on none")]
    [InlineData("n1: {site: s, on: n2}, n2: {site: s, on: n1}", "it stands on itself")]
    [InlineData("n1: {site: s, on: n2}, n2: {site: t}", "and its host 'n2' at t")]
    [InlineData("n1: {site: s, on: n2, movable: perhaps}, n2: {site: s}", "'movable' must be true or false")]
    public void A_host_that_can_not_be_is_told_at_its_place(string nodes, string what)
    {
        var read = EstateDocument.Read(
            $"tidestep: estate/1\nestate: x\nsites: {{s: {{}}, t: {{}}}}\nnodes: {{{nodes}}}\ncomponents: {{}}\n",
            "e.yaml"
        );
        Assert.Contains(read.Problems, p => p.What.Contains(what, StringComparison.Ordinal) && p.At is { Line: 4 });
    }

    [Theory]
    [InlineData("empty: {times: 3, every: 5 min}\n", "the routines have no 'empty'")]
    [InlineData("routines: {empty: [none-such]}\n", "there is no step 'none-such'")]
    [InlineData("routines: {empty: [put]}\nempty: {times: 0}\n", "times")]
    [InlineData("routines: {empty: [put]}\nempty: {often: 3}\n", "often")]
    public void How_a_host_is_emptied_is_checked_when_it_is_read(string text, string what) =>
        Assert.Contains(
            ProductDocument.Read($"tidestep: product/1\nproduct: host\n{Base}{text}", "p.yaml").Problems,
            p => p.What.Contains(what, StringComparison.Ordinal) && p.At is not null
        );

    [Theory]
    [InlineData("runs-with: others", "'others'")]
    [InlineData("runs-with: {dependants: true}", "runs-with")]
    public void What_runs_with_others_says_with_whom(string key, string what) =>
        Assert.Contains(
            EstateDocument
                .Read(
                    "tidestep: estate/1\nestate: x\nsites: {s: {}}\nnodes: {n1: {site: s}}\ncomponents:\n"
                        + $"  a:\n    product: p\n    members: [n1]\n    {key}\n",
                    "e.yaml"
                )
                .Problems,
            p => p.What.Contains(what, StringComparison.Ordinal) && p.At is not null
        );
}
