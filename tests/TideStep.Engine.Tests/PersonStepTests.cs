using TideStep.Core.Runs;

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
            s.AwaitedPersons.FirstOrDefault(p => p.Member == "app/n2") is { } next ? next.Id : null
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
