using TideStep.Core.Runs;
using TideStep.Engine.Runs;

namespace TideStep.Engine.Tests;

/// <summary>Steps that a person does, and errors of the program itself.</summary>
public sealed class PersonStepTests
{
    private const string Steps = """
        steps:
          stop: {do: {stop: x}, safe-after: true}
          look:
            title: "look at {jump.to} on the screen"
            do: {person: "Open the page and read the version."}
            owner: desk
          put: {do: {install: x, version: "{jump.to}"}, must: true}
          start: {do: {start: x}}
        routines: {leave: [stop], return: [start]}

        """;

    [Fact]
    public async Task A_step_that_waits_for_a_person_is_shown_with_all_that_signs_it_and_is_signed_by_its_title()
    {
        var carriage = new Carriage(2, Steps, "[look, put]");
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var view = await Carriage.UntilAsync(owner, working, s =>
            RunView.Of("r", s, 1) is { Persons.IsEmpty: false } shown ? shown : null
        );
        var waits = Assert.Single(view.Persons);
        Assert.Equal(("look at 7 on the screen", "app/n1", "desk"), (waits.Title, waits.Member, waits.Owner));
        Assert.Equal("Open the page and read the version.", waits.Instructions);
        Assert.NotNull(waits.Since);
        Assert.Equal(
            "tidestep run sign r 'look at 7 on the screen' --member app/n1 --evidence 'what you did and saw'",
            waits.Command
        );
        Assert.True(view.OnlyPersonsWork);
        Assert.Equal("for desk: look at 7 on the screen, on app/n1", view.WaitsFor);
        Assert.Contains("no step", (await Sign(owner, "another title"))!.What);
        Assert.Contains("needs evidence", (await Sign(owner, "look at 7 on the screen", evidence: " "))!.What);
        Assert.Null(await Sign(owner, "Look at 7 on the screen", "app/n1"));
        var second = await Carriage.UntilAsync(owner, working, s =>
            s.AwaitedPersons.FirstOrDefault(p => p.Step.Member == "app/n2") is { } next ? next.Step.Id : null
        );
        Assert.Null(await Sign(owner, null));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Contains(carriage.State.Signed, s => s.Step == second);
    }

    private static Task<Core.Documents.Problem?> Sign(
        RunExecutor owner,
        string? step,
        string? member = null,
        string evidence = "seen"
    ) => owner.SayAsync(s => Orders.Sign(s, step, "Wren", evidence, member));

    private static string Undoing(string lasts) =>
        Steps.Replace(
            "put: {",
            $"jobs: {{title: switch jobs off, do: {{command: [off]}}, undo: {{person: Switch the jobs on "
                + $"again.}}, owner: desk{lasts}}}\n  put: {{"
        );

    [Theory]
    [InlineData("")]
    [InlineData(", lasts: wave")]
    [InlineData(", lasts: jump")]
    [InlineData(", lasts: run")]
    public async Task What_a_person_takes_back_is_asked_for_and_signed_before_the_run_closes(string lasts)
    {
        var carriage = new Carriage(2, Undoing(lasts), "[jobs, put]");
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var view = await Carriage.UntilAsync(owner, working, s =>
            RunView.Of("r", s, 1) is { Persons.IsEmpty: false } shown ? shown : null
        );
        var waits = Assert.Single(view.Persons);
        Assert.Equal(
            ("take back: switch jobs off", "Switch the jobs on again.", "desk", true),
            (waits.Title, waits.Instructions, waits.Owner, waits.Undo)
        );
        Assert.True(view.OnlyPersonsWork);
        Assert.Equal($"for desk: take back: switch jobs off, on {waits.Member}", view.WaitsFor);
        Assert.Null(view.Ended);
        Assert.Contains("needs evidence", (await Sign(owner, null, evidence: ""))!.What);
        Assert.Null(await Sign(owner, "take back: switch jobs off", waits.Member));
        await SignTheRestAsync(owner, working);
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Empty(carriage.State.Measures);
        Assert.Contains("signed by Wren: taken back, switch jobs off", Report(carriage));
    }

    [Fact]
    public async Task What_a_person_did_is_taken_back_by_a_person_too()
    {
        var steps = Steps.Replace("owner: desk", "owner: desk\n    undo: {person: Close the page.}");
        var carriage = new Carriage(2, steps, "[look, put]");
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        await Carriage.UntilAsync(owner, working, s => s.AwaitedPersons.FirstOrDefault(p => !p.Undo));
        Assert.Null(await Sign(owner, null));
        var undo = await Carriage.UntilAsync(owner, working, s => s.AwaitedPersons.FirstOrDefault(p => p.Undo));
        Assert.Equal("Close the page.", undo.Instructions);
        Assert.Null(await Sign(owner, undo.Step.Title));
        await SignTheRestAsync(owner, working);
        Assert.Equal(4, carriage.State.Signed.Count);
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task What_can_not_be_taken_back_is_left_to_be_done_by_its_owner()
    {
        var carriage = new Carriage(2, Undoing(", lasts: run"), "[jobs, put]");
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        await Carriage.UntilAsync(owner, working, s => s.AwaitedPersons.FirstOrDefault(p => p.Undo));
        Assert.Null(
            await owner.SayAsync(s =>
                Orders.Sign(s, null, "Wren", "the switch is broken", cannotBeUndone: true, owner: "Ida")
            )
        );
        await SignTheRestAsync(owner, working);
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        var left = Assert.Single(FollowUps.Of(carriage.State), f => f.Id.StartsWith("kept ", StringComparison.Ordinal));
        Assert.Equal(
            ("take back when it can be: switch jobs off", "Ida", "the switch is broken"),
            (left.What, left.Owner, left.Why)
        );
        Assert.Contains("not taken back, says Wren: switch jobs off", Report(carriage));
    }

    [Fact]
    public async Task An_owner_that_ends_while_a_person_is_waited_for_asks_no_second_time()
    {
        var carriage = new Carriage(2, Undoing(", lasts: run"), "[jobs, put]");
        var first = await carriage.OwnerAsync(start: true);
        var working = first.ExecuteAsync(default);
        await Carriage.UntilAsync(first, working, s => s.AwaitedPersons.FirstOrDefault(p => p.Undo));
        var second = await carriage.OwnerAsync();
        working = second.ExecuteAsync(default);
        await SignTheRestAsync(second, working);
        Assert.Equal(2, carriage.Journal.Entries.Count(e => e.Event is UndoAsked));
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    // Signs whatever waits, one after another, till the run ends.
    private static async Task SignTheRestAsync(RunExecutor owner, Task working)
    {
        while (
            await Carriage.UntilAsync(owner, working, s =>
                s.End is not null ? "" : s.AwaitedPersons.FirstOrDefault()?.Step.Id
            )
                is { Length: > 0 } step
        )
            Assert.Null(await Sign(owner, step));
        await working;
    }

    private static string Report(Carriage carriage) =>
        RunReport.Of("r", carriage.State, carriage.Journal.Entries).ToMarkdown(TimeZoneInfo.Utc);

    [Fact]
    public async Task A_task_inside_the_window_is_a_step_that_the_run_waits_for()
    {
        var carriage = new Carriage(
            2,
            Steps,
            "[put], tasks: [{title: \"tell the desk of {jump.to}\", when: inside, owner: desk, "
                + "instructions: Ring them.}]"
        );
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var waits = await Carriage.UntilAsync(owner, working, s => s.AwaitedPersons.FirstOrDefault());
        Assert.Equal(("tell the desk of 7", "Ring them.", "desk"), (waits.Title, waits.Instructions, waits.Step.Owner));
        Assert.Empty(carriage.Far.Deeds);
        Assert.Null(await Sign(owner, "tell the desk of 7"));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task What_must_be_done_is_neither_skipped_nor_vouched_for()
    {
        var carriage = new Carriage(2, Steps, "[put]");
        carriage.Far.Outcome = (_, action) => action.Verb == "install" ? 7 : 0;
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        await Carriage.UntilAsync(owner, working, s => s.Halt?.Why);
        foreach (var decision in new[] { DecisionKind.Skip, DecisionKind.MarkAsDone })
            Assert.Contains(
                "has to be done",
                (await owner.SayAsync(s => Orders.Decide(s, decision, "Wren", "a reason", null)))!.What
            );
        Assert.DoesNotContain(RunView.Of("r", owner.Log.Look(s => s), 1).Decisions, d =>
            d.Decision is DecisionKind.Skip or DecisionKind.MarkAsDone
        );
    }

    [Fact]
    public async Task An_error_of_our_own_is_tried_twice_again_and_then_halts_the_run_by_its_name()
    {
        var (carriage, times) = (new Carriage(2, Steps, "[put]"), 0);
        carriage.Far.Around = (call, node, _) =>
            node == "n1" && call == "begin" && ++times > 0
                ? throw new KeyNotFoundException("the point is not there")
                : Task.CompletedTask;
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var why = await Carriage.UntilAsync(owner, working, s => s.Halt?.Why);
        Assert.Contains("an error of Tide Step's own, not of the host (KeyNotFoundException", why);
        Assert.Equal(3, times);
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n2", StringComparison.Ordinal));
    }
}
