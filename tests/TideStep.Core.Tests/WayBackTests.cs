using TideStep.Core.Catalogue;
using TideStep.Core.Plans;
using TideStep.Core.Returns;

namespace TideStep.Core.Tests;

/// <summary>What a plan promises of its return holds: points as sets, what is lost, what is closed and why, and how far
/// one can still return.</summary>
public sealed class WayBackTests
{
    private const string Steps =
        "steps:\n  put: {do: {command: [put]}}\n  start: {do: {start: x}}\n  wipe: {do: {command: [wipe]}, "
        + "voids: [save]}\n"
        + "  save: {do: {capture: save}}\n  note: {do: {capture: note}}\n"
        + "  load: {do: {command: [load, \"{point.place}\"]}, takes: 3 min}\n"
        + "  set: {do: {command: [set, \"{point.place}\"]}, takes: 1 min}\n";

    private static Fleet One(
        string jump,
        string restore = "restore: {save: [load], note: [set]}",
        string rest = "",
        string members = "\"a[1-2]\"",
        string steps = Steps,
        string down = "",
        string method = "offline: {outage: 5 min}"
    ) =>
        new Fleet()
            .Node("a[1-2]", "site: s, traits: {kind: plain}")
            .With("app", "engine", "1", members, rest)
            .Product(
                "engine",
                $"releases: {{\"1\": {{}}, \"2\": {{}}, \"3\": {{}}}}\njumps:\n  up: {{from: \"=1\", to: \"2\", "
                    + $"methods: {{{method}}}, change: [put], {jump}}}\n"
                    + "  on: {from: \"=2\", to: \"3\", methods: {offline: {outage: 5 min}}, change: [put]}\n"
                    + $"{down}routines: {{{restore}}}\n{steps}"
            );

    private const string Both = "points: [{capture: note, while: stopped}, {capture: save, while: stopped}]";

    private static Plan Planned(Fleet fleet, string goal = "goal: [{component: app, to: 2}]") =>
        Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path(goal), "e", "c"));

    private static ReturnPath AtEnd(Plan plan) => plan.Blocks[^1].Return;

    [Fact]
    public void All_points_of_a_jump_are_one_set_restored_in_their_order()
    {
        var plan = Planned(One(Both));
        Assert.Equal((ReturnState.WithLoss, TimeSpan.FromMinutes(4)), (AtEnd(plan).State, AtEnd(plan).Length));
        var back = Fleet.Good(ReturnPlanner.PathFrom(One(Both).Index(), plan, plan.Blocks.Length, 1));
        Assert.Equal(["note", "save"], Assert.Single(back.Moves).Jump.Restores);
    }

    [Fact]
    public void A_set_of_which_one_point_became_void_leads_nowhere()
    {
        var plan = Planned(One(Both.Replace("points", "after-all: [wipe], points")));
        Assert.Equal(ReturnState.Closed, AtEnd(plan).State);
        var wiping = Assert.Single(plan.Blocks, b => !b.VoidsCaptures.IsEmpty);
        Assert.Equal(["app/save"], wiping.VoidsCaptures);
        Assert.Equal(["app-a1-m1-save", "app-a2-m1-save"], wiping.Voids);
    }

    [Fact]
    public void A_point_of_the_whole_component_covers_every_member_is_taken_once_and_restored_once()
    {
        var fleet = One("points: [{capture: save, while: stopped, per: component}]");
        var plan = Planned(fleet);
        Assert.Equal("app-a1-m1-save", Assert.Single(plan.Points).Id);
        Assert.Equal((ReturnState.WithLoss, TimeSpan.FromMinutes(3)), (AtEnd(plan).State, AtEnd(plan).Length));
        var standing = new Standing(fleet.Index());
        foreach (var block in plan.Blocks)
        foreach (var step in block.Lanes.SelectMany(l => l.Steps))
            standing.Take(step, block);
        var its = standing.Changed["app"];
        var restore = Assert.Single(its.Ways, ComponentStanding.IsRestore);
        Assert.Equal("save", Assert.Single(its.PointsFor(restore, "app/a1")).Kind);
        Assert.Empty(its.PointsFor(restore, "app/a2"));
    }

    [Theory]
    [InlineData("offline: {outage: 2 min}")]
    [InlineData("rolling: {member: 2 min}")]
    public void A_point_of_the_whole_component_is_captured_before_any_member_is_changed(string method)
    {
        var plan = Planned(
            One(
                "points: [{capture: save, while: stopped, per: component}]",
                rest: "guard: {keep: 0, at-once: 2}",
                method: method
            )
        );
        var (captured, changed) = (
            plan.Blocks.First(b => b.Lanes.Any(l => l.Steps.Any(s => s.Point is not null))),
            plan.Blocks.First(b => b.Lanes.Any(l => l.Steps.Any(s => s.Name == "put" && s.Member == "app/a2")))
        );
        Assert.True(captured.Number < changed.Number);
    }

    [Fact]
    public void What_one_member_captured_for_all_is_behind_at_once_where_the_others_go_on_serving()
    {
        var plan = Planned(
            One("points: [{capture: save, while: stopped, per: component}]", method: "rolling: {member: 2 min}")
        );
        Assert.Equal(
            ReturnState.WithLoss,
            plan.Blocks.First(b => b.Lanes.Any(l => l.Steps.Any(s => s.Point is not null))).Return.State
        );
    }

    [Fact]
    public void A_point_that_is_not_captured_on_this_kind_of_host_is_not_listed_and_not_counted()
    {
        var conditional = Steps.Replace(
            "note: {do: {capture: note}}",
            "note: {do: {capture: note}, for: {kind: wide}}"
        );
        var plan = Planned(One(Both, steps: conditional));
        Assert.Equal(["save", "save"], plan.Points.Select(p => p.Kind));
        Assert.Equal(TimeSpan.FromMinutes(3), AtEnd(plan).Length);
        var only = Planned(One("points: [{capture: note, while: stopped}]", steps: conditional));
        Assert.Empty(only.Points);
        Assert.Equal(ReturnState.Closed, AtEnd(only).State);
    }

    [Fact]
    public void A_service_that_is_started_while_it_is_changed_serves_and_that_is_loss()
    {
        ReturnState AfterTheChange(string change) =>
            Planned(One(Both, steps: Steps.Replace("put: {do: {command: [put]}}", change)))
                .Blocks.First(b => b.Phase == Phase.Roll)
                .Return.State;
        Assert.Equal(ReturnState.Clean, AfterTheChange("put: {do: {command: [put]}}"));
        Assert.Equal(ReturnState.WithLoss, AfterTheChange("put: {do: {start: engine}}"));
        Assert.Equal(ReturnState.WithLoss, AfterTheChange("put: {do: {restart: engine}}"));
    }

    [Fact]
    public void A_way_back_that_nothing_binds_is_closed_with_its_place()
    {
        // The trait stands in the component's document, so nothing is wrong with the product by itself.
        var unbound = Steps.Replace("\"{point.place}\"]}, takes: 3", "\"{trait.room}\"]}, takes: 3");
        var plan = Planned(One(Both, steps: unbound));
        Assert.All(plan.Blocks.Where(b => b.Phase == Phase.Roll), b =>
            Assert.Equal(ReturnState.Closed, b.Return.State)
        );
        Assert.Contains("nothing binds the placeholder {trait.room}", AtEnd(plan).Why);
        Assert.Contains("engine.yaml:", AtEnd(plan).Why);
        Assert.Equal(
            ReturnState.WithLoss,
            AtEnd(Planned(One(Both, steps: unbound, rest: "traits: {room: big}"))).State
        );
    }

    private const string Down =
        "  down: {from: \"=2\", to: \"1\", down: true, methods: {offline: {outage: 2 min}}, change: [put]CONVERTS}\n";

    [Fact]
    public void What_converted_data_is_led_back_only_by_what_converts_them_back()
    {
        Assert.Equal(ReturnState.Clean, AtEnd(Planned(One("answers: []", down: Down.Replace("CONVERTS", "")))).State);
        Plan Converted(string back) => Planned(One("converts: [the store]", down: Down.Replace("CONVERTS", back)));
        Assert.Equal(ReturnState.Closed, AtEnd(Converted("")).State);
        Assert.Equal(ReturnState.Clean, AtEnd(Converted(", converts-back: true")).State);
    }

    [Fact]
    public void Beside_what_is_closed_stands_how_far_one_can_still_return()
    {
        // The first jump leads nowhere back, the second does.
        const string down =
            "  down: {from: \"=3\", to: \"2\", down: true, methods: {offline: {outage: 2 min}}, change: [put]}\n";
        var plan = Planned(One("answers: []", down: down), "goal: [{component: app, to: 3}]");
        Assert.Equal(ReturnState.Closed, AtEnd(plan).State);
        Assert.Equal(new PartialReturn(2, ReturnState.Clean, TimeSpan.FromMinutes(2)), AtEnd(plan).Partly);
        Assert.Null(plan.Blocks.First(b => b.Return.State == ReturnState.Closed).Return.Partly);
        var back = Fleet.Good(
            ReturnPlanner.PathFrom(One("answers: []", down: down).Index(), plan, plan.Blocks.Length, 1)
        );
        Assert.Contains(back.Notes, n =>
            n.Contains("as far as the beginning of move 2: 2 min", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void How_far_one_can_return_is_found_behind_many_moves_that_nothing_leads_back()
    {
        // Twenty-five jumps up and one down, from the last.
        var releases = Enumerable.Range(1, 26).ToList();
        var fleet = new Fleet()
            .Node("a1")
            .With("app", "engine", "1", "a1")
            .Product(
                "engine",
                $"releases: {{{string.Join(", ", releases.Select(r => $"\"{r}\": {{}}"))}}}\njumps:\n"
                    + string.Concat(releases.Skip(1).Select(r => Offline($"to-{r}", r - 1, r, "")))
                    + Offline("down", 26, 25, ", down: true")
                    + Steps
            );
        var plan = Planned(fleet, "goal: [{component: app, to: 26}]");
        var back = Fleet.Good(ReturnPlanner.PathFrom(fleet.Index(), plan, plan.Blocks.Length, 1));
        Assert.False(back.Found);
        Assert.Contains("as far as the beginning of move 25: 1 min", Assert.Single(back.Notes));

        static string Offline(string id, int from, int to, string rest) =>
            $"  {id}: {{from: \"={from}\", to: \"{to}\", methods: {{offline: {{outage: 1 min}}}}, "
            + $"change: [put]{rest}}}\n";
    }

    [Fact]
    public void What_is_made_ready_early_is_no_part_of_its_moves_beginning()
    {
        var fleet = One("ahead: [put]", down: Down.Replace("CONVERTS", "")).Node("b1").With("web", "engine", "1", "b1");
        const string goal = "goal: [{component: web, to: 2}, {component: app, to: 2}]";
        Plan Made(string early) => Planned(fleet, goal + early);
        foreach (var plan in new[] { Made(""), Made("\nearly: [app, web]") })
        {
            var second = plan.Moves.Single(m => m.Number == 2).Component;
            var back = Fleet.Good(ReturnPlanner.PathFrom(fleet.Index(), plan, plan.Blocks.Length, 2));
            Assert.Equal(second, Assert.Single(back.Moves).Component);
        }
    }

    private static Fleet Related(string wish) =>
        One($"points: [{wish}]", restore: "restore: {}")
            .Node("b[1-2]")
            .With("shop", "front", "1", "\"b[1-2]\"", "depends-on: [app]")
            .Product(
                "front",
                "releases: {\"1\": {}}\nroutines: {leave: [halt], return: [halt]}\n"
                    + "steps: {save: {do: {capture: save}}, halt: {do: {command: [halt]}}}\n"
            );

    [Theory]
    [InlineData("{capture: save, of: front, while: serving}", Phase.Secure)]
    [InlineData("{capture: save, of: front, while: stopped}", Phase.Quiesce)]
    public void Data_of_what_is_related_are_captured_before_the_own_quiesce(string wish, Phase phase)
    {
        var plan = Planned(Related(wish));
        Assert.Equal(["shop-b1-m1-save", "shop-b2-m1-save"], plan.Points.Select(p => p.Id));
        Assert.All(plan.Points, p => Assert.Equal("1", p.Version));
        var taken = plan.Blocks.First(b => b.Lanes.Any(l => l.Steps.Any(s => s.Point is not null)));
        Assert.Equal(phase, taken.Phase);
        Assert.True(
            plan.Blocks.Where(b => b.Lanes.Any(l => l.Steps.Any(s => s.Member == "app/a1")))
                .All(b => b.Number > taken.Number)
        );
    }

    [Fact]
    public void A_point_of_nobody_is_said_at_its_place()
    {
        var other = One("points: [{capture: save, of: front, while: serving}]");
        var made = PlanMaker.Make(other.Index(), other.Path("goal: [{component: app, to: 2}]"), "e", "c");
        Assert.Contains(made.Problems, p =>
            p.What.Contains("wants save of front while it serves", StringComparison.Ordinal) && p.At is not null
        );
        var review = CatalogueReview.Of(other.Catalogue);
        Assert.Contains(review, p => p.What.Contains("wants a point of 'front'", StringComparison.Ordinal));
        Assert.Contains(CatalogueReview.Of(Related("{capture: halt, of: front, while: serving}").Catalogue), p =>
            p.What.Contains("captures nothing there", StringComparison.Ordinal) && p.At is not null
        );
    }

    private static Fleet First(string app = "depends-on: [{db: optional}]") =>
        new Fleet()
            .Node("a[1-2]")
            .Node("b1")
            .With("app", "engine", "none", "\"a[1-2]\"", app)
            .With("db", "store", "1", "b1")
            .Product(
                "engine",
                "releases: {\"1\": {}}\njumps:\n  first: {from: none, to: \"1\", methods: {offline: {outage: 2 min}}, "
                    + "change: [put]}\nrules: [{this: \"1\", depends-on: store, at: \"*\", verdict: supported}]\n"
                    + "routines: {leave: [stop], return: [start]}\nsteps: {put: {do: {install: x, version: "
                    + "\"{jump.to}\"}}, start: {do: {start: x}}, stop: {do: {stop: x}}}\n"
            )
            .Product(
                "store",
                "releases: {\"1\": {}, \"2\": {}}\njumps:\n  up: {from: \"=1\", to: \"2\", methods: {offline: "
                    + "{outage: 1 min}}, change: [put]}\n  down: {from: \"=2\", to: \"1\", down: true, methods: "
                    + "{offline: {outage: 1 min}}, change: [put]}\nsteps: {put: {do: {command: [put]}}}\n"
            );

    [Fact]
    public void What_is_installed_for_the_first_time_has_its_steps_and_no_way_back()
    {
        var fleet = First();
        var plan = Planned(fleet, "goal: [{component: app, to: 1}]");
        Assert.Equal(
            ["put a1", "put a2", "start a1", "start a2"],
            plan.Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s => s.Name != "in-step")
                .Select(s => $"{s.Name} {s.Node}")
        );
        Assert.All(plan.Blocks, b => Assert.Equal(ReturnState.Closed, b.Return.State));
        Assert.Contains("installed for the first time", plan.Blocks[0].Return.Why);
        Assert.All(plan.Blocks, b => Assert.Empty(b.ComponentsOut));
        var back = Fleet.Good(ReturnPlanner.PathFrom(fleet.Index(), plan, plan.Blocks.Length, 1));
        Assert.False(back.Found);
        Assert.Contains(back.Notes, n => n.Contains("installed for the first time", StringComparison.Ordinal));
    }

    [Fact]
    public void Beside_a_first_installation_one_can_still_return_as_far_as_the_move_after_it()
    {
        var fleet = First();
        var plan = Planned(fleet, "goal: [{component: app, to: 1}, {component: db, to: 2}]");
        Assert.Equal(["app", "db"], plan.Moves.Select(m => m.Component));
        var last = plan.Blocks[^1].Return;
        Assert.Equal((ReturnState.Closed, 2), (last.State, last.Partly!.Move));
        Assert.True(Fleet.Good(ReturnPlanner.PathFrom(fleet.Index(), plan, plan.Blocks.Length, 2)).Found);
    }

    [Theory]
    [InlineData("depends-on: [{db: optional}]", "goal: [{component: db, to: 2}]")]
    [InlineData("depends-on: [{db: optional}]", "goal: [{component: app, to: 1}, {component: db, to: 2}]")]
    [InlineData("depends-on: [db]", "goal: [{component: db, to: 2}]")]
    public void What_runs_nothing_and_is_needed_by_nobody_keeps_no_large_estate_from_its_proof(string app, string goal)
    {
        var fleet = First(app).Node("c[1-20]");
        for (var i = 1; i <= 14; i++)
            fleet.With($"db{i}", "store", "1", $"c{i}");
        var found = Fleet.Good(Core.Paths.PathFinder.Find(fleet.Request(goal) with { Small = false }));
        Assert.True(found.Proved);
        // Only what the goal names moves; twins and what runs nothing stay.
        Assert.Equal(
            new[] { "app", "db" }.Where(c => goal.Contains($"component: {c},", StringComparison.Ordinal)),
            found.Moves.Select(m => m.Jumps[0].Component).Order(StringComparer.Ordinal)
        );
    }
}
