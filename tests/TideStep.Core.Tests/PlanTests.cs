using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;

namespace TideStep.Core.Tests;

/// <summary>A plan says beforehand, step for step, what a run does; and what leads back from each part of it.</summary>
public sealed class PlanTests
{
    private const string Steps = """
        steps:
          stop: {do: {stop: x}, takes: 1 min, safe-after: true}
          look: {do: {command: [look]}}
          save: {do: {capture: save, paths: [/data]}, takes: 2 min}
          put: {do: {install: x, version: "{jump.to}"}, takes: 3 min}
          convert: {do: {command: [convert]}}
          back: {do: {command: [bring-back, "{point.place}"]}, takes: 4 min}
          start: {do: {start: x}, takes: 1 min}
        routines: {leave: [stop], return: [start], restore: {save: [stop, back, start]}}

        """;

    private static string Engine(string jump, string more = "", string steps = Steps) =>
        $"releases: {{\"1\": {{}}, \"2\": {{}}}}\njumps:\n  to-2: {{from: \"=1\", to: \"2\", {jump}}}\n{more}{steps}";

    private static Fleet Three(string jump, string more = "", string component = "") =>
        new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "1", "\"a[1-3]\"", component)
            .Product("engine", Engine(jump, more));

    private static Plan Of(Fleet fleet, string goal = "goal: [{component: app, to: 2}]")
    {
        var request = fleet.Request(goal);
        return Fleet.Good(PlanMaker.Make(request.Index, Fleet.Good(Paths.PathFinder.Find(request)), "e", "c"));
    }

    private static IEnumerable<string> Names(Block block, int lane = 0) => block.Lanes[lane].Steps.Select(s => s.Name);

    private const string Rolling = "methods: {rolling: {member: 5 min, settle: 2 min}}, change: [put]";
    private const string Down =
        "  down: {from: \"=2\", to: \"1\", down: true, methods: {rolling: {member: 5 min, settle: 2 min}}, "
        + "change: [put]}\n";

    [Fact]
    public void A_wave_leaves_changes_and_returns_and_then_is_waited_for()
    {
        var plan = Of(Three(Rolling));
        Assert.Equal(
            ["roll", "roll", "roll", "verify"],
            plan.Blocks.Select(b => b.Phase.ToString().ToLowerInvariant())
        );
        Assert.Equal(["stop", "put", "start", "in-step"], Names(plan.Blocks[0]));
        Assert.Equal(["app/a1"], plan.Blocks[0].Outgoing);
        Assert.Equal(TimeSpan.FromMinutes(2), plan.Blocks[0].Settle);
    }

    [Fact]
    public void A_point_that_needs_the_member_stopped_is_captured_between_leaving_and_changing() =>
        Assert.Equal(
            ["stop", "save", "put", "start", "in-step"],
            Names(Of(Three(Rolling + ", points: [{capture: save, while: stopped}]")).Blocks[0])
        );

    [Fact]
    public void A_point_that_needs_it_serving_is_captured_before_anybody_leaves()
    {
        var plan = Of(Three(Rolling + ", points: [{capture: save, while: serving}]"));
        Assert.Equal(Phase.Secure, plan.Blocks[0].Phase);
        Assert.All(plan.Blocks[0].Lanes.SelectMany(l => l.Steps), s => Assert.Equal("save", s.Name));
        Assert.Equal(plan.Points.Length, plan.Blocks[0].Lanes.Length);
    }

    [Fact]
    public void Work_ahead_comes_first_and_closing_work_once_after_all()
    {
        var plan = Of(Three(Rolling + ", ahead: [look], after-all: [convert], closes: convert"));
        Assert.Equal(Phase.Prepare, plan.Blocks[0].Phase);
        var close = Assert.Single(plan.Blocks, b => b.Phase == Phase.Close);
        Assert.Equal("convert", Assert.Single(Assert.Single(close.Lanes).Steps).Name);
        Assert.True(close.Number > plan.Blocks.Last(b => b.Phase == Phase.Roll).Number);
    }

    [Theory]
    [InlineData("first", "fetch: a1 a2 a3 | migrate: a1 | fill: a1 a2 a3")]
    [InlineData("site", "fetch: a1 a2 a3 | migrate: a1 | fill: a1 a2 a3")]
    [InlineData("member", "fetch: a1 a2 a3, migrate: a1 a2 a3, fill: a1 a2 a3")]
    [InlineData("last", "fetch: a1 a2 a3, fill: a1 a2 a3, migrate: a3")]
    public void What_one_member_does_ahead_for_the_others_is_done_before_they_go_on(string scope, string order)
    {
        var plan = Of(
            new Fleet()
                .Node("a[1-3]")
                .With("app", "engine", "1", "\"a[1-3]\"")
                .Product(
                    "engine",
                    "releases: {\"1\": {}, \"2\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", "
                        + "methods: {rolling: {member: 1 min, settle: 1 min}}, ahead: [fetch, migrate, fill], "
                        + "change: [put]}\nsteps:\n  fetch: {do: {command: [fetch]}}\n"
                        + $"  migrate: {{scope: {scope}, do: {{command: [migrate]}}}}\n"
                        + "  fill: {do: {command: [fill]}}\n  put: {do: {command: [put]}}\n"
                )
        );
        Assert.Equal(
            order,
            string.Join(
                " | ",
                plan.Blocks.Where(b => b.Phase == Phase.Prepare)
                    .Select(b =>
                        string.Join(
                            ", ",
                            b.Lanes.SelectMany(l => l.Steps)
                                .GroupBy(s => s.Name)
                                .Select(g => $"{g.Key}: {string.Join(' ', g.Select(s => s.Node))}")
                        )
                    )
            )
        );
    }

    [Fact]
    public void Texts_within_expressions_are_bound_like_those_of_actions()
    {
        Fleet Asking(string put) =>
            new Fleet()
                .Node("a[1-2]")
                .With("app", "engine", "1", "\"a[1-2]\"", "traits: {unit: 'wide\"one'}")
                .Product(
                    "engine",
                    "releases: {\"1\": {}, \"2\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", "
                        + "methods: {rolling: {member: 1 min, settle: 1 min}}, change: [put]}\n"
                        + "readings: {mode: {by: field, unit: text}}\n"
                        + $"steps:\n  put: {{do: {{command: [put]}}, {put}}}\n"
                );
        var step = Of(
            Asking(
                "already: 'file(\"/opt/{member.component}-{jump.to}\").exists', "
                    + "verify: {holds: 'mode = \"{member.node}\"', within: 1 min}"
            )
        )
            .Blocks.SelectMany(b => b.Lanes)
            .SelectMany(l => l.Steps)
            .First(s => s.Name == "put");
        Assert.Equal("file(\"/opt/app-2\").exists", step.Already!.Text);
        Assert.Equal("mode = \"a1\"", step.Verify!.Text);
        var quoted = Asking("already: 'mode = \"{trait.unit}\"'");
        Assert.Contains(
            PlanMaker.Make(quoted.Index(), quoted.Path("goal: [{component: app, to: 2}]"), "e", "c").Problems,
            p => p.What.Contains("has a quotation mark in it", StringComparison.Ordinal) && p.At is not null
        );
        var unknown = Core.Catalogue.ProductDocument.Read(
            "tidestep: product/1\nproduct: engine\nreadings: {mode: {by: field, unit: text}}\nsteps:\n"
                + "  put: {do: {command: [put]}, already: 'mode = \"{member.nod}\"'}\n",
            "p.yaml"
        );
        Assert.Contains(unknown.Problems, p =>
            p.What == "step put, already: nothing binds the placeholder {member.nod}" && p.At is { Line: 5 }
        );
    }

    [Fact]
    public void In_an_outage_dependants_stop_first_and_start_last_in_exact_reverse()
    {
        var fleet = Three("methods: {offline: {outage: 10 min, settle: 1 min}}, change: [put]")
            .Node("b1")
            .Node("c1")
            .With("middle", "other", "1", "b1", "depends-on: [app]")
            .With("top", "other", "1", "c1", "depends-on: [middle]")
            .Product("other", "releases: {\"1\": {}}\n" + Steps);
        var plan = Of(fleet);
        Assert.Equal(
            ["stop top", "stop middle", "stop app"],
            plan.Blocks.Where(b => b.Phase == Phase.Quiesce).Select(b => b.Title)
        );
        Assert.Equal(
            ["start app", "start middle", "start top"],
            plan.Blocks.Where(b => b.Phase == Phase.Resume).Select(b => b.Title)
        );
    }

    [Fact]
    public void What_stands_on_a_member_leaves_before_it_and_returns_after_it()
    {
        var fleet = Three(Rolling + ", restarts: node")
            .With("upper", "other", "1", "\"a[1-3]\"", "stands-on: [app]")
            .Product("other", "releases: {\"1\": {}}\n" + Steps);
        var members = Of(fleet).Blocks[0].Lanes[0].Steps.Select(s => s.Member).ToList();
        Assert.Equal("upper/a1", members[0]);
        Assert.Equal("upper/a1", members[^1]);
        Assert.Contains("app/a1", members);
    }

    [Fact]
    public void Every_step_has_a_name_of_its_own_and_what_is_written_in_braces_is_bound()
    {
        var steps = Of(Three(Rolling)).Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).ToList();
        Assert.Equal(steps.Count, steps.Select(s => s.Id).Distinct().Count());
        Assert.All(steps.Select(s => s.Do).OfType<InstallAction>(), i => Assert.Equal("2", i.Version));
    }

    [Fact]
    public void The_same_input_gives_the_same_plan_byte_for_byte_and_another_input_another_digest()
    {
        Assert.Equal(Json.Canonical(Of(Three(Rolling))), Json.Canonical(Of(Three(Rolling))));
        Assert.NotEqual(Of(Three(Rolling)).Digest, Of(Three(Rolling.Replace("5 min", "6 min"))).Digest);
    }

    [Fact]
    public void A_plan_reads_back_from_its_canonical_form_under_the_same_digest()
    {
        var plan = Of(Three(Rolling + ", points: [{capture: save, while: stopped}]"));
        Assert.Equal(
            plan.Digest,
            System.Text.Json.JsonSerializer.Deserialize<Plan>(Json.Canonical(plan), Json.Options)!.Digest
        );
    }

    [Fact]
    public void The_return_path_is_clean_by_a_jump_down()
    {
        var plan = Of(Three(Rolling, Down));
        Assert.All(plan.Blocks, b => Assert.Equal(ReturnState.Clean, b.Return.State));
        Assert.True(plan.Blocks[2].Return.Length > plan.Blocks[0].Return.Length);
    }

    [Fact]
    public void The_return_path_loses_what_was_written_where_only_points_lead_back() =>
        Assert.Contains(Of(Three(Rolling + ", points: [{capture: save, while: stopped}]")).Blocks, b =>
            b.Return.State == ReturnState.WithLoss && b.Return.Why.Contains("save", StringComparison.Ordinal)
        );

    [Fact]
    public void The_return_path_is_closed_where_nothing_leads_back_and_says_why()
    {
        var closed = Of(Three(Rolling)).Blocks[0].Return;
        Assert.Equal(ReturnState.Closed, closed.State);
        Assert.Contains("no way down to 1", closed.Why);
    }

    [Fact]
    public void The_closing_step_ends_a_way_down()
    {
        var plan = Of(Three(Rolling + ", after-all: [convert], closes: convert", Down));
        Assert.Equal(ReturnState.Clean, plan.Blocks.Last(b => b.Phase == Phase.Roll).Return.State);
        Assert.Equal(ReturnState.Closed, plan.Blocks.Single(b => b.Phase == Phase.Close).Return.State);
    }

    // A run of the plan in which so many blocks were done whole and nothing after them.
    private static RunState After(Plan plan, int blocks)
    {
        var state = new RunState(plan);
        var sequence = 0;
        void Append(RunEvent e) =>
            state.Apply(new JournalEntry("r", ++sequence, 1, DateTimeOffset.UnixEpoch.AddMinutes(sequence), e));
        Append(new Opened(plan.Digest, "", "Wren", null));
        Append(new Started("Wren"));
        foreach (var block in plan.Blocks.Take(blocks))
        {
            Append(new BlockEntered(block.Number));
            foreach (var step in block.Lanes.SelectMany(l => l.Steps))
            {
                Append(new StepBegun(step.Id));
                Append(new Intended(step.Id, $"a{sequence}", 1, step.Node, false));
                Append(
                    new AttemptEnded(step.Id, state.Of(step.Id).Attempts[^1].Id, AttemptEnd.Succeeded, 0, "", false)
                );
                if (step.Point is { } point)
                {
                    Append(new PointCaptured(step.Id, point, $"/points/{point}", 1, "ab", 1));
                    Append(new PointVerified(point, "whole"));
                }
                Append(new StepDone(step.Id, DoneHow.Done));
            }
            Append(new BlockDone(block.Number));
        }
        return state;
    }

    private static Checked<Plan> Return(Fleet fleet, int blocks) =>
        ReturnPlanner.Make(fleet.Index(), "r", After(Of(fleet), blocks), 1, "e", "c");

    [Fact]
    public void A_return_touches_only_what_was_changed_in_waves_of_its_own()
    {
        var plan = Fleet.Good(Return(Three(Rolling, Down), 2));
        Assert.Equal(
            ["app/a1", "app/a2"],
            plan.Blocks.Where(b => b.Phase == Phase.Roll).Select(b => b.Lanes[0].Subject)
        );
        Assert.All(
            plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => s.Do).OfType<InstallAction>(),
            i => Assert.Equal("1", i.Version)
        );
    }

    [Fact]
    public void A_return_by_points_uses_the_place_where_each_was_captured()
    {
        var plan = Fleet.Good(Return(Three(Rolling + ", points: [{capture: save, while: stopped}]"), 1));
        var restore = Assert.Single(plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps), s =>
            s.Name == "back"
        );
        Assert.Equal(["bring-back", "/points/app-a1-m1-save"], ((CommandAction)restore.Do).Arguments);
        Assert.Contains("is lost", Assert.Single(plan.Notes));
    }

    [Fact]
    public void A_joint_move_is_one_outage_in_which_what_others_need_is_changed_first()
    {
        const string offline = "methods: {offline: {outage: 10 min, settle: 1 min}}, change: [put]";
        var fleet = Three(offline + ", together: [{product: web, range: \">=2\"}]")
            .Node("b1")
            .With("front", "web", "1", "b1", "depends-on: [app]")
            .Product("web", Engine(offline + ", together: [{product: engine, range: \">=2\"}]"));
        var plan = Of(fleet);
        var move = Assert.Single(plan.Moves);
        Assert.Equal(["app", "front"], move.Jumps.Select(j => j.Component));
        Assert.Equal("app 1 to 2 with front 1 to 2", move.Words);
        Assert.Equal(
            [
                "stop front",
                "stop app",
                "app to 2, out of service",
                "front to 2, out of service",
                "start app",
                "start front",
                "every member of app runs 2",
                "every member of front runs 2",
            ],
            plan.Blocks.Select(b => b.Title)
        );
        Assert.All(plan.Blocks.Where(b => b.Phase == Phase.Roll), b => Assert.Equal(["app", "front"], b.ComponentsOut));
        // The longest settle time is shared, and begins when the last of what moved is back.
        Assert.Equal(
            [TimeSpan.Zero, TimeSpan.FromMinutes(1)],
            plan.Blocks.Where(b => b.Phase == Phase.Resume).Select(b => b.Settle)
        );
    }

    [Fact]
    public void Closing_work_between_two_jumps_of_one_outage_finds_the_component_up_by_itself()
    {
        const string offline = "methods: {offline: {outage: 10 min, settle: 1 min}}, change: [put]";
        var fleet = new Fleet()
            .Node("a1")
            .Node("b1")
            .With("app", "engine", "1", "a1")
            .With("front", "web", "1", "b1", "depends-on: [app]")
            .Product(
                "engine",
                $"releases: {{\"1\": {{}}, \"2\": {{}}, \"3\": {{}}}}\n"
                    + $"jumps:\n  to-2: {{from: \"=1\", to: \"2\", {offline}, after-all: [convert]}}\n"
                    + $"  to-3: {{from: \"=2\", to: \"3\", {offline}}}\nrules:\n"
                    + $"- {{this: \"=1\", serves: web, at: \"=1\", verdict: supported}}\n"
                    + $"- {{this: \"=3\", serves: web, at: \"=2\", verdict: supported}}\n{Steps}"
            )
            .Product("web", Engine(offline));
        var titles = Of(fleet, "goal: [{component: app, to: 3}]").Blocks.Select(b => b.Title).ToList();
        Assert.Equal(
            [
                "app to 2, out of service",
                "start app 2 by itself",
                "closing work of app 2",
                "stop app 2 again",
                "app to 3, out of service",
                "front to 2, out of service",
            ],
            titles.Skip(2).Take(6)
        );
    }

    private const string Replacing = "methods: {replace: {member: 5 min, settle: 2 min}}, change: [put]";

    private static string Joining => Steps.Replace("routines: {", "routines: {join: [look], retire: [stop], ");

    private static Fleet Replaced(string spares, string jump = Replacing) =>
        new Fleet()
            .Node("a[1-3]")
            .Node("s[1-2]")
            .With("app", "engine", "1", "\"a[1-3]\"", $"guard: {{keep: 3}}, spares: {spares}")
            .Product("engine", Engine(jump, steps: Joining));

    [Fact]
    public void A_replaced_member_leaves_after_another_joined_and_its_node_serves_the_next()
    {
        var plan = Of(Replaced("[s1]"));
        Assert.Equal(
            ["app/s1", "app/a1", "app/a1", "app/a2", "app/a2", "app/a3"],
            plan.Blocks.Where(b => b.Phase == Phase.Roll).Select(b => b.Lanes[0].Subject)
        );
        Assert.Equal(["put", "look", "in-step"], Names(plan.Blocks[0]));
        Assert.Equal(["stop", "stop"], Names(plan.Blocks[1]));
        Assert.Equal(
            ["app/a1", "app/a2", "app/s1"],
            plan.Blocks.Single(b => b.Phase == Phase.Verify).Lanes.Select(l => l.Subject)
        );
        Assert.Equal(3, plan.Moves[0].Waves);
        Assert.Contains(plan.Notes, n => n.Contains("runs on a1, a2, s1; a3 is free", StringComparison.Ordinal));
        // Without a jump down nothing leads a replacement back, from its first new member on.
        Assert.All(plan.Blocks, b => Assert.Equal(ReturnState.Closed, b.Return.State));
        Assert.Contains(
            "no jump down by 'replace' brings the old ones back",
            Assert.Single(ReturnPlanner.Make(Replaced("[s1]").Index(), "r", After(plan, 2), 1, "e", "c").Problems).What
        );
    }

    private const string ReplacedBack =
        "methods: {replace: {member: 5 min, settle: 2 min}}, change: [put]}\n"
        + "  back: {from: \"=2\", to: \"1\", down: true, methods: {replace: {member: 3 min, settle: 1 min}}, "
        + "change: [put]";

    [Fact]
    public void A_replacement_is_led_back_by_replacing_on_the_nodes_that_are_free_then()
    {
        var fleet = Replaced("[s1]", ReplacedBack);
        var plan = Of(fleet);
        Assert.Equal([4, 4, 8, 8, 12, 12, 12], plan.Blocks.Select(b => (int)b.Return.Length.TotalMinutes));
        Assert.All(plan.Blocks, b =>
            Assert.Equal((ReturnState.Clean, "app by jump back"), (b.Return.State, b.Return.Why))
        );
        // After two of three: the new ones give way, each to the node that is free; the third was never touched.
        var back = Fleet.Good(ReturnPlanner.Make(fleet.Index(), "r", After(plan, 4), 1, "e", "c"));
        Assert.Equal(
            ["app/a2", "app/a1", "app/a1", "app/s1"],
            back.Blocks.Where(b => b.Phase == Phase.Roll).Select(b => b.Lanes[0].Subject)
        );
        Assert.Equal(
            ["app/a1", "app/a2", "app/a3"],
            back.Blocks.Single(b => b.Phase == Phase.Verify).Lanes.Select(l => l.Subject)
        );
        Assert.Equal("1", back.Moves[0].To);
    }

    [Fact]
    public void What_stands_on_a_replaced_member_comes_back_with_it()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .Node("s1")
            .With("base", "engine", "1", "\"a[1-2]\"", "guard: {keep: 2}, spares: [s1]")
            .With("front", "web", "1", "\"a[1-2]\"", "stands-on: [base]")
            .Product("engine", Engine(ReplacedBack, steps: Joining))
            .Product("web", Engine(Rolling, steps: Joining));
        var plan = Of(fleet, "goal: [{component: base, to: 2}]");
        var back = Fleet.Good(ReturnPlanner.Make(fleet.Index(), "r", After(plan, plan.Blocks.Length), 1, "e", "c"));
        Assert.Contains(
            "front/s1",
            plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => s.Member)
        );
        Assert.Equal(["base/a2", "front/a2"], Members(back, 0));
        Assert.Equal(["base/a1", "front/a1"], Members(back, 1));
        static IEnumerable<string> Members(Plan plan, int block) =>
            plan
                .Blocks.Where(b => b.Phase == Phase.Roll)
                .ElementAt(block)
                .Lanes.SelectMany(l => l.Steps)
                .Select(s => s.Member)
                .Distinct()
                .Order(StringComparer.Ordinal);
    }

    [Fact]
    public void As_many_are_replaced_at_once_as_there_are_spares_and_without_their_names_there_is_no_plan()
    {
        Assert.Equal(4, Of(Replaced("[s1, s2]")).Blocks.Count(b => b.Phase == Phase.Roll));
        var request = Replaced("1").Request("goal: [{component: app, to: 2}]");
        var problem = Assert.Single(
            PlanMaker.Make(request.Index, Fleet.Good(Paths.PathFinder.Find(request)), "e", "c").Problems
        );
        Assert.Contains("spare nodes are not named", problem.What);
    }

    [Fact]
    public void A_return_that_is_closed_says_by_what()
    {
        var closed = Return(Three(Rolling), 1);
        Assert.False(closed.Ok);
        Assert.Contains("closed", Assert.Single(closed.Problems).What);
    }

    [Fact]
    public void Where_nothing_was_changed_there_is_nothing_to_return() =>
        Assert.Empty(Fleet.Good(Return(Three(Rolling), 0)).Blocks);

    [Fact]
    public void Side_by_side_the_new_version_is_installed_while_the_old_one_serves_and_only_the_switch_is_an_outage()
    {
        var plan = Of(
            Three(
                "methods: {side-by-side: {install: 30 min, outage: 6 min, settle: 1 min}}, ahead: [look], change: [put]"
            )
        );
        Assert.Equal(
            [Phase.Prepare, Phase.Quiesce, Phase.Roll, Phase.Resume, Phase.Verify],
            plan.Blocks.Select(b => b.Phase)
        );
        Assert.Equal(TimeSpan.FromMinutes(30), plan.Blocks[0].Expected);
        Assert.Empty(plan.Blocks[0].ComponentsOut);
        Assert.Equal(["put"], Names(plan.Blocks[2]));
        Assert.Equal(["app"], plan.Blocks[2].ComponentsOut);
        Assert.Equal(TimeSpan.FromMinutes(6), plan.Blocks[2].Expected);
    }
}

public sealed class FoundMixedTests
{
    [Theory]
    [InlineData("app/n3", "7")]
    [InlineData("app/n1", "7")]
    public void A_plan_is_made_though_one_member_was_upgraded_by_somebody_else_and_a_way_down_exists(
        string member,
        string running
    )
    {
        var fleet = new Fleet()
            .Node("n[1-3]", "site: s")
            .With("app", "engine", "6", "\"n[1-3]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 1 min, settle: 1 min}}, change: [put]}\n"
                    + "  to-6: {from: \"=7\", to: \"6\", down: true, methods: {rolling: {member: 1 min, settle: 1 "
                    + "min}}, change: [put]}\nsteps:\n  put: {do: {install: x, version: \"{jump.to}\"}}\n"
            );
        var read = $"  {member}: {{running: \"{running}\"}}\n";
        var plan = Fleet.Good(
            PlanMaker.Make(fleet.Index(read), fleet.Path("goal: [{component: app, to: 7}]", read), "e", "c")
        );
        Assert.DoesNotContain(plan.Blocks.SelectMany(b => b.Lanes), l =>
            l.Subject == member && l.Steps.Any(s => s.Name == "put")
        );
        Assert.Equal(2, plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Count(s => s.Name == "put"));
    }
}
