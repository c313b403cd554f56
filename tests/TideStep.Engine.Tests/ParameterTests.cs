using TideStep.Connectors;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;
using TideStep.Core.Runs;

namespace TideStep.Engine.Tests;

/// <summary>What a step takes from readings and secrets, and what its own report tells, through the real
/// executor.</summary>
public sealed class ParameterTests
{
    private static string With(string steps) =>
        Carriage.Steps.Replace("steps:\n", $"readings: {{mode: {{by: field, unit: text}}}}\nsteps:\n{steps}\n");

    private static void Tell(Carriage carriage, string mode)
    {
        foreach (var node in carriage.Nodes)
            carriage.Far.Told[(node, "mode")] = Value.Of(mode);
    }

    [Fact]
    public async Task What_a_measure_changed_is_put_back_to_what_was_read_before_it_whoever_owns_the_run()
    {
        var carriage = new Carriage(
            members: 2,
            steps: With("  open: {do: {command: [set, open]}, undo: {command: [set, \"{reading.mode}\"]}}"),
            change: "[open, put]"
        );
        Tell(carriage, "half");
        // The step itself changes what is read; later owners find that.
        carriage.Far.Outcome = (node, action) =>
        {
            if (action is { Verb: "command", Arguments: ["set", var mode] })
                carriage.Far.Told[(node, "mode")] = Value.Of(mode);
            return 0;
        };
        var owners = await carriage.ToEndAsync(owner => carriage.Journal.Left = owner < 40 ? 3 : null);
        Assert.True(owners > 5);
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.All(carriage.Nodes, n => Assert.Equal("half", carriage.Far.Told[(n, "mode")].ToString()));
        Assert.All(carriage.State.Parameters.Values, v => Assert.Equal("half", v["mode"]));
    }

    [Fact]
    public async Task A_reading_that_is_not_to_be_had_halts_the_run_before_the_step()
    {
        var carriage = new Carriage(
            members: 2,
            steps: With("  open: {do: {command: [set, \"{reading.mode}\"]}}"),
            change: "[open, put]"
        );
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var halt = await Carriage.UntilAsync(owner, working, s => s.Halt);
        Assert.Contains("'mode' could not be read", halt.Why);
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.Contains("command set", StringComparison.Ordinal));
        Tell(carriage, "half");
        await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null));
        await working;
        Assert.Equal(2, carriage.Far.Deeds.Count(d => d.EndsWith("command set", StringComparison.Ordinal)));
    }

    [Fact]
    public async Task A_conversion_that_reports_failures_halts_the_run_though_it_ended_well()
    {
        var carriage = new Carriage(
            members: 2,
            steps: With(
                "  convert: {title: convert the store, do: {command: [convert]}, repeatable: true, tells: "
                    + "{failed: {pattern: '([0-9]+) failed', at-most: 0}, objects: '([0-9]+) objects'}}"
            ),
            change: "[convert, put]"
        );
        var failed = 3;
        carriage.Far.Prints = (_, action) =>
            action is { Verb: "command", Arguments: ["convert", ..] } ? $"1000 objects, {failed} failed" : "";
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var halt = await Carriage.UntilAsync(owner, working, s => s.Halt);
        Assert.Equal("convert the store on n1: it tells failed 3, at most 0 may be", halt.Why);
        failed = 0;
        await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.All(carriage.State.Numbers.Values, n => Assert.Equal((0, 1000), (n["failed"], n["objects"])));
        Assert.Contains(
            "| convert the store | n1 | failed 0, objects 1000 |",
            RunReport.Of("r", carriage.State, carriage.Journal.Entries).ToMarkdown(TimeZoneInfo.Utc)
        );
    }

    [Fact]
    public async Task What_a_secret_holds_is_in_no_output_and_one_that_is_missing_stops_the_step_before_its_intent()
    {
        var known = false;
        var carriage = new Carriage(
            members: 2,
            steps: With("  join: {do: {command: [join, \"{secret.key}\"]}}"),
            change: "[join, put]"
        )
        {
            Mask = (names, text) =>
                known
                    ? text.Replace("heron-7", "•••")
                    : throw new ConnectorException(new Problem($"there is no secret '{names.First()}'"), lasting: true),
        };
        carriage.Far.Prints = (_, action) =>
            action is { Verb: "command", Arguments: ["join", ..] } ? "joined with heron-7"
            // A step that was given nothing of it prints what it found.
            : action is { Verb: "start" } ? "started, and found heron-7"
            : "";
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        Assert.Equal("there is no secret 'key'", (await Carriage.UntilAsync(owner, working, s => s.Halt)).Why);
        Assert.Empty(carriage.State.OpenAttempts);
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.Contains("join", StringComparison.Ordinal));
        known = true;
        await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(
            2,
            carriage
                .Journal.Entries.Select(e => e.Event)
                .OfType<AttemptEnded>()
                .Count(e => e.Output == "joined with •••")
        );
        Assert.DoesNotContain("heron-7", string.Join("\n", carriage.Journal.Entries.Select(e => Json.Canonical(e))));
    }

    [Fact]
    public async Task Of_all_services_those_that_stood_still_are_not_started()
    {
        var steps = Carriage
            .Steps.Replace("stop: {do: {stop: x}", "stop: {do: {stop: services}")
            .Replace("start: {do: {start: x}}", "start: {do: {start: services}}");
        var fleet = new TideStep.Tests.Fleet()
            .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
            .With("app", "engine", "6", "\"n[1-2]\"");
        fleet.Document(
            "engine",
            "tidestep: product/1\nproduct: {id: engine, services: [web, worker]}\n"
                + "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: {rolling: "
                + "{member: 1 min, settle: 1 min}}, change: [put]}\n"
                + steps
        );
        var carriage = new Carriage(fleet, "goal: [{component: app, to: 7}]");
        foreach (var node in carriage.Nodes)
        {
            carriage.Far.Told[(node, "service(\"web\").active")] = Value.True;
            carriage.Far.Told[(node, "service(\"worker\").active")] = Value.False;
        }
        carriage.Far.Outcome = (node, action) =>
        {
            if (action.Verb is "start" or "stop")
                carriage.Far.Told[(node, $"service(\"{action.Arguments[0]}\").active")] = Value.Of(
                    action.Verb == "start"
                );
            return 0;
        };
        Assert.Equal(1, await carriage.ToEndAsync(_ => { }));
        Assert.Equal(
            ["n1 stop web", "n1 install x", "n1 start web", "n2 stop web", "n2 install x", "n2 start web"],
            carriage.Far.Deeds
        );
    }
}
