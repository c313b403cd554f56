using TideStep.Core.Notices;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

public sealed class NoticeTests
{
    private const string Mail = "mail: {host: post.marram.example, from: tide-step@marram.example}\n";

    [Theory]
    [InlineData("desk: {to: webhok, address: \"https://a.example/\", secret: \"secret:s\"}", "'webhok' is no valid to")]
    [InlineData("desk: {to: webhook, address: \"ftp://a.example/\", secret: \"secret:s\"}", "no address of a webhook")]
    [InlineData("desk: {to: webhook, address: \"https://a.example/\"}", "'secret' is missing")]
    [InlineData("desk: {to: webhook, address: \"https://a.example/\", secret: heron}", "given as a reference")]
    [InlineData("desk: {to: mail, people: [night]}", "'night' is no mail address")]
    [InlineData("desk: {to: mail, people: [a@b.example], at: [begun]}", "'begun' is no moment")]
    [InlineData("desk: {to: mail, people: [a@b.example], address: x}", "'address' is no key here")]
    public void A_rule_that_is_wrong_is_said_with_its_place(string rule, string says) =>
        Assert.Contains(
            NoticesDocument.Read($"tidestep: notices/1\nnotices:\n  {rule}\n{Mail}", "notices.yaml").Problems,
            p => p.What.Contains(says, StringComparison.Ordinal) && p.At is { Line: 3 }
        );

    [Fact]
    public void Mail_needs_a_way_and_no_password_goes_in_the_clear()
    {
        Assert.Contains(
            "nothing says how mail leaves",
            Assert
                .Single(
                    NoticesDocument
                        .Read("tidestep: notices/1\nnotices:\n  n: {to: mail, people: [a@b.example]}\n", "n.yaml")
                        .Problems
                )
                .What
        );
        Assert.Contains(
            "without encryption",
            Assert
                .Single(
                    NoticesDocument
                        .Read(
                            "tidestep: notices/1\nmail: {host: h, from: a@b.example, account: a, password: "
                                + "\"secret:p\", encryption: none}\n",
                            "n.yaml"
                        )
                        .Problems
                )
                .What
        );
        var read = Fleet.Good(
            NoticesDocument.Read(
                $"tidestep: notices/1\nnotices:\n  n: {{to: mail, people: [a@b.example]}}\n{Mail}",
                "n.yaml"
            )
        );
        Assert.Equal(Enum.GetValues<NoticeMoment>(), read.Rules[0].At.Order());
        Assert.Equal((587, true), (read.Mail!.Port, read.Mail.Encryption));
    }

    [Fact]
    public void A_halt_tells_what_may_be_decided_and_what_holds_if_nobody_does()
    {
        var fleet = new Fleet()
            .Node("n[1-2]", "site: s")
            .With("app", "engine", "6", "\"n[1-2]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 1 min, settle: 1 min}}, change: [put]}\n"
                    + "steps:\n  put: {do: {install: x, version: \"{jump.to}\"}}\n"
            );
        var plan = Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));
        var state = new RunState(plan);
        JournalEntry last = null!;
        void Say(RunEvent e) =>
            state.Apply(
                last = new JournalEntry(
                    "r",
                    state.Sequence + 1,
                    1,
                    DateTimeOffset.UnixEpoch.AddMinutes(state.Sequence),
                    e
                )
            );
        Say(new Opened(plan.Digest, "Engine to 7", "Wren Hale", null));
        Assert.Equal([NoticeMoment.Planned], RunNotice.MomentsOf(last.Event, plan));
        Say(new Started("Wren Hale"));
        Say(new OrdersGiven([new StandingOrder(DecisionKind.ReturnAsFarAs, TimeSpan.FromMinutes(20))], "Ida Moss"));
        Assert.Empty(RunNotice.MomentsOf(last.Event, plan));
        Say(new BlockEntered(1));
        Say(new Halted("put failed", null));
        Assert.Equal([NoticeMoment.Halted, NoticeMoment.DecisionOpen], RunNotice.MomentsOf(last.Event, plan));
        var notice = RunNotice.Of("r", state, last, NoticeMoment.DecisionOpen, 1);
        Assert.Equal(("put failed", "return after 20 min"), (notice.Why, notice.Default));
        Assert.Contains("try again", notice.Decisions);
        Assert.Equal("Engine to 7: a decision is open", notice.Subject);
        var text = notice.Text(TimeZoneInfo.Utc, "http://127.0.0.1:7470/runs/r");
        Assert.StartsWith("put failed.\n", text);
        Assert.Contains("If nobody decides: return after 20 min.", text);
        Assert.EndsWith("http://127.0.0.1:7470/runs/r\n", text);
        // A child run is planned by nobody.
        Assert.Empty(RunNotice.MomentsOf(new Opened(plan.Digest, "", "Wren", "r"), plan));
    }
}

public sealed class TellingLineTests
{
    [Theory]
    [InlineData("", "no output")]
    [InlineData("one\ntwo\n", "two")]
    [InlineData(
        "Unpacking ...\ndpkg: error: cannot copy: No space left on device\n"
            + "Errors were encountered\nE: dpkg returned an error code (1)\n",
        "dpkg: error: cannot copy: No space left on device (E: dpkg returned an error code (1))"
    )]
    [InlineData("cp: Permission denied", "cp: Permission denied")]
    public void What_failed_is_said_by_the_line_that_tells_most(string output, string says) =>
        Assert.Equal(says, TellingLine.Of(output));
}
