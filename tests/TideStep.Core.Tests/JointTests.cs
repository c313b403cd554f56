using TideStep.Core.Catalogue;
using TideStep.Core.Paths;

namespace TideStep.Core.Tests;

/// <summary>Joint moves as 3-planning has them, and the paths named beside the best.</summary>
public sealed class JointTests
{
    private const string Both = "offline: {outage: 10 min, settle: 4 min}";
    private const string NeverMixed =
        "rules:\n- {this: 1, depends-on: store, at: 1, verdict: supported}\n"
        + "- {this: 2, depends-on: store, at: 2, verdict: supported}\n";

    private static Fleet Tied(
        string rules = NeverMixed,
        string app = Both,
        string db = Both,
        string relation = "depends-on: [db]"
    ) =>
        new Fleet()
            .Node("a[1-2]")
            .Node("b[1-2]")
            .Chain("engine", ["1", "2"], app, rules)
            .Chain("store", ["1", "2"], db)
            .With("app", "engine", "1", "\"a[1-2]\"", relation)
            .With("db", "store", "1", "\"b[1-2]\"");

    [Fact]
    public void What_may_never_be_mixed_goes_in_one_outage()
    {
        var move = Assert.Single(Tied().Path("goal: [{component: app, to: 2}]").Moves);
        Assert.Equal("app@2+db@2", move.Written);
        Assert.Equal(["app", "db"], move.Out);
        Assert.Equal(TimeSpan.FromMinutes(2 * 20), move.OutageTime); // both are out for both outages
        Assert.Equal(TimeSpan.FromMinutes(20 + 4), move.Takes); // and settle once
    }

    [Fact]
    public void The_first_install_beside_the_serving_version_costs_no_outage_and_later_ones_do()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .Node("b")
            .Chain(
                "engine",
                ["1", "2", "3"],
                "side-by-side: {install: 7 min, outage: 2 min, settle: 1 min}",
                "rules:\n- {this: 1, depends-on: store, at: 1, verdict: supported}\n"
                    + "- {this: 3, depends-on: store, at: 1, verdict: supported}\n"
            )
            .Chain("store", ["1"], Both)
            .With("app", "engine", "1", "\"a[1-2]\"", "depends-on: [db]")
            .With("db", "store", "1", "b");
        var move = Assert.Single(fleet.Path("goal: [{component: app, to: 3}]").Moves);
        Assert.Equal("app@2+app@3", move.Written);
        Assert.Equal(TimeSpan.FromMinutes(2 + 2 + 7), move.OutageTime);
        Assert.Equal(TimeSpan.FromMinutes(11 + 7 + 1), move.Takes);
    }

    [Fact]
    public void What_can_be_taken_apart_is_not_joint_even_where_that_were_shorter()
    {
        var answer = Tied(rules: "").Path("goal: [{component: app, to: 2}, {component: db, to: 2}]\norder: [minutes]");
        Assert.Equal(["app@2", "db@2"], answer.Moves.Select(m => m.Written));
    }

    [Fact]
    public void A_rolling_way_makes_no_joint_move_of_itself()
    {
        var answer = Tied(app: "rolling: {member: 1 min}").Path("goal: [{component: app, to: 2}]");
        Assert.False(answer.Found);
        Assert.NotEmpty(answer.Reasons);
    }

    [Fact]
    public void Jumps_tied_together_are_never_apart()
    {
        string Needs(string other) =>
            $"releases: {{\"1\": {{}}, \"2\": {{}}}}\njumps:\n  to-2: {{from: \"=1\", to: \"2\", methods: "
            + $"{{rolling: {{member: 1 min}}, {Both}}}, together: [{{product: {other}, range: \">=2\"}}]}}\n";
        var fleet = Tied(rules: "").Product("engine", Needs("store")).Product("store", Needs("engine"));
        Assert.Equal("app@2+db@2", Assert.Single(fleet.Path("goal: [{component: app, to: 2}]").Moves).Written);
    }

    [Fact]
    public void A_tied_component_that_is_in_the_range_already_need_not_jump()
    {
        var fleet = Tied(rules: "")
            .Product(
                "engine",
                "releases: {\"1\": {}, \"2\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", methods: "
                    + "{rolling: {member: 1 min}}, together: [{product: store, range: \">=1\"}]}\n"
            );
        Assert.Equal("app@2", Assert.Single(fleet.Path("goal: [{component: app, to: 2}]").Moves).Written);
    }

    [Fact]
    public void Peers_that_must_not_be_out_together_take_no_joint_move()
    {
        const string rules =
            "rules:\n- {this: 1, peer: engine, at: 1, verdict: supported}\n"
            + "- {this: 2, peer: engine, at: 2, verdict: supported}\n";
        Fleet Peers(string together) =>
            new Fleet()
                .Sites("  s: {peers: [t]}\n  t: {peers: [s]}\n")
                .Node("a[1-2]", "site: s")
                .Node("b[1-2]", "site: t")
                .Chain("engine", ["1", "2"], Both, rules)
                .With("one", "engine", "1", "\"a[1-2]\"", $"site: s, peer: [{together}]")
                .With("two", "engine", "1", "\"b[1-2]\"", "site: t");
        Assert.False(Peers("two").Path("goal: [{product: engine, to: 2}]").Found);
        Assert.Equal(
            "one@2+two@2",
            Assert.Single(Peers("{two: may-be-out-together}").Path("goal: [{product: engine, to: 2}]").Moves).Written
        );
    }

    [Fact]
    public void A_requirement_inside_a_joint_move_holds_by_its_start_or_its_end()
    {
        Fleet Requiring(string range) =>
            Tied()
                .Product(
                    "engine",
                    $"releases: {{\"1\": {{}}, \"2\": {{}}}}\njumps:\n  to-2: {{from: \"=1\", to: \"2\", "
                        + $"methods: {{{Both}}}, requires: [{{product: store, range: \"{range}\"}}]}}\n{NeverMixed}"
                );
        Assert.True(Requiring("=1").Path("goal: [{component: app, to: 2}]").Found);
        Assert.True(Requiring("=2").Path("goal: [{component: app, to: 2}]").Found);
        Assert.False(Requiring("=3").Path("goal: [{component: app, to: 2}]").Found);
    }

    [Fact]
    public void A_path_that_another_order_would_choose_is_named_with_what_it_does_otherwise()
    {
        var request = Tied(rules: "", app: "rolling: {member: 30 min, settle: 1 min}, " + Both)
            .Request("goal: [{component: app, to: 2}]");
        var answer = Fleet.Good(PathFinder.FindWithAlternatives(request));
        Assert.Equal(Method.Rolling, Assert.Single(answer.Moves).Method);
        var other = Assert.Single(answer.Alternatives);
        Assert.Equal("minutes", other.First);
        Assert.Equal(
            ["does app@2 by offline instead of rolling", "48 min shorter", "10 outage minutes more"],
            other.Differences
        );
    }

    [Fact]
    public void Where_the_best_path_stays_best_nothing_stands_beside_it() =>
        Assert.Empty(
            Fleet
                .Good(PathFinder.FindWithAlternatives(Tied(rules: "").Request("goal: [{component: db, to: 2}]")))
                .Alternatives
        );

    [Fact]
    public void A_goal_that_holds_is_met_though_something_else_was_found_mixed()
    {
        var answer = Tied(rules: "").Path("goal: [{component: app, to: 1}]", "  db/b1: {running: \"2\"}\n");
        Assert.True(answer.AlreadyMet);
        Assert.Contains(answer.Notes, n => n.Contains("found mixed", StringComparison.Ordinal));
    }

    [Fact]
    public void A_chain_of_thirty_components_is_found_and_proved_at_once()
    {
        var fleet = new Fleet();
        for (var c = 0; c < 30; c++)
        {
            fleet
                .Node($"n{c:00}x[1-2]")
                .With($"c{c:00}", $"p{c:00}", "1", $"\"n{c:00}x[1-2]\"", c > 0 ? $"depends-on: [c{c - 1:00}]" : "");
            fleet.Chain(
                $"p{c:00}",
                ["1", "2", "3"],
                rest: c > 0 ? $"rules:\n- {{depends-on: p{c - 1:00}, by: major, older-by: 1}}\n" : ""
            );
        }
        var answer = fleet.Path("goal: [{component: c29, to: 3}]");
        Assert.True(answer.Proved);
        // Each may be older than what it depends on and never newer, so the lowest goes first, step by step.
        Assert.Equal(60, answer.Moves.Length);
        Assert.Equal("c00@2", answer.Moves[0].Written);
        Assert.Equal("c29@3", answer.Moves[^1].Written);
    }
}
