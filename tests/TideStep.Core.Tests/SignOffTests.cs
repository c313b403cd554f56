using CsCheck;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

public sealed class SignOffTests
{
    private const string Steps = """
        steps:
          stop: {do: {stop: x}, safe-after: true}
          put: {do: {install: x, version: "{jump.to}"}}
          convert: {do: {command: [convert]}}
          start: {do: {start: x}}
        routines: {leave: [stop], return: [start]}

        """;

    private static readonly Plan Closing = PlanOf("  no-return: {by: another}\n");
    private static readonly DateTimeOffset Now = Nights.At(-1, 20);

    private static Fleet Estate(string signOffs, string jump = "") =>
        new Fleet()
            .SignOffs(signOffs)
            .Node("n[1-3]", "site: s")
            .With("app", "engine", "6", "\"n[1-3]\"")
            .Product(
                "engine",
                $"releases: {{\"6\": {{}}, \"7\": {{}}}}\njumps:\n  to-7: {{from: \"=6\", to: \"7\", methods: "
                    + $"{{rolling: {{member: 1 min, settle: 1 min}}}}, change: [put], after-all: [convert], closes: "
                    + $"convert{jump}}}\n  back: {{from: \"=7\", to: \"6\", down: true, methods: {{rolling: "
                    + $"{{member: 1 min, settle: 1 min}}}}, change: [put]}}\n"
                    + Steps
            );

    private static Plan PlanOf(string signOffs, string jump = "")
    {
        var fleet = Estate(signOffs, jump);
        return Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));
    }

    [Fact]
    public void A_plan_names_where_it_waits_for_a_word()
    {
        var plan = PlanOf("  start: {lasts: 2 d}\n  no-return: {by: another}\n  roll: {by: anybody, lasts: 3 h}\n");
        var closing = plan.Blocks.First(b => b.Lanes.Any(l => l.Steps.Any(s => s.Closes)));
        var rolling = plan.Blocks.First(b => b.Phase == Phase.Roll);
        Assert.Equal(
            [
                ("start", 0, false, TimeSpan.FromDays(2)),
                ($"part {rolling.Number}", rolling.Number, false, TimeSpan.FromHours(3)),
                ($"part {closing.Number}", closing.Number, true, TimeSpan.FromHours(12)),
            ],
            plan.SignOffs.Select(s => (s.Id, s.Block, s.ByAnother, s.Lasts))
        );
        Assert.Empty(PlanOf("").SignOffs);
    }

    [Fact]
    public void A_jump_asks_for_its_phases_and_one_part_is_asked_once_with_the_strictest()
    {
        var asked = Assert.Single(
            PlanOf(
                "  close: {by: another, lasts: 30 min}\n  no-return: {by: anybody, lasts: 5 h}\n",
                ", sign-offs: [close]"
            ).SignOffs
        );
        Assert.Equal((true, TimeSpan.FromMinutes(30)), (asked.ByAnother, asked.Lasts));
        Assert.Contains("jump to-7 asks before its phase close", asked.Why);
        Assert.Contains("before the point of no return", asked.Why);
    }

    [Theory]
    [InlineData("  begin: {}\n", "'begin' is nothing that is signed")]
    [InlineData("  start: {lasts: 93 d}\n", "at most 92 days")]
    [InlineData("  start: {by: nobody}\n", "'nobody' is no valid by")]
    public void A_policy_that_is_wrong_is_said_with_its_place(string signOffs, string says) =>
        Assert.Contains(Core.Estates.EstateDocument.Read(Estate(signOffs).EstateText, "estate.yaml").Problems, p =>
            p.What.Contains(says, StringComparison.Ordinal) && p.At is { Line: 4 }
        );

    [Fact]
    public void A_jump_that_asks_for_no_phase_is_said()
    {
        var problems = Core
            .Catalogue.ProductDocument.Read(Estate("", ", sign-offs: [closing]").ProductTexts["engine"], "engine.yaml")
            .Problems;
        Assert.Contains(problems, p =>
            p.What.Contains("'closing' is no phase", StringComparison.Ordinal)
            && p.Hint!.Contains("close", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void Nobody_signs_their_own_where_another_is_asked_for()
    {
        var plan = PlanOf("  start: {by: another, lasts: 1 h}\n");
        var refused = SignOffRules.Make(plan, "start", "wren hale", ["Wren Hale"], [], null, null, Now);
        Assert.Contains("somebody else has to sign", Assert.Single(refused.Problems).What);
        Assert.Contains(
            "another plan",
            Assert
                .Single(SignOffRules.Make(plan, "start", "Ida Moss", ["Wren Hale"], [], null, "sha256:0", Now).Problems)
                .What
        );
        var given = Fleet.Good(
            SignOffRules.Make(
                plan,
                "start",
                "Ida Moss",
                ["Wren Hale"],
                [new StandingOrder(DecisionKind.ReturnAsFarAs, TimeSpan.FromMinutes(20))],
                " seen ",
                plan.Digest,
                Now
            )
        );
        Assert.Equal(
            (plan.Digest, "Ida Moss", Now + TimeSpan.FromHours(1), "seen"),
            (given.Plan, given.By, given.Ends, given.Note)
        );
        Assert.Contains("nobody has signed", SignOffRules.Missing(plan, [], Now)!.What);
        Assert.Null(SignOffRules.Missing(plan, [given], Now.AddMinutes(59)));
        Assert.Contains("held until", SignOffRules.Missing(plan, [given], Now.AddHours(1))!.What);
        Assert.NotNull(SignOffRules.Missing(plan, [given with { Plan = "sha256:other" }], Now));
    }

    [Fact]
    public void A_part_is_not_entered_before_its_word_whatever_order_things_are_said_in() =>
        Gen.Int[0, 3]
            .Array[0, 30]
            .Sample(choices =>
            {
                var (plan, asked) = (Closing, Closing.SignOffs[0]);
                var (state, number) = (new RunState(plan), 0);
                void Say(params RunEvent[] events)
                {
                    foreach (var e in events)
                        state.Apply(new JournalEntry("r", ++number, 1, Now.AddSeconds(number), e));
                }
                Say(new Opened(plan.Digest, "", "Wren Hale", null), new Started("Wren Hale"));
                var entered = false;
                foreach (var choice in choices.Concat(Enumerable.Repeat(0, 60)))
                {
                    var said = choice switch
                    {
                        1 => SignOffRules.Sign(state, asked.Id, "Ida Moss", "Wren Hale", null, Now),
                        2 => SignOffRules.Sign(state, asked.Id, "Wren Hale", "Ida Moss", null, Now),
                        3 => state.SignOffs.ContainsKey(asked.Id) ? ([new SignOffLapsed(asked.Id)], null) : ([], null),
                        _ => default,
                    };
                    Assert.False(choice == 2 && said.Refused is null);
                    Say(said.Events ?? []);
                    var signed = state.SignOffs.ContainsKey(asked.Id);
                    foreach (var work in NextWork.Of(state))
                        switch (work)
                        {
                            case Append append:
                                Say(append.Event);
                                break;
                            case EnterInWindow enter:
                                Say(new BlockEntered(enter.Block));
                                break;
                            case DoStep step:
                                Say(new StepDone(step.Step, DoneHow.Done));
                                break;
                            case CheckGuards guards:
                                Say(new GuardsChecked(guards.Block, true, ""));
                                break;
                            case WatchSettling settling:
                                Say(new BlockSettled(settling.Block));
                                break;
                            case ReadOnceMore:
                                Say(new ReadAgain("a break", []));
                                break;
                            case ReadAfter:
                                Say(new MembersRead("after", plan.Premises.Running));
                                break;
                        }
                    if (state.CurrentBlock >= asked.Block && !entered)
                    {
                        entered = true;
                        Assert.True(signed);
                    }
                }
                Assert.Equal(entered, state.End is not null);
                Assert.Equal(!entered, state.Status == RunStatus.Waiting && state.AwaitsSignOff == asked);
            });
}
