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

    private static Carriage Behind() =>
        new(
            new Fleet()
                .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
                .Node("f[1-2]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-2]\"")
                .With("front", "pool", "1", "\"f[1-2]\"", "depends-on: [app]")
                .Product("pool", "releases: {\"1\": {}}\n")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: {rolling: "
                        + "{member: 1 min}}, change: [put]}\nroutines: {leave: [drain, gone], return: [start]}\n"
                        + "readings: {in-use: {by: field, field: \"use of {member.node}\", unit: count, on: {serves: "
                        + "pool}}}\n"
                        + "steps:\n  drain: {do: {command: [quiet, \"{member.node}\"]}, on: {serves: pool}, undo: "
                        + "{command: [loud, \"{member.node}\"]}}\n"
                        + "  gone: {do: {await: in-use = 0}, limit: 1 s}\n"
                        + "  put: {do: {install: x, version: \"{jump.to}\"}}\n  start: {do: {start: x}}\n"
                ),
            "goal: [{component: app, to: 7}]"
        );

    [Fact]
    public async Task The_balancer_is_told_of_each_member_and_told_again_when_it_is_back()
    {
        var carriage = Behind();
        foreach (var node in new[] { "f1", "f2" })
            carriage.Far.Told[(node, "in-use")] = Core.Expressions.Value.Of(0);
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Empty(carriage.Far.Measures);
        string[] OfMember(string node) =>
            [
                $"f1 command quiet {node}",
                $"f2 command quiet {node}",
                $"{node} install x",
                $"{node} start x",
                $"f1 command loud {node}",
                $"f2 command loud {node}",
            ];
        Assert.Equal(
            OfMember("n1").Concat(OfMember("n2")).Order(StringComparer.Ordinal),
            carriage.Far.Whole.Order(StringComparer.Ordinal)
        );
        Assert.True(carriage.Far.Whole.IndexOf("f2 command quiet n1") < carriage.Far.Whole.IndexOf("n1 install x"));
        Assert.True(carriage.Far.Whole.IndexOf("n1 install x") < carriage.Far.Whole.IndexOf("f1 command loud n1"));
    }

    [Fact]
    public async Task What_the_balancer_tells_of_a_member_is_asked_of_the_first_that_answers()
    {
        var carriage = Behind();
        carriage.Far.Told[("f2", "in-use")] = Core.Expressions.Value.Of(0);
        carriage.Far.Around = (call, node, _) =>
            call == "read" && node == "f1" ? throw FarSide.Away(node) : Task.CompletedTask;
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Contains(carriage.Far.Asked, a => a == ("f2", "use of n2"));
    }

    [Fact]
    public async Task What_a_step_noted_is_compared_with_in_another_steps_proof()
    {
        var carriage = new Carriage(
            2,
            "readings: {label: {by: field, unit: text}}\nsteps:\n"
                + "  note: {do: {command: [note]}, notes: label}\n"
                + "  put: {do: {install: x, version: \"{jump.to}\"}, limit: 1 s, "
                + "verify: {holds: 'label = \"{noted.label}\"', within: 1 s}}\n",
            "[note, put]"
        );
        carriage.Far.Prints = (_, action) => action.Verb == "command" ? "blue\n" : "";
        foreach (var node in carriage.Nodes)
            carriage.Far.Told[(node, "label")] = Core.Expressions.Value.Of("green");
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var why = await Carriage.UntilAsync(owner, working, s => s.Halt?.Why);
        Assert.Contains("label = \"blue\" (label = green)", why);
        foreach (var node in carriage.Nodes)
            carriage.Far.Told[(node, "label")] = Core.Expressions.Value.Of("blue");
        Assert.Null(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null)));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }
}
