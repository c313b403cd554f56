using TideStep.Core.Catalogue;
using TideStep.Core.Checks;
using TideStep.Core.Paths;
using TideStep.Core.Plans;

namespace TideStep.Core.Tests;

/// <summary>What an answer says beside its moves: who vouches for what, what nothing can answer, why somebody is
/// out.</summary>
public sealed class PathNotesTests
{
    private static readonly DateTimeOffset _now = Nights.At(0, 12);

    private static Fleet Pair(string rules, string relation = "depends-on: [db]", string jump = "") =>
        new Fleet()
            .Node("a[1-3]")
            .Node("b[1-3]")
            .Product(
                "engine",
                $"releases: {{\"6\": {{}}, \"7\": {{since: {Nights.On(-394)}}}}}\njumps:\n"
                    + $"  to-7: {{from: \"=6\", to: \"7\"{jump}, methods: {{offline: {{outage: 4 min}}}}}}\n{rules}"
            )
            .Chain("store", ["1", "2"])
            .With("app", "engine", "6", "\"a[1-3]\"", relation)
            .With("db", "store", "1", "\"b[1-3]\"");

    private static IEnumerable<Finding> Checked(Fleet fleet, PathAnswer path) =>
        PlanChecks
            .Of(fleet.Index(), Fleet.Good(PlanMaker.Make(fleet.Index(), path, "e", "c")), new CheckContext(_now))
            .Findings;

    private const string OldNote =
        "rules: [{this: \">=6\", depends-on: store, at: \"1\", verdict: supported, "
        + "source: {title: Old sheet, date: @-611}}]";

    [Fact]
    public void A_release_that_only_an_older_note_reaches_is_a_caution_with_both_dates()
    {
        var fleet = Pair(Nights.In(OldNote));
        var path = fleet.Path("goal: [{component: app, to: 7}]");
        var pair = Assert.Single(path.Pairs);
        Assert.Equal(PairNote.Stretched, pair.Note);
        Assert.Contains(Nights.On(-611), pair.Why);
        Assert.Contains(Nights.On(-394), pair.Why);
        var finding = Assert.Single(Checked(fleet, path), f => f.Check == "old-note");
        Assert.Equal((Level.Caution, CheckResult.Failed), (finding.Level, finding.Result));
    }

    [Theory]
    [InlineData(
        "rules: [{this: \">=6 <8\", depends-on: store, at: \"1\", verdict: supported, source: {title: t, "
            + "date: @-611}}]"
    )]
    [InlineData(
        "rules: [{this: \">=6\", depends-on: store, at: \"1\", verdict: supported, source: {title: t, date: "
            + "@-393}}]"
    )]
    [InlineData(OldNote + "\n")]
    public void A_closed_range_a_newer_note_or_another_rule_is_none(string rules)
    {
        if (rules.StartsWith(OldNote, StringComparison.Ordinal))
            rules = OldNote.Replace("]", ", {this: 7, depends-on: store, at: 1, verdict: supported}]");
        Assert.Empty(Pair(Nights.In(rules)).Path("goal: [{component: app, to: 7}]").Pairs);
    }

    [Fact]
    public void A_requirement_that_nothing_is_related_to_is_said_and_stays_open()
    {
        var fleet = Pair("", relation: "", jump: ", requires: [{product: store, range: \">=2\"}]");
        var path = fleet.Path("goal: [{component: app, to: 7}]");
        Assert.Equal(new UnrelatedRequirement("app", "to-7", "store", ">=2"), Assert.Single(path.Unrelated));
        Assert.Contains(path.Notes, n => n.Contains("requires store >=2", StringComparison.Ordinal));
        Assert.Equal(
            CheckResult.Open,
            Assert.Single(Checked(fleet, path), f => f.Check == "jump to-7 requires store").Result
        );
        var problem = Assert.Single(CatalogueReview.Of(fleet.Catalogue, fleet.Index()));
        Assert.Contains("no engine of the estate is related to any", problem.What);
        Assert.NotNull(problem.At);
        Assert.Empty(CatalogueReview.Of(fleet.Catalogue));
    }

    [Fact]
    public void What_the_path_cures_is_a_caution_that_names_the_move_and_what_stays_counts_by_its_verdict()
    {
        const string Bad =
            "rules: [{this: 6, depends-on: store, at: 1, verdict: unsupported}, "
            + "{this: 7, depends-on: store, at: 1, verdict: VERDICT}]";
        var cured = Pair(Bad.Replace("VERDICT", "supported"));
        var finding = Assert.Single(Checked(cured, cured.Path("goal: [{component: app, to: 7}]")), f =>
            f.Check == "stands-today"
        );
        Assert.Equal(Level.Caution, finding.Level);
        Assert.Contains("move 1 ends that", finding.What);
        var stays = Pair(Bad.Replace("VERDICT", "unsupported"));
        finding = Assert.Single(Checked(stays, stays.Path("goal: [{component: app, to: 7}]")), f =>
            f.Check == "stands-today"
        );
        Assert.Equal(Level.Blocker, finding.Level);
        Assert.Contains("app 7 with db 1", finding.What);
    }

    [Fact]
    public void Twins_are_told_together()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .Node("b[1-2]")
            .Chain("engine", ["6", "7"])
            .With("north", "engine", "6", "\"a[1-2]\"")
            .With("south", "engine", "6", "\"b[1-2]\"");
        const string Due =
            "  north/a1: {running: \"6\", installed: \"7\"}\n  north/a2: {running: \"6\", installed: \"7\"}\n"
            + "  south/b1: {running: \"6\", installed: \"7\"}\n  south/b2: {running: \"6\", installed: \"7\"}\n";
        var note = Assert.Single(fleet.Path("goal: [{product: engine, to: 7}]", Due).Notes);
        Assert.Contains("north and south", note);
    }

    [Fact]
    public void An_outage_says_that_no_other_method_is_described() =>
        Assert.Contains(
            "jump to-7 is described by offline only",
            Assert.Single(Pair("").Path("goal: [{component: app, to: 7}]").Moves).WhyOut
        );

    [Fact]
    public void An_outage_names_the_guard_and_the_member_that_refuse_a_rolling_move()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 1 min}, offline: {outage: 4 min}}}\n"
            )
            .With("app", "engine", "6", "\"a[1-2]\"", "guard: {keep: 2}");
        var why = Assert.Single(fleet.Path("goal: [{component: app, to: 7}]").Moves).WhyOut;
        Assert.Contains("rolling", why);
        Assert.Contains("app", why);
        Assert.Contains("2", why);
    }

    [Fact]
    public void An_outage_of_several_says_what_keeps_them_from_going_one_by_one()
    {
        var fleet = Pair(
                "rules: [{this: 7, depends-on: store, at: 1, verdict: unsupported}, "
                    + "{this: 6, depends-on: store, at: 2, verdict: unsupported}, "
                    + "{this: 7, depends-on: store, at: 2, verdict: supported}]"
            )
            .Product(
                "store",
                "releases: {\"1\": {}, \"2\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", methods: "
                    + "{offline: {outage: 4 min}}}\n"
            );
        var move = Assert.Single(fleet.Path("goal: [{component: app, to: 7}]").Moves);
        Assert.True(move.IsJoint);
        Assert.Contains("app at 7 depends on db at 1: unsupported", move.WhyOut);
    }

    [Fact]
    public void A_method_that_is_refused_names_the_one_to_write()
    {
        var fleet = new Fleet().Node("a1").Chain("engine", ["6", "7"]).With("app", "engine", "6", "a1");
        var reason = Assert.Single(fleet.Path("goal: [{component: app, to: 7}]").Reasons);
        Assert.Contains("write offline or side-by-side", reason.Opens);
    }

    [Fact]
    public void Where_a_range_ends_is_told_among_what_an_answer_rests_on()
    {
        // Two rules say the same of what is chosen: neither decides, and yet it is where they end that does.
        var fleet = Pair(
            "rules: [{id: one, this: \"<7\", depends-on: store, at: \"1\", verdict: supported}, "
                + "{id: two, this: \"<7\", depends-on: store, at: \">=1\", verdict: supported}]"
        );
        var request = new PathRequest(
            fleet.Index(),
            Fleet.Good(Core.Estates.GoalDocument.Read("tidestep: goal/1\ngoal: [{component: app, to: \">=6\"}]", "g")),
            Nights.Day(0)
        );
        var answer = PathFinder.Find(request).Value!;
        Assert.True(answer.AlreadyMet || !answer.Found);
        Assert.Empty(RulesRelied.Of(request, answer));
        Assert.Equal(["<7", "<7"], RulesRelied.Bounds(request, answer).Select(b => b.Bounded.Text));
    }
}
