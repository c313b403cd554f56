using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

public sealed class CloseOutTests
{
    private static readonly Plan Plan = Made();
    private static readonly DateTimeOffset Start = Nights.At(0, 1);

    private static Plan Made()
    {
        var fleet = new Fleet()
            .Node("n[1-2]", "site: s")
            .With("app", "engine", "6", "\"n[1-2]\"")
            .Product(
                "engine",
                """
                releases: {"6": {}, "7": {}}
                jumps:
                  to-7: {from: "=6", to: "7", methods: {rolling: {member: 1 min, settle: 1 min}}, change: [put, mend],
                      points: [{capture: dump, while: serving}],
                      tasks: [{title: warm the tills, when: after, owner: till keepers},
                      {title: tell the harbour, when: later}, {title: read the notes, when: before}]}
                steps:
                  put: {do: {install: x, version: "{jump.to}"}, undo: {command: [back]}}
                  mend: {do: {command: [mend]}}
                  dump: {do: {capture: dump}}

                """
            );
        return Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));
    }

    private static RunState Run(TimeSpan each, Action<RunState, Action<RunEvent>>? meddle = null)
    {
        var (state, now) = (new RunState(Plan), Start);
        void Say(RunEvent e) => state.Apply(new JournalEntry("r", state.Sequence + 1, 1, now += each, e));
        Say(new Opened(Plan.Digest, "Engine", "Wren Hale", null));
        Say(new MembersRead("before", Plan.Premises.Running));
        Say(new Started("Wren Hale"));
        for (var round = 0; state.End is null && round < 200; round++)
            foreach (var work in NextWork.Of(state))
            {
                meddle?.Invoke(state, Say);
                if (state.End is not null)
                    break;
                switch (work)
                {
                    case Append append:
                        Say(append.Event);
                        break;
                    case DoStep step
                        when Plan.Step(step.Step).Point is { } point && state.Of(step.Step).Status != StepStatus.Done:
                        Say(new PointCaptured(step.Step, point, "/p", 1 << 20, "0", 1));
                        Say(new PointVerified(point, "read again"));
                        Say(new StepDone(step.Step, DoneHow.Done));
                        break;
                    case DoStep step when state.Of(step.Step).Status != StepStatus.Done:
                        Say(new Intended(step.Step, "a" + state.Sequence, 1, "n", false));
                        Say(new StepDone(step.Step, DoneHow.Done));
                        break;
                    case TakeBack back:
                        Say(new MeasureTakenBack(back.Step));
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
                        Say(new MembersRead("after", Plan.Premises.Running));
                        break;
                }
            }
        return state;
    }

    [Fact]
    public void What_the_products_ask_afterwards_and_the_rollback_points_are_left_to_be_done()
    {
        var state = Run(TimeSpan.FromSeconds(1));
        Assert.Equal(RunEnd.Completed, state.End);
        var left = FollowUps.Of(state);
        Assert.Equal(
            ["warm the tills", "tell the harbour"],
            left.Where(f => f.Id.StartsWith("task", StringComparison.Ordinal)).Select(f => f.What)
        );
        Assert.Equal(("till keepers", true, state.EndedAt), (left[0].Owner, left[0].Urgent, left[0].Due));
        Assert.Contains(left, f => f.What == "say whether its rollback points may go: 2, 2 MiB");
        Assert.Equal(left.Select(f => f.Id).Distinct().Count(), left.Length);
        Assert.Contains(
            "| warm the tills | app | till keepers | now | before the first job |",
            RunReport.Of("r", state, []).ToMarkdown(TimeZoneInfo.Utc)
        );
    }

    [Fact]
    public void What_was_skipped_or_left_out_or_stopped_stays_in_sight()
    {
        var skipped = Run(TimeSpan.FromSeconds(1), (state, say) =>
        {
            var mend = Plan
                .Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .First(s => s.Name == "mend" && state.Of(s.Id).Status == StepStatus.Pending || s.Name == "mend");
            if (state.Decisions.Count > 0 || state.CurrentBlock < 2 || state.Of(mend.Id).Status != StepStatus.Pending)
                return;
            say(new StepFailed(mend.Id, "no"));
            say(new Halted("no", mend.Id));
            say(new Decided(DecisionKind.Skip, "Ida Moss", "mended by hand", null) { Step = mend.Id });
        });
        Assert.Contains(FollowUps.Of(skipped), f => f.Owner == "Ida Moss" && f.Why == "it was skipped: mended by hand");
        var stopped = Run(TimeSpan.FromSeconds(1), (state, say) =>
        {
            if (state.AttemptCount == 0 || state.Decisions.Count > 0)
                return;
            say(new Halted("no", null));
            say(new Decided(DecisionKind.StopHere, "Ida Moss", null, null));
        });
        Assert.Equal(RunEnd.StoppedHere, stopped.End);
        Assert.Contains(FollowUps.Of(stopped), f => f.What == "go on with or return from: app 6 to 7");
        Assert.DoesNotContain(FollowUps.Of(stopped), f => f.Id.StartsWith("task", StringComparison.Ordinal));
    }

    [Fact]
    public void A_run_is_compared_with_an_earlier_one()
    {
        var (quick, slow) = (Run(TimeSpan.FromSeconds(1)), Run(TimeSpan.FromSeconds(3)));
        Assert.Empty(RunComparison.Of(quick, quick).Differences);
        var found = RunComparison.Of(quick, slow);
        Assert.Single(found.Differences, d => d.StartsWith("took: ", StringComparison.Ordinal));
        Assert.All(found.Times, t => Assert.Equal(3, t.Second!.Value / t.First!.Value, 6));
        Assert.True(
            found
                .Times.Zip(found.Times.Skip(1))
                .All(p => (p.First.Second - p.First.First) >= (p.Second.Second - p.Second.First))
        );
    }

    [Fact]
    public void What_comes_next_names_partners_neighbours_and_later_releases()
    {
        var engine =
            $"releases: {{\"6\": {{}}, \"7\": {{line: long-support}}, \"8\": {{since: {Nights.On(-59)}, line: "
            + $"long-support}}, \"9\": {{since: {Nights.On(92)}, line: long-support}}, \"8.5\": {{line: preview}}}}\n"
            + "jumps:\n  to-7: {from: \"=6\", to: \"7\", methods: {rolling: {member: 1 min}}, change: [put]}\n"
            + "  to-8: {from: \"=7\", to: \"8\", methods: {rolling: {member: 1 min}}, change: [put]}\n"
            + "steps:\n  put: {do: {install: x, version: \"{jump.to}\"}}\n";
        var store =
            $"releases: {{\"1\": {{ends: {Nights.On(63)}}}, \"2\": {{ends: {Nights.On(1159)}}}, "
            + $"\"3\": {{ends: {Nights.On(1524)}}}}}\n"
            + "jumps:\n  to-2: {from: \"=1\", to: \"2\", methods: {offline: {outage: 1 min}}}\n"
            + "  to-3: {from: \"=2\", to: \"3\", methods: {offline: {outage: 1 min}}}\n"
            // Nothing of the third release may stand beside what the run left.
            + "rules: [{this: \"<3\", serves: engine, at: \">=6\", verdict: supported}, "
            + "{this: \"<3\", depends-on: engine, at: \">=6\", verdict: supported}]\n";
        var fleet = new Fleet()
            .Node("n[1-4]", "site: s")
            .Node("m[1-4]", "site: s")
            .With("app", "engine", "6", "\"n[1-2]\"", "depends-on: [near]")
            .With("other", "engine", "6", "\"n[3-4]\"")
            .With("ahead", "engine", "7", "\"m[3-4]\"")
            .With("near", "store", "1", "m1")
            .With("user", "store", "1", "m2", "depends-on: [app]")
            .With("far", "store", "1", "m2")
            .Product("engine", engine)
            .Product("store", store);
        var plan = Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: =7}]"), "e", "c"));
        var state = new RunState(plan);
        void Say(RunEvent e) => state.Apply(new JournalEntry("r", state.Sequence + 1, 1, Start, e));
        Say(new Opened(plan.Digest, "", "Wren", null));
        Assert.Empty(WhatComesNext.Of(state, fleet.Index(), Nights.Day(0)));
        Say(
            new MembersRead(
                "after",
                plan.Premises.Running.Keys.Aggregate(plan.Premises.Running, (all, m) => all.SetItem(m, "7"))
            )
        );
        Say(new Ended(RunEnd.Completed));
        var next = WhatComesNext.Of(state, fleet.Index(), Nights.Day(0));
        Assert.Equal(
            [
                "other 6 7 its partner app runs it now",
                $"app 7 8 8, with long support, is out since {Nights.On(-59)}",
                $"near 1 2 its support ends on {Nights.On(63)}",
                $"user 1 2 its support ends on {Nights.On(63)}",
            ],
            next.Select(n => $"{n.Component} {n.Runs} {n.To} {n.Why}")
        );
        Assert.Contains(
            "| other | 6 | 7 | its partner app runs it now |",
            (RunReport.Of("r", state, []) with { Next = next }).ToMarkdown(TimeZoneInfo.Utc)
        );
    }
}
