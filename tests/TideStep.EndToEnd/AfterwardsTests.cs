using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>What is done about a run after its end: leading it back the morning after, and giving its rollback points
/// up.</summary>
public sealed class AfterwardsTests
{
    private static async Task<List<(string Id, string State)>> PointsAsync(DemoStack stack, string run) =>
        [
            .. JsonNode
                .Parse(await stack.Good("point", "list", "--run", run, "--format", "json"))!
                .AsArray()
                .Select(p => ((string)p!["id"]!, (string)p["state"]!)),
        ];

    [Fact]
    public async Task A_run_is_led_back_the_morning_after_and_its_points_count_as_used()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        var run = await stack.OpenAsync("tiny/goal.yaml", "Relay to 3.2");
        Assert.Equal(0, (await stack.Cli("run", "start", run, "--follow")).Status);
        // Inside the settle time nobody gives up what leads it back.
        var early = await stack.Cli("point", "give-up", "--run", run);
        Assert.Equal(1, early.Status);
        Assert.Contains("settles till", early.Error);
        var decided = await stack.Cli("run", "decide", run, "return", "--reason", "too late");
        Assert.Equal(1, decided.Status);
        Assert.Contains("tidestep run return", decided.Error);

        var path = await stack.Good("run", "return", run);
        Assert.Contains("relay-south 3.2 back to 3.1", path);
        Assert.Contains("loses  relay-south: what was written since", path);
        Assert.Contains($"tidestep run return {run} --start", path);
        Assert.DoesNotContain(await stack.DeedsAsync(), d => d.What.Contains("bring-back", StringComparison.Ordinal));
        Assert.Equal(1, (await stack.Cli("run", "return", run, "--start")).Status);
        var back = await stack.Cli("run", "return", run, "--start", "--reason", "the tills print nothing", "--follow");
        Assert.True(back.Status == 0, back.Output + back.Error);
        Assert.Contains("ended: completed", back.Output);
        Assert.Equal(["used", "used"], (await PointsAsync(stack, run)).Select(p => p.State));

        // It is its own run, with its reason; the first stays what it was, and can't be led back twice.
        var its = JsonNode
            .Parse(await stack.Good("run", "list", "--format", "json"))!
            .AsArray()
            .First(r => ((string)r!["label"]!).StartsWith("return of", StringComparison.Ordinal))!;
        Assert.Equal("return of Relay to 3.2", (string)its["label"]!);
        Assert.Contains("the tills print nothing", (await stack.JournalAsync((string)its["run"]!))[0]!.ToJsonString());
        Assert.Equal("completed", (string)(await stack.RunAsync(run))["status"]!);
        var twice = await stack.Cli("run", "return", run, "--start", "--reason", "again");
        Assert.Equal(1, twice.Status);
        Assert.Contains($"runs 3.1, run {run} left it at 3.2", twice.Error);
        Assert.Contains("relay-south", await stack.Good("estate", "show"));
    }

    [Fact]
    public async Task Points_are_proved_in_a_scratch_place_and_given_up_on_a_persons_word()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        var product = stack.Demo("catalogue/phalarope.yaml");
        var text = (await File.ReadAllTextAsync(product))
            .Replace("{capture: store, while: stopped}", "{capture: store, while: stopped, serves: 20 d, settle: 0 s}")
            .Replace(
                "restore: {store: [restore-store]}",
                "restore: {store: [restore-store]}\n  prove: {store: [try-store]}"
            )
            .Replace(
                "steps:\n",
                "steps:\n  try-store: {title: try it in a scratch place, do: {command: [try-out, "
                    + "\"{point.place}\"]}, repeatable: true, takes: 1 min}\n"
            );
        Assert.Contains("try-store", text);
        await File.WriteAllTextAsync(product, text);
        await stack.Good("estate", "import", product);
        var run = await stack.OpenAsync("tiny/goal.yaml", "Relay to 3.2");
        Assert.Equal(0, (await stack.Cli("run", "start", run, "--follow")).Status);
        var points = await PointsAsync(stack, run);
        Assert.All(points, p => Assert.Equal("usable", p.State));
        // Each capture was restored into a scratch place before anything was installed there.
        foreach (var node in new[] { "ss-rel-1", "ss-rel-2" })
        {
            var deeds = (await stack.DeedsAsync())
                .Where(d => d.Node == node && d.What == "done")
                .Select(d => d.Verb)
                .ToList();
            Assert.Equal(
                ["capture", "check-point", "command", "install"],
                deeds.SkipWhile(d => d != "capture").Take(4)
            );
        }

        var dry = await stack.Good("point", "give-up", "--run", run, "--dry-run");
        Assert.Contains("would be taken away", dry);
        Assert.DoesNotContain(await stack.DeedsAsync(), d => d.Verb == "discard-point");
        Assert.Contains("Did you mean", (await stack.Cli("point", "give-up", points[0].Id + "x", "--run", run)).Error);
        // While a node is silent nobody else waits for it: they are told.
        await stack.StillAsync(true);
        var slow = stack.Good("point", "give-up", points[0].Id, "--run", run, "--reason", "room is short");
        DemoStack.Ran meanwhile;
        for (var until = DateTime.UtcNow.AddMinutes(1); ; )
        {
            meanwhile = await stack.Cli("point", "give-up", points[1].Id, "--run", run, "--dry-run");
            if (meanwhile.Status != 0 || DateTime.UtcNow > until)
                break;
        }
        Assert.Contains("are being given up right now", meanwhile.Error + meanwhile.Output);
        await stack.StillAsync(false);
        var one = await slow;
        Assert.Contains("given up", one);
        Assert.Contains("given up by Wren Hale: room is short", await stack.Good("point", "show", run, points[0].Id));
        Assert.Single(await stack.DeedsAsync(), d => d is { Verb: "discard-point", What: "done" });
        // With one member's point gone there is no way back for the whole.
        var closed = await stack.Cli("run", "return", run);
        Assert.Equal(1, closed.Status);
        Assert.Contains("The return path is closed", closed.Output);

        // The service may end in between; what was begun is said again, and what is gone stays gone.
        await stack.KillServiceAsync();
        await stack.StartServiceAsync();
        Assert.Equal(["given up", "usable"], (await PointsAsync(stack, run)).Select(p => p.State).Order());
        Assert.Contains("1.1 GiB are free again", await stack.Good("point", "give-up", "--run", run));
        Assert.All(await PointsAsync(stack, run), p => Assert.Equal("given up", p.State));
        Assert.DoesNotContain("rollback points may go", await stack.Good("follow-up", "list", "--run", run));
        Assert.Contains("no such rollback point that takes room", await stack.Good("point", "give-up", "--run", run));
    }

    [Fact]
    public async Task A_snapshot_that_the_far_side_keeps_leads_back_and_is_given_up_there()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        var product = stack.Demo("catalogue/phalarope.yaml");
        const string Snapshot =
            "store: {title: have a snapshot taken, do: {capture: store, take: {command: [snapshot, take, "
            + "\"{point.name}\"]}, there: {command: [snapshot, show, \"{point.name}\"]}, says: "
            + "'\"state\":\"complete\"', bytes: '\"bytes\":([0-9]+)', take-away: {command: [snapshot, drop, "
            + "\"{point.name}\"]}}, repeatable: true, takes: 1 min}";
        var text = (await File.ReadAllTextAsync(product))
            .Replace(
                "store: {title: capture store and program, do: {capture: store}, repeatable: true, takes: 1 min}",
                Snapshot
            )
            .Replace("{capture: store, while: stopped}", "{capture: store, while: stopped, settle: 0 s}");
        Assert.Contains("snapshot, show", text);
        await File.WriteAllTextAsync(product, text);
        await stack.Good("estate", "import", product);

        var first = await stack.OpenAsync("tiny/goal.yaml", "Relay to 3.2");
        Assert.Equal(0, (await stack.Cli("run", "start", first, "--follow")).Status);
        var points = await PointsAsync(stack, first);
        Assert.All(points, p => Assert.Equal("usable", p.State));
        // Nothing was installed on a node before its snapshot was complete there.
        foreach (var node in new[] { "ss-rel-1", "ss-rel-2" })
        {
            var deeds = (await stack.DeedsAsync())
                .Where(d => d.Node == node && d.What == "done")
                .Select(d => d.Verb)
                .ToList();
            var between = deeds.SkipWhile(d => d != "stop").Skip(1).TakeWhile(d => d != "install").ToList();
            Assert.True(between.Count >= 2 && between.All(d => d == "command"), string.Join(' ', deeds));
        }
        var shown = await stack.Good("point", "show", first, points[0].Id);
        Assert.Contains("kept by ss-rel-", shown);
        Assert.Contains("762.9 MiB", shown);
        Assert.Contains("is there and says \"state\":\"complete\"", shown);

        var back = await stack.Cli(
            "run",
            "return",
            first,
            "--start",
            "--reason",
            "the tills print nothing",
            "--follow"
        );
        Assert.True(back.Status == 0, back.Output + back.Error);
        Assert.All(await PointsAsync(stack, first), p => Assert.Equal("used", p.State));

        Assert.Contains(
            "would be given up",
            await stack.Good("point", "give-up", "--run", first, "--dry-run", "--format", "json")
        );
        // A node that can't tell what became of a question has not said that nothing is there.
        var its = (string)
            JsonNode
                .Parse(await stack.Good("point", "list", "--run", first, "--format", "json"))!
                .AsArray()
                .Single(p => (string)p!["id"]! == points[0].Id)!["node"]!;
        await stack.FaultAsync(its, "*", "record-torn");
        Assert.Contains(
            "is not known",
            (await stack.Cli("point", "give-up", points[0].Id, "--run", first, "--format", "json")).Output
        );
        Assert.DoesNotContain(await PointsAsync(stack, first), p => p.State == "given up");
        await stack.MendAsync();
        Assert.Contains("gone", await stack.Good("point", "give-up", points[0].Id, "--run", first, "--format", "json"));
        // The second was dropped by somebody else before.
        var second = JsonNode
            .Parse(await stack.Good("point", "list", "--run", first, "--format", "json"))!
            .AsArray()
            .Single(p => (string)p!["id"]! == points[1].Id)!;
        await stack.CommandAsync((string)second["node"]!, "relay-south", "snapshot", "drop", (string)second["place"]!);
        Assert.Contains(
            "was gone already",
            await stack.Good("point", "give-up", points[1].Id, "--run", first, "--format", "json")
        );
        Assert.All(await PointsAsync(stack, first), p => Assert.Equal("given up", p.State));
    }

    [Fact]
    public async Task The_log_of_a_run_is_there_afterwards_whole_or_of_one_member()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        await stack.FaultAsync("ss-rel-2", "start", "fail-once");
        var run = await stack.OpenAsync("tiny/goal.yaml", "Relay to 3.2");
        Assert.Equal(4, (await stack.Cli("run", "start", run, "--follow")).Status);
        Assert.Equal(
            0,
            (await stack.Cli("run", "decide", run, "try-again", "--reason", "it had no memory", "--follow")).Status
        );
        await stack.KillServiceAsync();
        await stack.StartServiceAsync();
        var log = (await stack.Good("run", "log", run)).TrimEnd('\n').Split('\n');
        Assert.Equal((await stack.JournalAsync(run)).Count, log.Length);
        Assert.All(log, l => Assert.Matches(@"^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d [+-]\d\d:\d\d  \S", l));
        Assert.Contains("opened by Wren Hale: Relay to 3.2", log[0]);
        Assert.Contains(log, l =>
            l.Contains("decided by Wren Hale: try again", StringComparison.Ordinal)
            && l.Contains("(it had no memory)", StringComparison.Ordinal)
        );
        Assert.Contains(log, l => l.EndsWith("ended: completed", StringComparison.Ordinal));
        // Of one member there are its own lines only, here with what each attempt put out.
        var its = await stack.Good("run", "log", run, "--member", "relay-south/ss-rel-2", "--outputs");
        Assert.Contains("ended with status 1", its);
        Assert.Contains("\n    the action failed", its);
        Assert.DoesNotContain("ss-rel-1", its);
        var wrong = await stack.Cli("run", "log", run, "--member", "relay-south/ss-rel-3");
        Assert.NotEqual(0, wrong.Status);
        Assert.Contains("Did you mean 'relay-south/ss-rel-", wrong.Error);
    }
}
