using CsCheck;
using TideStep.Core.Plans;
using TideStep.Core.Returns;

namespace TideStep.Core.Tests;

/// <summary>Returning is planning: the best path of reverse moves, from any row of a plan.</summary>
public sealed class ReturnPathTests
{
    private const string Steps =
        "steps: {put: {do: {command: [x]}, takes: 1 min}, convert: {do: {command: [c]}}, save: {do: "
        + "{capture: save}}, load: {do: {command: [l]}, takes: 3 min}, copy: {do: {command: [r]}, takes: 2 min}}\n";

    private static Plan Of(Fleet fleet, string goal) =>
        Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path(goal), "e", "c"));

    [Fact]
    public void What_a_row_says_of_its_return_path_is_what_a_search_finds() =>
        Gen.Int[0, int.MaxValue]
            .Sample(
                seed =>
                {
                    var (fleet, goal) = TinyEstates.WithWaysBack(seed);
                    var index = fleet.Index();
                    var path = fleet.Path(goal);
                    if (!path.Found || path.AlreadyMet)
                        return;
                    var plan = Fleet.Good(PlanMaker.Make(index, path, "e", "c"));
                    foreach (var block in plan.Blocks)
                    {
                        var back = Fleet.Good(ReturnPlanner.PathFrom(index, plan, block.Number, 1));
                        Assert.Equal(block.Return.State != ReturnState.Closed, back.Found);
                        if (!back.Found)
                            continue;
                        Assert.Equal(
                            block.Return.Length,
                            back.Moves.Aggregate(TimeSpan.Zero, (sum, m) => sum + m.Takes)
                        );
                        Assert.Equal(
                            block.Return.State == ReturnState.WithLoss,
                            back.Moves.SelectMany(m => m.Jumps).Any(j => j.Jump.Closes is not null)
                        );
                    }
                },
                iter: 300
            );

    [Fact]
    public void It_goes_another_way_than_the_plan_came_where_that_loses_nothing()
    {
        // Up in two jumps, the second of which no jump leads back from by itself; one jump leads down past both.
        var fleet = new Fleet()
            .Node("a[1-2]")
            .With("app", "engine", "1", "\"a[1-2]\"")
            .Product(
                "engine",
                "releases: {\"1\": {}, \"2\": {}, \"3\": {}}\njumps:\n"
                    + "  to-2: {from: \"=1\", to: \"2\", methods: {rolling: {member: 5 min}}, change: [put]}\n"
                    + "  to-3: {from: \"=2\", to: \"3\", methods: {rolling: {member: 5 min}}, change: [put], "
                    + "points: [{capture: save, while: serving}]}\n"
                    + "  down: {from: \"=3\", to: \"1\", down: true, methods: {rolling: {member: 4 min}}, "
                    + "change: [put]}\nroutines: {restore: {save: [load]}}\n"
                    + Steps
            );
        var plan = Of(fleet, "goal: [{component: app, to: 3}]");
        var back = Fleet.Good(ReturnPlanner.PathFrom(fleet.Index(), plan, plan.Blocks.Length, 1));
        Assert.Equal("down", Assert.Single(back.Moves).Jump.Id);
        Assert.Equal(
            (ReturnState.Clean, TimeSpan.FromMinutes(8)),
            (plan.Blocks[^1].Return.State, plan.Blocks[^1].Return.Length)
        );
    }

    [Fact]
    public void States_on_the_way_back_must_be_allowed_too()
    {
        // The front may only meet an engine that is as new: it has to go back first, as it came last.
        var fleet = new Fleet()
            .Node("a1")
            .Node("b1")
            .With("app", "engine", "1", "a1")
            .With("front", "web", "1", "b1", "depends-on: [app]")
            .Product(
                "engine",
                "releases: {\"1\": {}, \"2\": {}}\njumps:\n  up: {from: \"=1\", to: \"2\", methods: "
                    + "{offline: {outage: 5 min}}, change: [put]}\n  back: {from: \"=2\", to: \"1\", down: true, "
                    + "methods: {offline: {outage: 5 min}}, change: [put]}\n"
                    + Steps
            )
            .Product(
                "web",
                "releases: {\"1\": {}, \"2\": {}}\nrules:\n- {depends-on: engine, by: major, newer-by: 0, "
                    + "older-by: 1}\njumps:\n  up: {from: \"=1\", to: \"2\", methods: {offline: {outage: 1 min}}, "
                    + "change: [put]}\n  back: {from: \"=2\", to: \"1\", down: true, methods: {offline: {outage: 1 "
                    + "min}}, change: [put]}\n"
                    + Steps
            );
        var plan = Of(fleet, "goal: [{component: front, to: 2}, {component: app, to: 2}]");
        Assert.Equal(["app", "front"], plan.Moves.Select(m => m.Component));
        Assert.Equal(
            ["front@1", "app@1"],
            Fleet.Good(ReturnPlanner.PathFrom(fleet.Index(), plan, plan.Blocks.Length, 1)).Moves.Select(m => m.Written)
        );
        Assert.Equal(
            ["front@1"],
            Fleet.Good(ReturnPlanner.PathFrom(fleet.Index(), plan, plan.Blocks.Length, 2)).Moves.Select(m => m.Written)
        );
    }

    [Theory]
    [InlineData("stopped", ReturnState.Clean)] // captured out of service: nothing was written till it serves again
    [InlineData("serving", ReturnState.WithLoss)]
    public void A_restore_loses_what_was_served_since_its_capture(string when, ReturnState whileOut)
    {
        var fleet = new Fleet()
            .Node("a1")
            .With("app", "engine", "1", "a1")
            .Product(
                "engine",
                $"releases: {{\"1\": {{}}, \"2\": {{}}}}\njumps:\n  up: {{from: \"=1\", to: \"2\", methods: "
                    + $"{{offline: {{outage: 5 min}}}}, points: [{{capture: save, while: {when}}}], change: "
                    + $"[put]}}\nroutines: {{restore: {{save: [load]}}}}\n"
                    + Steps
            );
        var plan = Of(fleet, "goal: [{component: app, to: 2}]");
        Assert.Equal(whileOut, plan.Blocks.Single(b => b.Phase == Phase.Roll).Return.State);
        Assert.Equal(ReturnState.WithLoss, plan.Blocks.Single(b => b.Phase == Phase.Resume).Return.State);
        Assert.Equal(TimeSpan.FromMinutes(3), plan.Blocks[^1].Return.Length);
    }

    [Fact]
    public void A_member_of_a_component_that_votes_is_reseeded_while_others_are_still_as_before()
    {
        var fleet = new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "1", "\"a[1-3]\"", "roles: {leader: a1, follower: [a2, a3]}")
            .Product(
                "engine",
                "releases: {\"1\": {}, \"2\": {}}\njumps:\n  up: {from: \"=1\", to: \"2\", methods: "
                    + "{rolling: {member: 5 min}}, points: [{capture: save, while: serving}], change: [put], "
                    + "after-all: [convert], closes: convert}\nroutines: {restore: {save: [load], reseed: [copy]}}\n"
                    + Steps
            );
        var plan = Of(fleet, "goal: [{component: app, to: 2}]");
        var rolled = plan.Blocks.Where(b => b.Phase == Phase.Roll).Select(b => b.Return).ToList();
        Assert.Equal(
            [(ReturnState.Clean, 2.0), (ReturnState.Clean, 4.0), (ReturnState.WithLoss, 3.0)],
            rolled.Select(r => (r.State, r.Length.TotalMinutes))
        );
    }
}
