using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>Plans of every method carried to their end: what they say is what is done.</summary>
public sealed class MethodTests
{
    private static string Product(string jump, string more = "", string routines = "") =>
        $"releases: {{\"6\": {{}}, \"7\": {{}}}}\njumps:\n  to-7: {{from: \"=6\", to: \"7\", {jump}, change: "
        + $"[put]}}\n{more}steps:\n  stop: {{do: {{stop: x}}, safe-after: true}}\n"
        + $"  put: {{do: {{install: x, version: \"{{jump.to}}\"}}}}\n"
        + $"  start: {{do: {{start: x}}}}\n  forget: {{do: {{command: [forget]}}}}\n"
        + $"routines: {{leave: [stop], return: [start]{routines}}}\n";

    [Fact]
    public async Task A_joint_move_stops_all_changes_all_and_starts_all()
    {
        const string offline = "methods: {offline: {outage: 1 min}}";
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "n1")
                .With("front", "web", "6", "n2", "depends-on: [app]")
                .Product("engine", Product(offline + ", together: [{product: web, range: \"7\"}]"))
                .Product("web", Product(offline + ", together: [{product: engine, range: \"7\"}]")),
            "goal: [{component: app, to: 7}]"
        );
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(
            ["n2 stop x", "n1 stop x", "n1 install x", "n2 install x", "n1 start x", "n2 start x"],
            carriage.Far.Deeds
        );
        Assert.Equal(("7", "7"), (carriage.Far.RunningOf("n1", "app"), carriage.Far.RunningOf("n2", "front")));
        Assert.Equal(
            ["app 6 7 1", "front 6 7 1"],
            RunView.Of("r", carriage.State, 1).Tide.Select(t => $"{t.Component} {t.From} {t.To} {t.New}")
        );
    }

    [Fact]
    public async Task A_replaced_member_leaves_only_after_its_successor_is_in_step()
    {
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
                .Node("spare", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "n1, n2", "guard: 2, spares: [spare]")
                .Product(
                    "engine",
                    Product("methods: {replace: {member: 1 min}}", routines: ", join: [start], retire: [forget]")
                ),
            "goal: [{component: app, to: 7}]"
        );
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(
            [
                "spare install x",
                "spare start x",
                "n1 stop x",
                "n1 command forget",
                "n1 install x",
                "n1 start x",
                "n2 stop x",
                "n2 command forget",
            ],
            carriage.Far.Deeds
        );
        Assert.Equal(1, carriage.Far.MostStopped);
    }
}
