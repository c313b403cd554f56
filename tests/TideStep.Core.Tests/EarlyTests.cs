using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

/// <summary>What lies ready days before, what is begun at a chosen time, and what puts it into effect.</summary>
public sealed class EarlyTests
{
    private const string Slots = """
        releases: {"1": {}, "2": {}, "3": {}}
        jumps:
          to-2: {from: "=1", to: "2", methods: {two-slot: {member: 4 min, settle: 1 min}}, ahead: [stage],
              change: [switch]}
          to-3: {from: "=2", to: "3", methods: {two-slot: {member: 4 min, settle: 1 min}}, ahead: [stage],
              change: [switch], restarts: node}
          back: {from: "=2", to: "1", down: true, methods: {two-slot: {member: 4 min}}, change: [switch]}
        steps:
          stop: {do: {stop: x}, safe-after: true}
          stage: {do: {command: [stage, "{jump.to}"]}, takes: 2 h}
          quiet: {do: {command: [quiet]}, undo: {command: [loud]}}
          switch: {do: {command: [switch]}}
          start: {do: {start: x}}
        routines: {leave: [stop], return: [start]}

        """;

    private const string Plain =
        "releases: {\"1\": {}, \"2\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", methods: {rolling: "
        + "{member: 9 min, settle: 1 min}}, change: [switch]}\nsteps:\n"
        + "  stop: {do: {stop: x}, safe-after: true}\n  switch: {do: {command: [switch]}}\n"
        + "  start: {do: {start: x}}\nroutines: {leave: [stop], return: [start]}\n";

    private static Fleet Of(
        string windows = "  night: {every: sunday, from: \"01:00\", lasts: 2 h}\n",
        string slots = Slots
    ) =>
        new Fleet()
            .Windows(windows)
            .Node("a[1-2]")
            .Node("g[1-2]")
            .With("app", "plain", "1", "\"a[1-2]\"")
            .With("gates", "slots", "1", "\"g[1-2]\"")
            .Product("plain", Plain)
            .Product("slots", slots);

    private static Checked<Plan> Make(Fleet fleet, string early, string to = "2")
    {
        var request = fleet.Request($"goal: [{{component: app, to: 2}}, {{component: gates, to: {to}}}]\n{early}");
        return PlanMaker.Make(request.Index, Fleet.Good(Paths.PathFinder.Find(request)), "e", "c");
    }

    [Fact]
    public void What_is_made_ready_early_comes_first_outside_any_window_and_once()
    {
        // Staging takes two hours: inside the window nothing would fit.
        Assert.Contains("no window is long enough", Make(Of(), "").Problems[0].What);
        var plan = Fleet.Good(Make(Of(), "early: [gates]\n"));
        var early = Assert.Single(plan.Blocks, b => b.Early == true);
        Assert.Equal(
            (1, Phase.Prepare, (DateTimeOffset?)null, "nothing has been changed"),
            (early.Number, early.Phase, early.Begins, early.Return.Why)
        );
        Assert.Equal(["g1", "g2"], early.Lanes.SelectMany(l => l.Steps).Select(s => s.Node));
        Assert.Equal(2, plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Count(s => s.Name == "stage"));
        Assert.All(plan.Blocks.Skip(1), b => Assert.NotNull(b.Begins));
        Assert.True(plan.Blocks.Zip(plan.Blocks.Skip(1)).All(p => p.Second.Number == p.First.Number + 1));
    }

    [Fact]
    public void Only_the_first_of_several_jumps_lies_ready()
    {
        var plan = Fleet.Good(Make(Of(windows: ""), "early: [gates]\n", "3"));
        Assert.Equal(["2", "3"], plan.Blocks.Where(b => b.Phase == Phase.Prepare).Select(b => b.Lanes[0].Steps[0].To));
        Assert.Equal([true, null], plan.Blocks.Where(b => b.Phase == Phase.Prepare).Select(b => b.Early));
    }

    [Theory]
    [InlineData("early: [gate]\n", "gate can't be made ready early: the estate has no such component", "gates")]
    [InlineData("early: [app]\n", "jump to-2 of plain does nothing ahead", "ahead")]
    public void What_can_not_lie_ready_is_said(string early, string what, string hint)
    {
        var problem = Make(Of(), early).Problems.First(p => p.What.Contains(what, StringComparison.Ordinal));
        Assert.Contains(hint, problem.Hint);
    }

    [Fact]
    public void A_temporary_measure_does_not_stand_for_days() =>
        Assert.Contains(
            "is a temporary measure, which would stand for days",
            string.Join(
                "; ",
                Make(
                    Of(
                        slots: Slots.Replace(
                            "to: \"2\", methods: {two-slot: {member: 4 min, settle: 1 min}}, ahead: [stage]",
                            "to: \"2\", methods: {two-slot: {member: 4 min, settle: 1 min}}, ahead: [quiet, stage]"
                        )
                    ),
                    "early: [gates]\n"
                ).Problems
            )
        );

    [Fact]
    public void Entering_waits_for_the_chosen_time_and_for_the_end_of_a_freeze_but_early_work_for_no_window()
    {
        var plan = Fleet.Good(Make(Of(), "early: [gates]\n"));
        var (early, first) = (plan.Blocks[0], plan.Blocks[1]);
        var now = plan.Windows[0].From.AddDays(-2);
        Assert.Equal(default, Entering.Of(plan, early, now));
        Assert.Equal(default, Entering.Of(plan, early, now, now.AddDays(1)));
        Assert.Equal(plan.Windows[0].From, Entering.Of(plan, first, now).WaitTill);
        // The later of the two, one after the other.
        Assert.Equal(now.AddDays(1), Entering.Of(plan, first, now, now.AddDays(1)).WaitTill);
        Assert.Equal(plan.Windows[0].From, Entering.Of(plan, first, now.AddDays(1), now.AddDays(1)).WaitTill);
        var frozen = plan with { Freezes = [new PlannedFreeze("sale", now.AddHours(1), now.AddHours(9), null)] };
        Assert.Equal(now.AddHours(9), Entering.Of(frozen, early, now).WaitTill);
        Assert.Equal(default, Entering.Of(frozen, early, now.AddHours(-2)));
    }

    [Theory]
    [InlineData("1", "2", "a restart of the service")]
    [InlineData("2", "3", "a restart of the node")]
    [InlineData("1", "3", "a restart")]
    public void The_least_restart_that_is_enough_is_named(string running, string installed, string by) =>
        Assert.Equal(by, InEffect.By(Of().Catalogue.Find("slots")!, running, installed));

    [Fact]
    public void A_start_can_be_put_off_until_the_work_has_begun()
    {
        var plan = Fleet.Good(Make(Of(windows: ""), "early: [gates]\n"));
        var state = new RunState(plan);
        var now = Nights.At(-2, 12);
        void Say(params RunEvent[] events)
        {
            foreach (var e in events)
                state.Apply(new JournalEntry("r", state.Sequence + 1, 1, now, e));
        }
        Say(new Opened(plan.Digest, "", "Wren", null), new StartPlanned(now.AddDays(2), "Wren"), new Started("Wren"));
        Assert.Equal([new EnterInWindow(1)], NextWork.Of(state).ToArray());
        Assert.NotNull(Orders.StartAt(state, "Wren", now, now).Refused);
        Say(Orders.StartAt(state, "Dunlin", now.AddDays(3), now).Events);
        Say(new BlockEntered(1));
        Assert.Equal(now.AddDays(3), state.StartAt);
        Say(Orders.StartAt(state, "Dunlin", null, now).Events);
        Assert.NotNull(Orders.StartAt(state, "Dunlin", null, now).Refused);
        Say(new BlockDone(1), new BlockEntered(2));
        Assert.Contains("has begun its work", Orders.StartAt(state, "Wren", now.AddDays(4), now).Refused!.What);
    }
}
