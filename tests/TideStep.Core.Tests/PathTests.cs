using TideStep.Core.Paths;

namespace TideStep.Core.Tests;

public sealed class PathTests
{
    private static string Moves(Core.Paths.PathAnswer answer) => string.Join(" ", answer.Moves.Select(m => m.Written));

    private static Fleet Pair(string rules = "") =>
        new Fleet()
            .Node("a[1-3]")
            .Node("b[1-3]")
            .Chain("engine", ["6", "7", "8"], rest: rules)
            .Chain("store", ["1", "2", "3"])
            .With("app", "engine", "6", "\"a[1-3]\"", "depends-on: [db]")
            .With("db", "store", "1", "\"b[1-3]\"");

    [Fact]
    public void Several_jumps_follow_one_another_to_the_best_release() =>
        Assert.Equal("app@7 app@8", Moves(Pair().Path("goal: [{component: app, to: \">=7\"}]")));

    [Fact]
    public void A_component_the_goal_does_not_name_moves_where_a_rule_needs_it()
    {
        var fleet = Pair(
            "rules:\n- {this: \"<8\", depends-on: store, at: \"<3\", verdict: supported}\n"
                + "- {this: \">=7\", depends-on: store, at: \">=2\", verdict: supported}\n"
        );
        Assert.Equal("app@7 db@2 app@8", Moves(fleet.Path("goal: [{component: app, to: 8}]")));
    }

    [Fact]
    public void A_transitional_pair_may_stand_on_the_way_but_not_at_the_end()
    {
        var fleet = Pair(
            "rules:\n- {this: 6, depends-on: store, at: 1, verdict: supported}\n"
                + "- {this: 7, depends-on: store, at: 1, verdict: transitional}\n"
                + "- {this: 7, depends-on: store, at: 2, verdict: supported}\n"
        );
        var answer = fleet.Path("goal: [{component: app, exactly: 7}]");
        Assert.Equal("app@7 db@2", Moves(answer));
        Assert.Equal(1, answer.Criteria.Single(c => c.Number == 9).Value);
    }

    [Fact]
    public void A_goal_that_holds_gives_an_empty_path() =>
        Assert.True(Pair().Path("goal: [{component: app, at-least: 6}]").AlreadyMet);

    [Fact]
    public void A_pin_in_the_way_is_named()
    {
        var fleet = Pair(
            "rules:\n- {this: 6, depends-on: store, at: 1, verdict: supported}\n"
                + "- {this: \">=7\", depends-on: store, at: \">=2\", verdict: supported}\n"
                + "- {this: \">=7\", depends-on: store, at: 1, verdict: unsupported}\n"
                + "- {this: 6, depends-on: store, at: \">=2\", verdict: supported}\n"
        );
        var answer = fleet.Path("goal: [{component: app, to: 7}]\npins: [db]");
        Assert.False(answer.Found);
        Assert.Equal("pin", Assert.Single(answer.Reasons).Kind);
    }

    [Fact]
    public void A_missing_jump_is_named()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .With("app", "engine", "6", "\"a[1-2]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}, \"8\": {}}\njumps:\n"
                    + "  to-8: {from: \"=7\", to: \"8\", methods: {rolling: {member: 1 min}}}\n"
            );
        var reason = Assert.Single(fleet.Path("goal: [{component: app, to: 8}]").Reasons);
        Assert.Equal("jump", reason.Kind);
        Assert.Contains("from 6 to 7", reason.What);
    }

    [Fact]
    public void An_untested_pair_is_refused_until_it_is_allowed()
    {
        var fleet = Pair("rules:\n- {this: 6, depends-on: store, at: 1, verdict: supported}\n");
        Assert.Equal("gap", fleet.Path("goal: [{component: app, to: 7}]").Reasons[0].Kind);
        Assert.Equal(1, fleet.Path("goal: [{component: app, exactly: 7}]\nallow-untested: all").Criteria[0].Value);
        Assert.Equal(
            0,
            fleet
                .Path(
                    "goal: [{component: app, exactly: 7}]\nallow-untested: [{component: app, version: \"7\", "
                        + "with: db, at: \"1\"}]"
                )
                .Criteria[0]
                .Value
        );
    }

    [Fact]
    public void A_pair_that_stands_today_never_refuses_a_path()
    {
        var fleet = Pair("rules:\n- {this: \"*\", depends-on: store, at: \"*\", verdict: unsupported}\n");
        Assert.Equal("app@7", Moves(fleet.Path("goal: [{component: app, exactly: 7}]")));
    }

    [Fact]
    public void One_member_is_taken_offline_where_rolling_can_not_be_done()
    {
        var fleet = new Fleet()
            .Node("a1")
            .Node("b[1-2]")
            .Chain("engine", ["6", "7"], "rolling: {member: 5 min}, offline: {outage: 10 min}")
            .Chain("store", ["1"])
            .With("one", "engine", "6", "a1")
            .With("user", "store", "1", "\"b[1-2]\"", "depends-on: [one]");
        var move = Assert.Single(fleet.Path("goal: [{component: one, to: 7}]").Moves);
        Assert.Equal(Catalogue.Method.Offline, move.Method);
        Assert.Equal(["one", "user"], move.Out);
        Assert.Equal(TimeSpan.FromMinutes(20), move.OutageTime);
    }

    [Fact]
    public void Closing_jumps_come_last()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .Node("b[1-2]")
            .Chain("other", ["1", "2"])
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\nsteps: {convert: {do: {command: [convert]}}}\n"
                    + "jumps:\n  to-7: {from: \"=6\", to: \"7\", closes: convert, after-all: [convert], methods: "
                    + "{rolling: {member: 1 min}}}\n"
            )
            .With("aa", "engine", "6", "\"a[1-2]\"")
            .With("zz", "other", "1", "\"b[1-2]\"");
        Assert.Equal("zz@2 aa@7", Moves(fleet.Path("goal: [{component: aa, to: 7}, {component: zz, to: 2}]")));
    }

    [Fact]
    public void Sites_are_done_in_their_turn()
    {
        var fleet = new Fleet()
            .Sites("  north: {turn: 2}\n  south: {turn: 1}\n")
            .Node("n[1-2]", "site: north")
            .Node("s[1-2]", "site: south")
            .Chain("engine", ["6", "7"])
            .With("a-north", "engine", "6", "\"n[1-2]\"")
            .With("b-south", "engine", "6", "\"s[1-2]\"");
        Assert.Equal("b-south@7 a-north@7", Moves(fleet.Path("goal: [{product: engine, to: 7}]")));
    }

    [Fact]
    public void A_component_found_mixed_is_first_brought_to_one_version()
    {
        var fleet = new Fleet()
            .Node("a[1-3]")
            .Chain("engine", ["6", "7", "8"])
            .With("app", "engine", "6", "\"a[1-3]\"");
        var answer = fleet.Path("goal: [{component: app, to: 8}]", "  app/a2: {running: \"7\"}\n");
        Assert.Equal("app@7 app@8", Moves(answer));
        Assert.Equal(2, answer.Moves[0].Waves!.Waves.Length);
    }

    [Fact]
    public void Unknown_names_in_a_goal_come_with_the_nearest_word()
    {
        var problems = Core
            .Paths.PathFinder.Find(
                Pair().Request("goal: [{component: ap, to: 7}, {product: engin, to: 7}, {component: db, to: 9}]")
            )
            .Problems;
        Assert.Equal(2, problems.Length);
        Assert.Contains("'app'", problems[0].Hint);
    }

    [Fact]
    public void A_goal_that_no_release_meets_is_said_as_that_with_what_there_is()
    {
        var answer = Pair().Path("goal: [{component: db, to: 9}]");
        Assert.False(answer.Found);
        Assert.True(answer.Proved);
        var reason = Assert.Single(answer.Reasons);
        Assert.Equal("goal", reason.Kind);
        Assert.Contains("is in 9, which the goal wants for db", reason.What);
        Assert.StartsWith("The catalogue has", reason.Opens);
    }

    [Fact]
    public void A_jump_that_loses_data_is_avoided_named_where_it_is_taken_and_the_path_without_it_stands_beside()
    {
        Fleet With(string goal) =>
            new Fleet()
                .Node("a[1-2]")
                .With("app", "engine", "6", "\"a[1-2]\"")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}, \"8\": {}}\nsteps: {put: {do: {person: put}}}\njumps:\n"
                        + "  quick: {from: \"6\", to: \"7\", methods: {rolling: {member: 1 min}}, change: [put], "
                        + "loses: [saved searches]}\n"
                        + "  slow: {from: \"6\", to: \"7\", methods: {rolling: {member: 9 min}}, change: [put]}\n"
                        + "  only: {from: \"7\", to: \"8\", methods: {rolling: {member: 1 min}}, "
                        + $"change: [put]{goal}}}\n"
                );
        var kept = With("").Path("goal: [{component: app, to: 7}]");
        Assert.Equal("slow", kept.Moves.Single().Jump.Id);
        Assert.Contains("move 1: app@7 is made by jump slow, not by quick", kept.Notes);
        var request = With(", loses: [the log]").Request("goal: [{component: app, to: \">=7\"}]");
        var lossy = Fleet.Good(Core.Paths.PathFinder.FindWithAlternatives(request));
        Assert.Equal(["slow", "only"], lossy.Moves.Select(m => m.Jump.Id));
        Assert.Contains("move 2: app@8 is made by jump only, which loses the log", lossy.Notes);
        Assert.Equal(1, lossy.Criteria.Single(c => c.Name == "jumps that lose data").Value);
        var beside = Assert.Single(lossy.Alternatives, a => a.First == Core.Paths.Alternatives.Loses);
        Assert.Equal("slow", beside.Moves.Single().Jump.Id);
        Assert.Equal("keeps the data", beside.Differences[0]);
    }

    private static Fleet Three =>
        new Fleet().Node("a[1-3]").Chain("engine", ["6", "7", "8"]).With("app", "engine", "7", "\"a[1-3]\"");

    [Fact]
    public void A_member_that_runs_nothing_is_brought_to_the_others_by_a_jump_from_what_is_installed()
    {
        var answer = Three.Path("goal: [{component: app, to: 8}]", "  app/a2: {running: none, installed: \"6\"}\n");
        Assert.Equal("app@7 app@8", Moves(answer));
        Assert.Equal("app/a2", Assert.Single(Assert.Single(answer.Moves[0].Waves!.Waves).Members).Id);
        Assert.Equal("6", answer.Moves[0].From.Label);
        Assert.Contains(answer.Notes, n =>
            n.Contains("members that run nothing: app/a2 (6 installed)", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void A_member_that_runs_nothing_is_left_alone_where_its_component_need_not_move()
    {
        Assert.Equal(
            "other@8",
            Moves(
                new Fleet()
                    .Node("a[1-3]")
                    .Node("b[1-2]")
                    .Chain("engine", ["6", "7", "8"])
                    .With("app", "engine", "7", "\"a[1-3]\"")
                    .With("other", "engine", "7", "\"b[1-2]\"")
                    .Path("goal: [{component: other, to: 8}]", "  app/a2: {running: none, installed: \"6\"}\n")
            )
        );
    }

    [Fact]
    public void A_member_that_can_not_be_settled_is_the_reason_why_there_is_no_path()
    {
        var answer = Three.Path("goal: [{component: app, to: 8}]", "  app/a2: {running: none, installed: \"7\"}\n");
        Assert.False(answer.Found);
        Assert.Contains("app/a2", Assert.Single(answer.Reasons).What);
    }

    [Fact]
    public void A_member_of_which_nothing_is_known_keeps_its_component_from_moving_and_no_other()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .Node("b[1-2]")
            .Chain("engine", ["6", "7"])
            .With("app", "engine", "6", "\"a[1-2]\"")
            .With("other", "engine", "6", "\"b[1-2]\"");
        Assert.Equal(
            "other@7",
            Moves(
                fleet.Path(
                    "goal: [{component: other, to: 7}]",
                    "  app/a2: {running: \"6 or so?\"}\n  app/a1: {running: \"\"}\n"
                )
            )
        );
    }

    private static Fleet Owing(string rest = "") =>
        new Fleet()
            .Node("a[1-2]")
            .Node("b[1-2]")
            .Chain("engine", ["6", "7", "8"])
            .With("app", "engine", "6", "\"a[1-2]\"", rest)
            .With("other", "engine", "6", "\"b[1-2]\"");

    private const string Due =
        "  app/a1: {running: \"6\", installed: \"7\"}\n  app/a2: {running: \"6\", installed: \"7\"}\n";

    [Fact]
    public void An_owed_restart_is_settled_before_anything_else_begins()
    {
        var answer = Owing().Path("goal: [{component: other, to: 7}]", Due);
        Assert.Equal("app@7 other@7", Moves(answer));
        Assert.Contains(answer.Notes, n =>
            n.Contains("a restart is owed that puts 7 into effect", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void A_search_that_is_stopped_says_so_and_claims_no_proof()
    {
        var watch = new SearchWatch();
        watch.Stop();
        var answer = Fleet.Good(
            PathFinder.FindWithAlternatives(
                Owing().Request("goal: [{component: app, to: 8}]\nallow-untested: all") with
                {
                    Watch = watch,
                }
            )
        );
        Assert.False(answer.Proved);
        Assert.Contains(answer.Notes, n => n.Contains("stopped by a person", StringComparison.Ordinal));
    }

    [Fact]
    public void A_member_that_was_replaced_is_looked_for_on_its_spare_node()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .Node("s1")
            .Chain("engine", ["6", "7"])
            .With("app", "engine", "6", "\"a[1-2]\"", "spares: [s1]")
            .With("front", "web", "1", "\"a[1-2]\"", "stands-on: [app]")
            .Chain("web", ["1"]);
        var index = fleet.Index(
            "  app/a1: {running: none}\n  app/s1: {running: \"6\"}\n  front/s1: {running: \"1\"}\n"
        );
        Assert.Equal(
            ["app/a2", "app/s1", "front/a2", "front/s1"],
            index.Components.SelectMany(c => c.Members).Select(m => m.Id)
        );
        Assert.Equal(["a1"], index.Estate.Find("app")!.SpareNodes);
        // A member that was not read has not moved.
        Assert.Equal(
            ["app/a1", "app/a2"],
            fleet.Index("  app/s1: {running: \"6\"}\n").Components[0].Members.Select(m => m.Id)
        );
    }

    [Fact]
    public void Several_owed_restarts_come_first_in_any_order_among_themselves()
    {
        var answer = Owing()
            .Node("n[1-2]")
            .With("app-b", "engine", "6", "\"n[1-2]\"")
            .Path("goal: [{component: other, to: 7}]", Due + Due.Replace("app/a", "app-b/n", StringComparison.Ordinal));
        Assert.Equal("app-b@7 app@7 other@7", Moves(answer));
        Assert.True(answer.Proved);
    }

    [Fact]
    public void What_owes_a_restart_moves_on_from_what_is_installed() =>
        Assert.Equal("app@7 app@8", Moves(Owing().Path("goal: [{component: app, to: 8}]", Due)));

    [Fact]
    public void A_pinned_component_that_owes_a_restart_is_left_and_said()
    {
        var answer = Owing().Path("goal: [{component: other, to: 7}]\npins: [app]", Due);
        Assert.Equal("other@7", Moves(answer));
        Assert.Contains(answer.Notes, n => n.Contains("pinned, so keep it from any restart", StringComparison.Ordinal));
    }

    [Fact]
    public void A_member_read_at_another_version_than_its_component_owes_no_restart()
    {
        var answer = Owing().Path("goal: [{component: app, to: 7}]", "  app/a1: {running: \"7\"}\n");
        Assert.Equal("app@7", Moves(answer));
        Assert.DoesNotContain(answer.Notes, n => n.Contains("owes", StringComparison.Ordinal));
    }
}
