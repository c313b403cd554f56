using TideStep.Core.Catalogue;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Tests;

/// <summary>Prerequisites that ask of related components, and what all members must have in common.</summary>
public sealed class RelatedReadingTests
{
    private static readonly DateTimeOffset _now = Nights.At(0, 12);

    private static Fleet Two(string holds, string rest = "", string app = "depends-on: [db]", string per = "member") =>
        new Fleet()
            .Node("a[1-3]")
            .Node("b[1-2]")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: {rolling: "
                    + $"{{member: 1 min}}}}, change: [put], prerequisites: [{{id: fit, per: {per}, level: blocker, "
                    + $"holds: '{holds}'{rest}}}]}}\n"
                    + "readings: {charset: {by: field, unit: text}, conns: {by: field, unit: count}}\n"
                    + "steps: {put: {do: {install: x, version: \"{jump.to}\"}}}\n"
            )
            .Product(
                "store",
                "releases: {\"1\": {}}\nreadings: {lag: {by: field, unit: bytes}, slots: {by: field, unit: count}, "
                    + "charset: {by: field, unit: text}}\n"
            )
            .With("app", "engine", "6", "\"a[1-3]\"", app)
            .With("db", "store", "1", "\"b[1-2]\"");

    private static List<Finding> Found(Fleet fleet, string readings)
    {
        var plan = Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));
        return [.. PlanChecks.Of(fleet.Index(readings), plan, new CheckContext(_now)).Findings];
    }

    private static string Lag(string one, string other) =>
        $"  db/b1: {{running: \"1\", values: {{lag: {one}, slots: 4, memory.free: 3 GiB}}}}\n"
        + $"  db/b2: {{running: \"1\", values: {{lag: {other}, slots: 9, memory.free: 1 GiB}}}}\n";

    [Fact]
    public void A_reading_of_a_related_component_is_asked_of_each_of_its_members_and_the_worst_is_named()
    {
        var fleet = Two("related(\"store\").lag <= 1 MiB");
        var late = Found(fleet, Lag("1 KiB", "5 MiB")).Where(f => f.Check == "to-7 fit").ToList();
        Assert.Equal(["app/a1", "app/a2", "app/a3"], late.Select(f => f.Subject));
        Assert.All(late, f => Assert.True(f.Stands(Level.Blocker)));
        Assert.Equal("needs at most 1 MiB, has 5 MiB: 4 MiB too much (db/b2)", late[0].What);
        Assert.Equal("lag of db/b2", Assert.Single(late[0].Evidence).Reference);
        var well = Found(fleet, Lag("1 KiB", "2 KiB")).First(f => f.Check == "to-7 fit");
        Assert.Equal(CheckResult.Passed, well.Result);
    }

    [Theory]
    [InlineData("related(\"store\").memory.free >= 2 GiB", "needs at least 2 GiB, has 1 GiB: 1 GiB short (db/b2)")]
    [InlineData("related(\"store\").slots >= conns", "needs at least 5, has 4: 1 short (db/b1)")]
    [InlineData("related(\"store\").slots > 8 or related(\"store\").lag = 7 KiB", null)]
    public void It_stands_beside_the_members_own_and_what_every_host_tells(string holds, string? says)
    {
        var found = Found(Two(holds), Lag("7 KiB", "9 KiB") + "  app/a1: {running: \"6\", values: {conns: 5}}\n")
            .Single(f => f.Check == "to-7 fit" && f.Subject == "app/a1");
        Assert.Equal(says is null ? CheckResult.Passed : CheckResult.Failed, found.Result);
        if (says is not null)
            Assert.Equal(says, found.What);
    }

    [Fact]
    public void What_is_not_read_of_them_is_said_by_member_and_so_is_that_nobody_is_related()
    {
        var open = Found(Two("related(\"store\").lag <= 1 MiB"), "  db/b1: {running: \"1\", values: {lag: 1 KiB}}\n");
        Assert.Equal(
            (CheckResult.Open, "there is no reading of lag of db/b2"),
            open.Where(f => f.Check == "to-7 fit").Select(f => (f.Result, f.What)).First()
        );
        var alone = Found(Two("related(\"store\").lag <= 1 MiB", app: "guard: {at-once: 1}"), "");
        Assert.Equal(
            (CheckResult.Open, "no component of store is related"),
            alone.Where(f => f.Check == "to-7 fit").Select(f => (f.Result, f.What)).First()
        );
    }

    [Theory]
    [InlineData("related(\"stor\").lag <= 1 MiB", "asks of 'stor', which is no product")]
    [InlineData("related(\"store\").lga <= 1 MiB", "is not declared")]
    [InlineData("related(\"store\").lag <= 3", "a size can't be compared with a count")]
    [InlineData("related(\"store\").lag", "this is a size")]
    public void A_question_that_the_related_product_can_t_answer_is_found_in_the_catalogue(string holds, string says)
    {
        var found = CatalogueReview.Of(Two(holds).Catalogue);
        Assert.Contains(found, p => p.What.Contains(says, StringComparison.Ordinal) && p.At is not null);
        Assert.Empty(CatalogueReview.Of(Two("related(\"store\").lag <= 1 MiB").Catalogue));
    }

    [Theory]
    [InlineData("already", "related(\"store\").lag <= 1 MiB")]
    [InlineData("already", "count(members where running = \"6\") = 2")]
    [InlineData("verify", "window.length >= 1 h")]
    public void A_step_asks_one_member_alone_and_nobody_else(string key, string holds)
    {
        var text = Two("running = \"6\"").ProductTexts["engine"].Replace("put: {do:", $"put: {{{key}: '{holds}', do:");
        var read = ProductDocument.Read(text, "engine.yaml");
        Assert.Contains(read.Problems, p =>
            p.What.Contains($"step put, {key}: it is asked of one member alone", StringComparison.Ordinal)
            && p.At is not null
        );
    }

    [Fact]
    public void Members_are_compared_over_text_too()
    {
        var fleet = Two("alike(charset)", per: "component");
        string Read(string a1, string a2, string a3) =>
            string.Concat(
                new[] { a1, a2, a3 }.Select((v, i) => $"  app/a{i + 1}: {{running: \"6\", values: {{charset: {v}}}}}\n")
            );
        var differing = Found(fleet, Read("wide", "narrow", "wide")).Single(f => f.Check == "to-7 fit");
        Assert.Equal(CheckResult.Failed, differing.Result);
        Assert.Equal("needs the same of all, has wide (app/a1, app/a3), narrow (app/a2)", differing.What);
        Assert.Equal(
            CheckResult.Passed,
            Found(fleet, Read("wide", "wide", "wide")).Single(f => f.Check == "to-7 fit").Result
        );
        var open = Found(fleet, "  app/a1: {running: \"6\", values: {charset: wide}}\n");
        Assert.Contains("of app/a2, app/a3", open.Single(f => f.Check == "to-7 fit").What);
        var some = Two("alike(charset of members where conns >= 1)", per: "component");
        Assert.Equal(
            CheckResult.Passed,
            Found(
                    some,
                    "  app/a1: {running: \"6\", values: {charset: wide, conns: 1}}\n"
                        + "  app/a2: {running: \"6\", values: {charset: narrow, conns: 0}}\n"
                        + "  app/a3: {running: \"6\", values: {charset: wide, conns: 3}}\n"
                )
                .Single(f => f.Check == "to-7 fit")
                .Result
        );
    }

    [Fact]
    public void What_a_components_members_must_have_in_common_is_drift_and_a_caution_where_one_differs()
    {
        var fleet = Two("running = \"6\"", app: "depends-on: [db], alike: [charset, conns]");
        const string read =
            "  app/a1: {running: \"6\", values: {charset: wide, conns: 1}}\n"
            + "  app/a2: {running: \"6\", values: {charset: narrow, conns: 1}}\n"
            + "  app/a3: {running: \"6\", values: {charset: wide}}\n";
        var found = Found(fleet, read).Where(f => f.Check.StartsWith("alike", StringComparison.Ordinal)).ToList();
        var differs = found.Single(f => f.Check == "alike charset");
        Assert.Equal(
            ("app/a2", Level.Caution, CheckResult.Failed, "charset is narrow, of the others wide"),
            (differs.Subject, differs.Level, differs.Result, differs.What)
        );
        var missing = found.Single(f => f.Check == "alike conns");
        Assert.Equal(("app", CheckResult.Open), (missing.Subject, missing.Result));
        Assert.Contains("no reading of conns of app/a3", missing.What);
        Assert.Contains(
            new Difference("app/a2", "component", "charset", "wide", "narrow"),
            Drift.Of(fleet.Index(read), new Dictionary<string, string>(), Nights.Day(0))
        );
    }
}
