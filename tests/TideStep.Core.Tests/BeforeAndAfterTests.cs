using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

public sealed class BeforeAndAfterTests
{
    private const string Asks = """
        readings:
          sessions: {by: field, unit: count}
          size: {by: field, unit: bytes}
          lag: {by: field, unit: time}
          errors: {by: field}
          owner: {by: field}
        before-and-after:
          sessions: {may-fall: 10%, may-rise: any, within: 2 min}
          size: {may-differ: 1 MiB}
          lag: {may-rise: 2 s}
          errors: {list: true, otherwise: tell}
          who: {of: owner}

        """;

    private static Fleet Estate(string asks = Asks) =>
        new Fleet()
            .Node("n1", "site: s")
            .With("app", "engine", "6", "n1")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{offline: {outage: 1 min}}, change: [put]}\nsteps:\n"
                    + "  put: {do: {install: x, version: \"{jump.to}\"}}\n"
                    + asks
            );

    private static Plan Plan =>
        Made ??= Fleet.Good(
            PlanMaker.Make(Estate().Index(), Estate().Path("goal: [{component: app, to: 7}]"), "e", "c")
        );
    private static Plan? Made;

    private static Compared One(string ask, string? before, string? after)
    {
        static ImmutableDictionary<string, string> Answer(string ask, string? text) =>
            text is null
                ? ImmutableDictionary<string, string>.Empty
                : ImmutableDictionary<string, string>.Empty.Add(BeforeAndAfter.Key("app/n1", ask), text);
        return BeforeAndAfter.Of(Plan, Answer(ask, before), Answer(ask, after)).Single(c => c.Ask == ask);
    }

    [Theory]
    [InlineData("sessions", "200", "180", true, "fell by 20 (10 %)")]
    [InlineData("sessions", "200", "179", false, "fell by 21 (10.5 %)")]
    [InlineData("sessions", "0", "5000", true, "rose by 5000")]
    [InlineData("size", "10 MiB", "11 MiB", true, "rose by 1 MiB (10 %)")]
    [InlineData("size", "10 MiB", "8 MiB", false, "fell by 2 MiB (20 %)")]
    [InlineData("lag", "1 s", "4 s", false, "rose by 3 s (300 %)")]
    [InlineData("lag", "4 s", "1 s", false, "fell by 3 s (75 %)")]
    [InlineData("errors", "one, two", "two, one", true, "")]
    [InlineData("errors", "one, two", "two\nthree", false, "new: three; gone: one")]
    [InlineData("errors", "one, two", "two", true, "gone: one")]
    [InlineData("who", "wren", "wren", true, "")]
    [InlineData("who", "wren", "ida", false, "was wren, is ida")]
    [InlineData("who", "wren", null, false, "is not known any more")]
    [InlineData("who", null, "ida", true, "was not known before")]
    [InlineData("who", null, null, true, "")]
    public void Answers_are_compared_with_what_may_differ(
        string ask,
        string? before,
        string? after,
        bool borne,
        string says
    )
    {
        var compared = One(ask, before, after);
        Assert.Equal((borne, says), (compared.Borne, compared.What));
    }

    [Fact]
    public void Long_texts_are_told_from_where_they_begin_to_differ()
    {
        var same = new string('a', 100);
        Assert.Equal(
            $"was …{new string('a', 59)}b, is …{new string('a', 59)}c",
            One("who", same + "b", same + "c").What
        );
    }

    [Theory]
    [InlineData("  sessons: {}\n", "there is no reading 'sessons'")]
    [InlineData("  sessions: {may-fall: some}\n", "must be a share like 5%")]
    [InlineData("  sessions: {otherwise: shout}\n", "'shout' is no valid otherwise")]
    public void A_question_that_is_wrong_is_said(string ask, string says) =>
        Assert.Contains(
            ProductDocument
                .Read(
                    Estate("readings:\n  sessions: {by: field, unit: count}\nbefore-and-after:\n" + ask).ProductTexts[
                        "engine"
                    ],
                    "engine.yaml"
                )
                .Problems,
            p => p.What.Contains(says, StringComparison.Ordinal) && p.At is not null
        );

    [Fact]
    public void What_differs_more_than_it_may_halts_before_the_run_closes_and_can_be_accepted_with_a_reason()
    {
        var (state, plan) = (new RunState(Plan), Plan);
        void Say(params RunEvent[] events)
        {
            foreach (var e in events)
                state.Apply(
                    new JournalEntry("r", state.Sequence + 1, 1, DateTimeOffset.UnixEpoch.AddMinutes(state.Sequence), e)
                );
        }
        ImmutableSortedDictionary<string, string> Answers(string sessions) =>
            ImmutableSortedDictionary<string, string>.Empty.Add("app/n1 sessions", sessions);
        Say(
            new Opened(plan.Digest, "", "Wren", null),
            new MembersRead("before", plan.Premises.Running) { Answers = Answers("200") },
            new Started("Wren")
        );
        for (var round = 0; state.Halt is null && round < 100; round++)
            foreach (var work in NextWork.Of(state))
                Do(work, "20");
        Assert.Contains("it is not as it was before: app/n1 sessions fell by 180 (90 %)", state.Halt!.Why);
        Assert.Contains(RunView.Of("r", state, 1).Decisions, d => d.Decision == DecisionKind.AcceptDifferences);
        Assert.Contains(
            "needs a reason",
            Orders.Decide(state, DecisionKind.AcceptDifferences, "Wren", " ", null).Refused!.What
        );
        // Tried again, it is asked again; still so, it halts again.
        Say(Orders.Decide(state, DecisionKind.TryAgain, "Wren", null, null).Events);
        for (var round = 0; state.Halt is null && round < 100; round++)
            foreach (var work in NextWork.Of(state))
                Do(work, "30");
        Assert.Equal("30", state.Comparison!.Answers["app/n1 sessions"]);
        Say(Orders.Decide(state, DecisionKind.AcceptDifferences, "Wren", "the night is quiet", null).Events);
        for (var round = 0; state.End is null && round < 100; round++)
            foreach (var work in NextWork.Of(state))
                Do(work, "40");
        Assert.Equal(RunEnd.Completed, state.End);
        var report = RunReport.Of("r", state, []).ToMarkdown(TimeZoneInfo.Utc);
        Assert.Contains("| app/n1 | sessions | 200 | 30 | **more than it may:** fell by 170 (85 %) |", report);

        void Do(Work work, string sessions)
        {
            switch (work)
            {
                case Append append:
                    Say(append.Event);
                    break;
                case DoStep step:
                    Say(new StepDone(step.Step, DoneHow.Done));
                    break;
                case AskAfter:
                    Say(
                        new AnswersCompared(
                            Answers(sessions),
                            [
                                .. BeforeAndAfter
                                    .Of(plan, state.AnswersBefore, Answers(sessions))
                                    .Where(c => c.What.Length > 0),
                            ]
                        )
                    );
                    break;
                case ReadOnceMore:
                    Say(new ReadAgain("a break", []));
                    break;
                case ReadAfter:
                    Say(new MembersRead("after", plan.Premises.Running));
                    break;
            }
        }
    }

    [Fact]
    public void A_run_of_products_that_ask_nothing_closes_as_before()
    {
        var plan = Fleet.Good(
            PlanMaker.Make(Estate("").Index(), Estate("").Path("goal: [{component: app, to: 7}]"), "e", "c")
        );
        Assert.Empty(plan.Asks);
        Assert.Equal(["app/n1"], Plan.Asks[0].Members);
    }

    [Theory]
    [InlineData("some", "select count(*) from t where id = {keys}", "")]
    [InlineData("nothing", "select count(*) from t where id = {keys}", "there is no reading 'nothing'")]
    [InlineData("some", "select count(*) from t", "does not ask for the keys that are chosen")]
    [InlineData("", "select count(*) from t where id = {keys}", "nothing chooses them")]
    public void A_sample_names_what_chooses_it_and_what_asks_for_it(string keys, string query, string why)
    {
        var text = Estate(
            $"readings:\n  some: {{by: sql, query: \"select id from t\"}}\n"
                + $"  those: {{by: sql, query: \"{query}\", unit: count}}\n"
                + $"before-and-after:\n  sample: {{of: those{(keys.Length > 0 ? $", keys: {keys}" : "")}}}\n"
        ).ProductTexts["engine"];
        var read = ProductDocument.Read(text, "engine.yaml");
        Assert.Equal(why.Length == 0, read.Ok);
        if (why.Length > 0)
            Assert.Contains(read.Problems, p =>
                p.What.Contains(why, StringComparison.Ordinal) && p.At is { Line: > 1 }
            );
    }

    [Fact]
    public void What_a_sample_chose_is_text_in_a_command_escaped_in_an_address_and_a_parameter_of_a_query()
    {
        var readings = Fleet
            .Good(
                ProductDocument.Read(
                    Estate(
                        "readings:\n  a: {by: command, command: [look, \"--ids={keys}\"]}\n"
                            + "  b: {by: http, url: \"http://h/x?ids={keys}\"}\n"
                            + "  c: {by: sql, query: \"select 1 where id = {keys} or key = {keys}\"}\n"
                            + "  d: {by: field}\n"
                    ).ProductTexts["engine"],
                    "engine.yaml"
                )
            )
            .Readings;
        Assert.Equal(["look", "--ids=1,2'"], readings["a"].For("1,2'").Command);
        Assert.Equal("http://h/x?ids=1%2C2%27", readings["b"].For("1,2'").Url);
        Assert.Equal(
            ("select 1 where id = $1 or key = $1", "1,2'"),
            (readings["c"].For("1,2'").Query, readings["c"].For("1,2'").Parameters.Single())
        );
        Assert.Equal([true, true, true, false], new[] { "a", "b", "c", "d" }.Select(r => readings[r].TakesKeys));
    }
}
