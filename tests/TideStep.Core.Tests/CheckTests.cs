using System.Collections.Immutable;
using System.Xml.Linq;
using CsCheck;
using TideStep.Core.Checks;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Tests;

/// <summary>Plans are proved ready by numbers, or it is said what they lack.</summary>
public sealed class CheckTests
{
    private static readonly DateTimeOffset Now = Nights.At(-9, 12);

    private static readonly string Engine =
        $"releases: {{\"1\": {{}}, \"2\": {{ends: {Nights.On(-28)}, removes: [old pages], "
        + "problems: [{what: it is slow at first}]}}\nreadings: {lag: {by: field, unit: bytes}, "
        + "state: {by: field, unit: text}, size: {by: "
        + "field, unit: bytes}}\nsteps: {put: {do: {command: [x]}}}\n";

    private static Fleet Three(string prerequisites, string rest = "", string windows = "")
    {
        var fleet = new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "1", "\"a[1-3]\"", rest)
            .Product(
                "engine",
                Engine
                    + $"jumps:\n  to-2:\n    from: \"=1\"\n    to: \"2\"\n"
                    + $"    methods: {{rolling: {{member: 5 min, settle: 1 min}}}}\n"
                    + $"    change: [put]\n    prerequisites:\n{prerequisites}"
            );
        return windows.Length > 0 ? fleet.Windows(windows) : fleet;
    }

    private static CheckRound Of(Fleet fleet, string members = "", CheckContext? context = null)
    {
        var index = fleet.Index(members);
        var plan = Fleet.Good(PlanMaker.Make(index, fleet.Path("goal: [{component: app, to: 2}]", members), "e", "c"));
        return PlanChecks.Of(index, plan, context ?? new CheckContext(Now));
    }

    private static Finding One(CheckRound round, string check, string subject) =>
        Assert.Single(round.Findings, f => f.Check == check && f.Subject == subject);

    private const string Room =
        "      - {id: room, per: member, holds: 'free(\"/data\") >= 2.5 * size', remedy: Grow /data.}\n";

    private static string Member(int number, string values) =>
        $"  app/a{number}: {{running: \"1\", values: {{{values}}}}}\n";

    [Fact]
    public void A_prerequisite_says_what_it_needs_what_it_has_and_what_is_short()
    {
        var round = Of(
            Three(Room),
            Member(1, "size: 41 GiB, \"free(\\\"/data\\\")\": 96 GiB")
                + Member(2, "size: 1 GiB, \"free(\\\"/data\\\")\": 96 GiB")
                + Member(3, "size: 1 GiB")
        );
        var failed = One(round, "to-2 room", "app/a1");
        Assert.Equal(
            (
                CheckResult.Failed,
                Level.Blocker,
                "needs at least 102.5 GiB, has 96 GiB: 6.5 GiB short",
                "Grow /data.",
                "a1"
            ),
            (failed.Result, failed.Level, failed.What, failed.Remedy, failed.Node)
        );
        Assert.Equal(
            ["free(\"/data\") = 96 GiB", "size = 41 GiB"],
            failed.Evidence.Select(e => $"{e.Reference} = {e.Value}")
        );
        Assert.Equal(CheckResult.Passed, One(round, "to-2 room", "app/a2").Result);
        var open = One(round, "to-2 room", "app/a3");
        Assert.Equal((CheckResult.Open, "there is no reading of free(\"/data\") of app/a3"), (open.Result, open.What));
        Assert.Equal(["to-2 room app/a1", "to-2 room app/a3"], round.Blocking.Select(f => f.Id));
    }

    [Fact]
    public void What_asks_of_a_window_does_not_apply_without_one()
    {
        const string long_enough =
            "      - {id: time, per: component, level: caution, holds: 'window.length >= 6 h'}\n";
        Assert.Equal(CheckResult.NotApplicable, One(Of(Three(long_enough)), "to-2 time", "app").Result);
        var inWindow = One(
            Of(Three(long_enough, windows: "  night: {every: sunday, from: \"01:00\", lasts: 5 h}\n")),
            "to-2 time",
            "app"
        );
        Assert.Equal((CheckResult.Failed, "needs at least 6 h, has 5 h: 1 h short"), (inWindow.Result, inWindow.What));
    }

    [Theory]
    [InlineData("component", "app")]
    [InlineData("site", "app at s")]
    [InlineData("node", "a1")]
    public void It_is_asked_of_what_it_says(string per, string subject)
    {
        var round = Of(
            Three(
                $"      - {{id: all, per: {per}, holds: 'count(members where state = \"in step\") = count(members)'}}\n"
            ),
            Member(1, "state: in step") + Member(2, "state: stopped") + Member(3, "state: in step")
        );
        Assert.Equal("needs 3, has 2: 1 short", One(round, "to-2 all", subject).What);
    }

    [Fact]
    public void What_must_hold_anyway_is_checked_without_being_asked_for()
    {
        var round = Of(
            Three("", "guard: {keep: 1, at-once: 2}"),
            "  app/a2: {running: \"1\", in-service: false}\n",
            new CheckContext(Now.AddDays(3))
            {
                Unreached = ImmutableDictionary<string, string>.Empty.Add("app/a3", "no route to it"),
            }
        );
        Assert.Equal("it could not be read: no route to it", One(round, "reachable", "app/a3").What);
        Assert.Equal(
            (CheckResult.Passed, "2", "1"),
            (One(round, "guard", "app").Result, One(round, "guard", "app").Found, One(round, "guard", "app").Needed)
        );
        Assert.Equal("a2 is out of service already", One(round, "in-service", "app").What);
        Assert.Equal("the readings are 3 d 2 h old, at most 12 h is asked", One(round, "survey-fresh", "estate").What);
        Assert.Equal("engine 2 removes old pages", One(round, "removed", "engine: old pages").What);
        Assert.Equal(
            "engine 2: it is slow at first",
            One(round, "known-problem", "engine 2: it is slow at first").What
        );
        Assert.Equal(
            (CheckResult.Failed, $"engine 2 is supported through {Nights.On(-28)}"),
            (One(round, "support", "app").Result, One(round, "support", "app").What)
        );
    }

    [Fact]
    public void Another_run_at_work_and_Tide_Steps_own_host_stand_in_the_way_whatever_is_accepted()
    {
        var round = Of(
            Three("", "carries-us: true"),
            context: new CheckContext(Now) { Reserved = ImmutableDictionary<string, string>.Empty.Add("app", "r1") }
        );
        Assert.Equal(["carries-us", "reserved"], round.Blocking.Select(f => f.Check).Order());
        foreach (var finding in round.Blocking)
            Assert.Contains(
                "can't be accepted",
                Assert.Single(WaiverRules.Make(EstateClass.Lab, finding, "Wren", "because", Now, null).Problems).What
            );
    }

    [Fact]
    public void What_people_have_to_do_before_is_open_until_it_is_signed_for_these_versions_and_can_not_be_accepted()
    {
        var fleet = new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "1", "\"a[1-3]\"")
            .Product(
                "engine",
                "releases: {\"1\": {}, \"2\": {problems: [{what: it is slow at first, prevent: warm it}]}}\n"
                    + "jumps:\n  to-2: {from: \"=1\", to: \"2\", methods: {rolling: {member: 5 min}}, change: "
                    + "[put], tasks: [{title: ring the harbour, when: before}, {title: look later, when: later}]}\n"
                    + "steps: {put: {do: {command: [x]}}}\n"
            );
        var open = One(Of(fleet), "manual", "ring the harbour");
        Assert.Equal(
            (CheckResult.Open, Level.Blocker, "somebody has to do it and sign it: app to 2"),
            (open.Result, open.Level, open.What)
        );
        Assert.Contains(
            "can't be accepted",
            Assert.Single(WaiverRules.Make(EstateClass.Lab, open, "Wren", "later", Now, null).Problems).What
        );
        var signed = Of(
            fleet,
            context: new CheckContext(Now)
            {
                Signed =
                [
                    new SignedItem("ring the harbour (app to 2)", "Wren", Now, "they know"),
                    new SignedItem("warm it (known of 2: it is slow at first) (app to 3)", "Wren", Now, "warm"),
                ],
            }
        );
        Assert.Equal(
            $"done, says Wren on {Nights.On(-9)} 12:00 +00:00: they know",
            One(signed, "manual", "ring the harbour").What
        );
        // Signed for another upgrade it is asked anew.
        Assert.Equal(["manual warm it (known of 2: it is slow at first)"], signed.Blocking.Select(f => f.Id));
    }

    private static Finding Short(double by, Level level = Level.Caution, CheckResult result = CheckResult.Failed) =>
        new("room", "app/a1", level, result, "short", null, []) { ShortBy = by };

    [Fact]
    public void A_waiver_never_covers_a_worse_a_new_or_a_later_finding() =>
        Gen.Select(Gen.Double[0, 1e12], Gen.Double[0, 1e12], Gen.Enum<Level>(), Gen.Enum<Level>(), Gen.Int[-20, 20])
            .Sample(
                (was, now, levelThen, levelNow, days) =>
                {
                    var waiver = Fleet.Good(
                        WaiverRules.Make(EstateClass.Test, Short(was, levelThen), "Wren", "known", Now, Now.AddDays(7))
                    );
                    var covers = waiver.Covers(Short(now, levelNow), Now.AddDays(days));
                    Assert.Equal(days < 7 && levelNow <= levelThen && now <= was * 1.0005, covers);
                    Assert.False(waiver.Covers(Short(now, levelNow) with { Subject = "app/a2" }, Now));
                    Assert.False(waiver.Covers(Short(now, levelNow, CheckResult.Open), Now));
                }
            );

    [Fact]
    public void In_production_a_blocker_needs_two_people_and_nothing_is_accepted_without_reason_or_for_ever()
    {
        var waiver = Fleet.Good(
            WaiverRules.Make(EstateClass.Production, Short(1, Level.Blocker), "Wren", "known", Now, null)
        );
        Assert.False(waiver.Stands);
        Assert.Contains("must be another", Assert.Single(WaiverRules.Second(waiver, "wren").Problems).What);
        var seconded = Fleet.Good(WaiverRules.Second(waiver, "Robin"));
        Assert.True(seconded.Stands);
        Assert.False(WaiverRules.Second(seconded, "Lark").Ok);
        Assert.True(
            Fleet.Good(WaiverRules.Make(EstateClass.Lab, Short(1, Level.Blocker), "Wren", "known", Now, null)).Stands
        );
        Assert.Equal(
            3,
            WaiverRules
                .Make(EstateClass.Lab, Short(1, result: CheckResult.Passed), "Wren", " ", Now, Now.AddDays(400))
                .Problems.Length
        );
    }

    [Fact]
    public void An_accepted_finding_stands_no_more_and_says_who_accepted_it()
    {
        var readings =
            Member(1, "size: 41 GiB, \"free(\\\"/data\\\")\": 96 GiB")
            + Member(2, "size: 1 GiB, \"free(\\\"/data\\\")\": 96 GiB")
            + Member(3, "size: 1 GiB, \"free(\\\"/data\\\")\": 96 GiB");
        var waiver = Fleet.Good(
            WaiverRules.Make(
                EstateClass.Test,
                One(Of(Three(Room), readings), "to-2 room", "app/a1"),
                "Wren",
                "dumps are cleared on Friday",
                Now,
                null
            )
        );
        var round = Of(Three(Room), readings, new CheckContext(Now) { Waivers = [waiver] });
        Assert.Empty(round.Blocking);
        Assert.Contains("| blocker | accepted | to-2 room | app/a1 |", CheckReport.Markdown(round));
        Assert.Contains("1 accepted", CheckReport.Summary(round));
        Assert.Equal(
            0,
            (int)
                XDocument
                    .Parse(CheckReport.JUnit(round))
                    .Descendants("testsuite")
                    .Single(s => (string)s.Attribute("name")! == "to-2 room")
                    .Attribute("failures")!
        );
    }

    [Fact]
    public void JUnit_counts_what_failed_and_keeps_to_signs_that_XML_has()
    {
        var round = new CheckRound(
            Now,
            "p",
            Now,
            [
                Short(1) with
                {
                    What = "bell \u0007 <and> quote \"",
                },
                Short(1, result: CheckResult.Open) with
                {
                    Check = "lag",
                },
            ]
        );
        var read = XDocument.Parse(CheckReport.JUnit(round));
        Assert.Equal("bell  <and> quote \"", (string)Assert.Single(read.Descendants("failure")).Attribute("message")!);
        Assert.Single(read.Descendants("skipped"));
    }
}
