using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Core.Tests;

/// <summary>The checks find what a start would refuse, and judge later moves on what the plan will have made.</summary>
public sealed class StartCheckTests
{
    private static readonly DateTimeOffset _now = Nights.At(0, 12);

    private static Fleet Two(string jump = "", string put = "{do: {install: x, version: \"{jump.to}\"}}") =>
        new Fleet()
            .Node("a[1-2]")
            .Node("b1")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}, \"8\": {}}\njumps:\n"
                    + "  to-7: {from: \"=6\", to: \"7\", methods: {rolling: {member: 1 min}}, change: [put]}\n"
                    + $"  to-8: {{from: \"=7\", to: \"8\", methods: {{rolling: {{member: 1 min}}}}, "
                    + $"requires: [{{product: store, range: \"2\"}}], change: [put]{jump}}}\n"
                    + $"steps: {{put: {put}}}\n"
            )
            .Chain("store", ["1", "2"], "offline: {outage: 1 min}")
            .With("app", "engine", "6", "\"a[1-2]\"", "depends-on: [db]")
            .With("db", "store", "1", "b1");

    private const string Goal = "goal: [{component: db, to: 2}, {component: app, to: 8}]";

    private static Plan Planned(Fleet fleet) => Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path(Goal), "e", "c"));

    private static List<Finding> Found(Fleet fleet, CheckContext context, string members = "") =>
        [.. PlanChecks.Of(fleet.Index(members), Planned(fleet), context).Findings];

    [Fact]
    public void Premises_that_are_no_more_are_all_found_at_once_and_nobody_accepts_them()
    {
        var found = Found(
                Two(),
                new CheckContext(_now) { Revisions = ("other", "another") },
                "  app/a1: {running: \"7\"}\n"
            )
            .Where(f => f.Check == "premise")
            .ToList();
        Assert.Equal(["app/a1", "catalogue", "estate"], found.Select(f => f.Subject).Order(StringComparer.Ordinal));
        Assert.All(found, f => Assert.True(f.Stands(Level.Blocker) && !WaiverRules.MayBeAccepted(f)));
        Assert.Contains("runs 7, and the plan expects 6", found.Single(f => f.Subject == "app/a1").What);
        Assert.DoesNotContain(Found(Two(), new CheckContext(_now) { Revisions = ("e", "c") }), f =>
            f.Check == "premise"
        );
    }

    [Fact]
    public void A_word_or_a_rehearsal_that_is_missing_is_found_like_a_failed_check()
    {
        var found = Found(
            Two(),
            new CheckContext(_now)
            {
                NotReady = [new Problem("nobody signed", null, "Sign it."), new Problem("not rehearsed")],
            }
        );
        Assert.Equal(
            ["nobody signed", "not rehearsed"],
            found.Where(f => f.Check == "ready").Select(f => f.What).Order(StringComparer.Ordinal)
        );
    }

    [Fact]
    public void A_secret_that_is_not_there_is_found_with_who_needs_it()
    {
        var fleet = Two(put: "{title: unlock it, do: {command: [unlock, \"{secret.door}\"]}}");
        var found = Assert.Single(
            Found(fleet, new CheckContext(_now) { Secret = name => new Problem($"there is no secret '{name}'") }),
            f => f.Check == "secret"
        );
        Assert.Equal(("door", Level.Blocker), (found.Subject, found.Level));
        Assert.Contains("unlock it on app/a1 needs it", found.What);
        Assert.False(WaiverRules.MayBeAccepted(found));
        Assert.DoesNotContain(Found(fleet, new CheckContext(_now)), f => f.Check == "secret");
    }

    [Theory]
    [InlineData("{do: {install: x, version: \"{jump.to}\"}}", true)]
    [InlineData("{do: {restart: engine}}", false)]
    [InlineData("{do: {command: [put]}}", false)]
    public void A_restart_that_is_owed_and_that_no_step_makes_is_a_caution(string put, bool missing) =>
        Assert.Equal(
            missing,
            Found(Two(", restarts: service", put), new CheckContext(_now)).Any(f => f.Check == "restart-owed")
        );

    private static string Asking(string holds, string rest = "") =>
        $", prerequisites: [{{id: fit, per: component, level: blocker, holds: '{holds}'{rest}}}]";

    [Theory]
    [InlineData("related(\"store\") >= \"2\"", "db at 2 by move 2")]
    [InlineData("count(members where running = \"7\") = count(members)", "app at 7 by move 1")]
    public void A_later_move_is_judged_on_what_the_plan_will_have_made(string holds, string by)
    {
        var finding = Assert.Single(Found(Two(Asking(holds)), new CheckContext(_now)), f => f.Check == "to-8 fit");
        Assert.Equal(CheckResult.Passed, finding.Result);
        Assert.Contains(by, finding.What);
    }

    [Fact]
    public void What_is_asked_at_its_wave_is_listed_as_that()
    {
        var fleet = Two(Asking("count(members where running = \"9\") = count(members)", ", when: wave"));
        var finding = Assert.Single(Found(fleet, new CheckContext(_now)), f => f.Check == "to-8 fit");
        Assert.Equal(CheckResult.NotApplicable, finding.Result);
        Assert.Contains("before each wave of move 3", finding.What);
        Assert.False(finding.Stands(Level.Advice));
    }

    [Fact]
    public void An_artefact_without_a_checksum_is_a_caution_and_a_step_sends_it_by_its_identifier()
    {
        var fleet = new Fleet()
            .Node("a1", "site: s, traits: {cpu: small}")
            .Node("a2", "site: s, traits: {cpu: wide}")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 1 min}}, "
                    + "change: [put], artefacts: [{id: kit, file: small.pkg, for: {cpu: small}}, "
                    + "{id: kit, file: wide.pkg, for: {cpu: wide}}]}\n"
                    + "steps: {put: {do: {send: kit, to: /tmp/kit}}}\n"
            )
            .With("app", "engine", "6", "a1, a2");
        var plan = Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));
        Assert.Equal(
            [("a1", "small.pkg"), ("a2", "wide.pkg")],
            plan.Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s => s.Do is Core.Catalogue.SendAction)
                .Select(s => (s.Node, ((Core.Catalogue.SendAction)s.Do).Artefact))
        );
        Assert.Equal(
            ["small.pkg", "wide.pkg"],
            PlanChecks
                .Of(fleet.Index(), plan, new CheckContext(_now))
                .Findings.Where(f => f.Check == "checksum")
                .Select(f => f.Subject)
                .Order(StringComparer.Ordinal)
        );
    }
}
