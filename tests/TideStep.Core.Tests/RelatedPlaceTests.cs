using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Tests;

/// <summary>Steps that are done at a related component's node, with the member as their subject.</summary>
public sealed class RelatedPlaceTests
{
    private static Fleet Behind(
        string on,
        string relations = "",
        string drain = "command: [pool, out, \"{member.node}\"]"
    ) =>
        new Fleet()
            .Node("a[1-2]")
            .Node(
                "f[1-2]",
                "site: s, reach: {by: ssh, address: \"{id}.example\", account: keeper, key: \"secret:k\", host-keys: k}"
            )
            .Node("o[1-2]")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: {rolling: "
                    + "{member: 1 min}}, change: [put]}\nroutines: {leave: [drain], return: [start]}\n"
                    + $"steps:\n  drain: {{title: \"take {{member.node}} out\", do: {{{drain}}}, on: {on}, "
                    + "undo: {command: [pool, in, \"{member.node}\", \"{on.address}\"]}}\n"
                    + "  put: {do: {install: x, version: \"{jump.to}\"}}\n  start: {do: {start: x}}\n"
            )
            .Product("pool", "releases: {\"1\": {}}\n")
            .Product("base", "releases: {\"1\": {}}\n")
            .With("app", "engine", "6", "\"a[1-2]\"", $"stands-on: [base]{relations}")
            .With("front", "pool", "1", "\"f[1-2]\"", "depends-on: [app]")
            .With("base", "base", "1", "\"a[1-2]\", \"o[1-2]\"");

    private static Checked<Plan> Made(Fleet fleet) =>
        PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c");

    private static List<PlanStep> Drains(Fleet fleet) =>
        [
            .. Fleet
                .Good(Made(fleet))
                .Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s => s.Name == "drain"),
        ];

    [Theory]
    [InlineData("{serves: pool}", "a1 f1, a1 f2, a2 f1, a2 f2")]
    [InlineData("{serves: pool, which: each}", "a1 f1, a1 f2, a2 f1, a2 f2")]
    [InlineData("{serves: pool, which: first}", "a1 f1, a2 f1")]
    [InlineData("{stands-on: base}", "a1 a1, a2 a2")]
    public void It_is_done_at_each_of_the_others_members_or_the_first(string on, string where)
    {
        var drains = Drains(Behind(on));
        Assert.Equal(where, string.Join(", ", drains.Select(s => $"{s.Member["app/".Length..]} {s.Node}")));
        Assert.All(drains, s => Assert.EndsWith("/" + s.Node, s.At!));
        Assert.Equal(drains.Count, drains.Select(s => s.Id).Distinct().Count());
    }

    [Fact]
    public void Its_texts_speak_of_the_member_and_of_where_it_is_done()
    {
        var drain = Drains(Behind("{serves: pool}"))[1];
        Assert.Equal("take a1 out, at f2", drain.Title);
        Assert.Equal("keeper", drain.Account);
        Assert.Equal(["pool", "out", "a1"], ((CommandAction)drain.Do).Arguments);
        Assert.Equal(["pool", "in", "a1", "f2.example"], ((CommandAction)drain.Undo!).Arguments);
    }

    [Fact]
    public void Where_nothing_is_related_so_the_plan_is_refused_with_the_place()
    {
        var made = Made(Behind("{depends-on: pool}"));
        Assert.Contains(made.Problems, p =>
            p.What.Contains("relates to by 'depends-on: pool', and there is none", StringComparison.Ordinal)
            && p.At is not null
        );
        Assert.True(Made(Behind("{depends-on: pool}", ", depends-on: [front]")).Ok);
    }

    [Theory]
    [InlineData("on: {serves: pool, of: each}", "'of'")]
    [InlineData("on: {serves: pool, which: last}", "no valid which")]
    [InlineData("on: {near: pool}", "must name one relation")]
    [InlineData("on: {serves: pool, carries: base}", "must name one relation")]
    [InlineData("on: [serves]", "'on'")]
    [InlineData("on: balancer", "no valid on")]
    public void A_place_that_is_written_wrongly_is_told_at_its_line(string on, string what) =>
        Assert.Contains(
            ProductDocument
                .Read(
                    $"tidestep: product/1\nproduct: engine\nsteps:\n  put: {{do: {{command: [x]}}, {on}}}\n",
                    "p.yaml"
                )
                .Problems,
            p => p.What.Contains(what, StringComparison.Ordinal) && p.At is { File: "p.yaml", Line: 4 }
        );

    [Theory]
    [InlineData("do: {command: [x, \"{on.node}\"]}", "nothing binds the placeholder {on.node}")]
    [InlineData("do: {command: [x, \"{on.port}\"]}, on: {serves: pool}", "nothing binds the placeholder {on.port}")]
    [InlineData("do: {capture: x}, on: {serves: pool}", "is the member's own")]
    [InlineData("do: {install: x, version: \"1\"}, on: {serves: pool}", "is the member's own")]
    public void What_makes_no_sense_elsewhere_is_refused(string step, string what) =>
        Assert.Contains(
            ProductDocument
                .Read($"tidestep: product/1\nproduct: engine\nsteps:\n  put: {{{step}}}\n", "p.yaml")
                .Problems,
            p => p.What.Contains(what, StringComparison.Ordinal) && p.At is { File: "p.yaml", Line: 4 }
        );
}
