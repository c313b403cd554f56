using TideStep.Core.Plans;

namespace TideStep.Core.Tests;

/// <summary>What a plan does otherwise than an earlier one, in the user's words.</summary>
public sealed class PlanComparisonTests
{
    private const string Steps =
        "steps:\n  stop: {do: {stop: x}, safe-after: true}\n  look: {title: look at it, do: {command: "
        + "[look]}}\n  save: {do: {capture: save, paths: [/data]}, takes: 2 min}\n"
        + "  put: {do: {install: x, version: \"{jump.to}\"}}\n  start: {do: {start: x}}\n"
        + "routines: {leave: [stop], return: [start], restore: {save: [stop, start]}}\n";

    private static Plan Make(
        string methods = "rolling: {member: 9 min, settle: 1 min}",
        string change = "[put]",
        string more = "",
        string component = "",
        string to = "2",
        string revision = "e",
        string windows = ""
    )
    {
        var fleet = new Fleet().Node("a[1-4]").With("app", "engine", "1", "\"a[1-4]\"", component);
        if (windows.Length > 0)
            fleet.Windows(windows);
        fleet.Product(
            "engine",
            $"releases: {{\"1\": {{}}, \"2\": {{}}, \"3\": {{}}}}\n"
                + $"jumps:\n  to-2: {{from: \"=1\", to: \"2\", methods: {{{methods}}}, change: {change}{more}}}\n"
                + $"  to-3: {{from: \"=1\", to: \"3\", methods: {{{methods}}}, change: {change}}}\n{Steps}"
        );
        var request = fleet.Request($"goal: [{{component: app, exactly: {to}}}]");
        return Fleet.Good(PlanMaker.Make(request.Index, Fleet.Good(Paths.PathFinder.Find(request)), revision, "c"));
    }

    private static IReadOnlyList<string> Of(Plan later) => PlanComparison.Of(Make(), later);

    [Fact]
    public void A_plan_made_twice_is_the_same() => Assert.Empty(Of(Make()));

    [Fact]
    public void Another_end_is_another_goal_and_another_move()
    {
        var said = Of(Make(to: "3"));
        Assert.Contains("has the goal app 1 to 3", said);
        Assert.Contains("no longer has the goal app 1 to 2", said);
        Assert.Contains("makes the move app 1 to 3", said);
    }

    [Fact]
    public void Another_method_is_named_with_the_outage_that_it_brings()
    {
        var said = Of(Make("offline: {outage: 5 min}"));
        Assert.Contains("does app 1 to 2 by offline instead of rolling", said);
        Assert.Contains("5 min outage more", said);
        Assert.Contains("35 min shorter", said);
    }

    [Fact]
    public void Larger_waves_are_counted()
    {
        var said = Of(Make(component: "guard: {keep: 2, at-once: 2}, domains: ignored"));
        Assert.Contains("app 1 to 2 goes in 2 waves instead of 4", said);
        Assert.Contains("20 min shorter", said);
    }

    [Fact]
    public void A_step_and_a_point_more_are_named()
    {
        Assert.Contains(Of(Make(change: "[look, put]")), s =>
            s.StartsWith("has the step look at it on app/a1", StringComparison.Ordinal)
        );
        Assert.Contains(Of(Make(more: ", points: [{capture: save, while: stopped}]")), s =>
            s.StartsWith("takes a rollback point of app/a1 (save, before move 1)", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void Where_loss_begins_or_the_way_closes_is_compared() =>
        Assert.Contains(
            "the return path closes nowhere instead of at 'app wave 1 of 4'",
            Of(Make(more: ", points: [{capture: save, while: stopped}]"))
        );

    [Fact]
    public void Another_revision_and_windows_are_named()
    {
        Assert.Contains("was made from another revision of the estate", Of(Make(revision: "f")));
        Assert.Contains(
            $"uses {Nights.On(0)} 01:00 for move 1 instead of none",
            Of(Make(windows: "  w: {every: sunday, from: \"01:00\", lasts: 5 h}\n"))
        );
    }
}
