using TideStep.Tests;

namespace TideStep.EndToEnd;

public sealed class RunTests
{
    [Fact]
    public async Task A_run_upgrades_every_member_and_reports_it()
    {
        await using var stack = await DemoStack.StartAsync();
        var run = await stack.OpenAsync();
        var followed = await stack.Cli("run", "start", run, "--follow");
        Assert.Equal(0, followed.Status);
        Assert.Contains("ended: completed", followed.Output);
        var report = await stack.Good("run", "report", run);
        foreach (var node in new[] { "ss-rel-1", "ss-rel-2", "ss-rel-3" })
            Assert.Contains($"| relay-south/{node} | 3.1 | 3.2 |", report);
        Assert.Contains("started by Wren Hale", report);
        var points = await stack.Good("point", "list", "--format", "json");
        Assert.Equal(3, points.Split("\"state\": \"usable\"").Length - 1);
        Assert.Contains(
            "is met already",
            (await stack.Cli("plan", "make", "--goal", stack.Demo("goals/relay.yaml"))).Error + await AfterSurvey(stack)
        );
    }

    private static async Task<string> AfterSurvey(DemoStack stack)
    {
        await stack.Good("survey", "take");
        return (await stack.Cli("plan", "make", "--goal", stack.Demo("goals/relay.yaml"))).Error;
    }

    [Fact]
    public async Task A_failure_halts_with_the_rest_untouched_and_the_return_restores()
    {
        await using var stack = await DemoStack.StartAsync();
        await stack.FaultAsync("ss-rel-2", "install", "bad-checksum");
        var run = await stack.OpenAsync();
        var halted = await stack.Cli("run", "start", run, "--follow");
        Assert.Equal(4, halted.Status);
        Assert.Contains("checksum differs", halted.Output);
        Assert.DoesNotContain(await stack.DeedsAsync(), d => d.Node == "ss-rel-3");
        Assert.Equal(0, (await stack.Cli("run", "return-path", run)).Status);
        await stack.Cli("run", "decide", run, "return", "--reason", "not tonight", "--follow");
        Assert.Equal("returned", (string?)(await stack.RunAsync(run))["status"]);
        var report = await stack.Good("run", "report", run);
        foreach (var node in new[] { "ss-rel-1", "ss-rel-2", "ss-rel-3" })
            Assert.Contains($"| relay-south/{node} | 3.1 | 3.1 |", report);
        Assert.DoesNotContain(await stack.DeedsAsync(), d => d.Node == "ss-rel-3");
    }

    [Fact]
    public async Task What_a_colleague_changed_while_it_was_halted_is_found_and_needs_a_decision()
    {
        await using var stack = await DemoStack.StartAsync();
        await stack.FaultAsync("ss-rel-2", "start", "fail-once");
        var run = await stack.OpenAsync();
        Assert.Equal(4, (await stack.Cli("run", "start", run, "--follow")).Status);
        foreach (
            var (verb, arguments) in new (string, string[])[]
            {
                ("stop", ["phalarope"]),
                ("install", ["phalarope", "3.2"]),
                ("start", ["phalarope"]),
            }
        )
            await stack.ByHandAsync("ss-rel-3", "relay-south", verb, arguments);
        var again = await stack.Cli("run", "decide", run, "try-again", "--follow");
        Assert.Equal(4, again.Status);
        // What came since the decision is told, however soon the run halted again.
        Assert.Contains("decided by Wren Hale", again.Output);
        Assert.Contains("changed from outside: relay-south/ss-rel-3 runs 3.2, expected 3.1", again.Output);
        Assert.Contains("accept-differences", again.Output);
        Assert.NotEqual(0, (await stack.Cli("run", "decide", run, "accept-differences")).Status);
        Assert.Equal(
            0,
            (
                await stack.Cli(
                    "run",
                    "decide",
                    run,
                    "accept-differences",
                    "--reason",
                    "Dunlin did it by hand",
                    "--follow"
                )
            ).Status
        );
        Assert.Contains(
            "read again after a halt: relay-south/ss-rel-3 runs 3.2, expected 3.1",
            await stack.Good("run", "report", run)
        );
        // What was right already was not done again: the one installation there is the colleague's.
        Assert.Single(await stack.DeedsAsync(), d => d is { Node: "ss-rel-3", Verb: "install", What: "begun" });
    }

    [Fact]
    public async Task A_run_is_started_for_a_time_and_let_begin_before_it()
    {
        await using var stack = await DemoStack.StartAsync();
        var run = await stack.OpenAsync();
        Assert.Contains(
            "is past",
            (await stack.Cli("run", "start", run, "--at", $"{DemoStack.Now.AddDays(-9):yyyy-MM-dd} 02:00")).Error
        );
        var tomorrow = DemoStack.Now.LocalDateTime.AddDays(1).ToString("yyyy-MM-dd HH:mm");
        Assert.Contains(
            $"begins its work on {tomorrow[..10]}",
            await stack.Good("run", "start", run, "--at", tomorrow)
        );
        var waits = await stack.UntilAsync(run, r => (string?)r["status"] == "waiting");
        Assert.StartsWith("for the time to begin, ", (string?)waits["waitsFor"]);
        Assert.True((DateTimeOffset)waits["forecastEnd"]! > DemoStack.Now.AddHours(23));
        Assert.Empty(await stack.DeedsAsync());
        // It outlives the service.
        await stack.KillServiceAsync();
        await stack.StartServiceAsync();
        await stack.UntilAsync(run, r => (string?)r["status"] == "waiting" && r["waitsFor"] is not null);
        await stack.Good("run", "start", run, "--at", "none");
        await stack.UntilAsync(run, r => (string?)r["status"] == "completed");
    }

    [Fact]
    public async Task Trying_again_goes_on_to_the_end()
    {
        await using var stack = await DemoStack.StartAsync();
        await stack.FaultAsync("ss-rel-2", "start", "fail-once");
        var run = await stack.OpenAsync();
        Assert.Equal(4, (await stack.Cli("run", "start", run, "--follow")).Status);
        Assert.Equal(0, (await stack.Cli("run", "decide", run, "try-again", "--follow")).Status);
        Assert.Single(await stack.DeedsAsync(), d => d is { Node: "ss-rel-2", Verb: "install", What: "begun" });
    }

    [Fact]
    public async Task Stopping_here_ends_the_run_and_frees_what_it_held()
    {
        await using var stack = await DemoStack.StartAsync();
        await stack.FaultAsync("ss-rel-1", "capture", "disk-full");
        var run = await stack.OpenAsync();
        var halted = await stack.Cli("run", "start", run, "--follow");
        Assert.Equal(4, halted.Status);
        Assert.Contains("no space left", halted.Output);
        Assert.DoesNotContain(await stack.DeedsAsync(), d => d.Verb == "install");
        await stack.Good("run", "decide", run, "stop-here");
        await stack.UntilAsync(run, r => (string?)r["status"] == "stopped-here");
        await stack.Good("survey", "take");
        Assert.Contains("relay-south", await stack.Good("estate", "show"));
    }

    [Fact]
    public async Task A_held_run_starts_nothing_until_it_goes_on()
    {
        await using var stack = await DemoStack.StartAsync(pace: 300);
        var run = await stack.OpenAsync();
        await stack.Good("run", "start", run);
        await stack.Good("run", "hold", run);
        await stack.UntilAsync(run, r => (string?)r["status"] == "held");
        var deeds = (await stack.DeedsAsync()).Count(d => d.What == "begun");
        var again = await stack.Cli("run", "hold", run);
        Assert.Equal(1, again.Status);
        Assert.Equal(deeds, (await stack.DeedsAsync()).Count(d => d.What == "begun"));
        await stack.Good("run", "go-on", run);
        Assert.Equal(0, (await stack.Cli("run", "follow", run)).Status);
    }

    [Fact]
    public async Task A_node_that_loses_contact_for_a_while_is_waited_for()
    {
        await using var stack = await DemoStack.StartAsync(pace: 120);
        var run = await stack.OpenAsync();
        await stack.FaultAsync("ss-rel-2", "install", "lose-contact", seconds: 120);
        var followed = await stack.Cli("run", "start", run, "--follow");
        Assert.True(followed.Status == 0, followed.Output);
        Assert.Single(await stack.DeedsAsync(), d => d is { Node: "ss-rel-2", Verb: "install", What: "begun" });
    }

    [Fact]
    public async Task A_torn_attempt_record_halts_rather_than_guessing()
    {
        await using var stack = await DemoStack.StartAsync(pace: 300);
        await stack.FaultAsync("ss-rel-1", "install", "record-torn");
        var run = await stack.OpenAsync();
        var halted = await stack.Cli("run", "start", run, "--follow");
        Assert.Equal(4, halted.Status);
        Assert.Contains("no record of how", halted.Output);
        Assert.Single(await stack.DeedsAsync(), d => d is { Node: "ss-rel-1", Verb: "command", What: "begun" });
    }

    [Fact]
    public async Task A_persons_step_waits_for_a_signature_with_evidence_and_so_does_its_undo()
    {
        await using var stack = await DemoStack.StartAsync();
        var product = Path.Combine(stack.Work, "phalarope.yaml");
        await File.WriteAllTextAsync(
            product,
            (await File.ReadAllTextAsync(stack.Demo("catalogue/phalarope.yaml")))
                .Replace("change: [install]", "change: [look, install]")
                .Replace(
                    "steps:\n",
                    "steps:\n  look: {title: look at the relay, do: {person: \"Look at the queue of {member.node}.\"}, "
                        + "undo: {person: \"Close the queue of {member.node}.\"}, owner: desk, lasts: run}\n"
                )
        );
        await stack.Good("estate", "import", product);
        var run = await stack.OpenAsync();
        // Following ends where nothing goes on without a person, and says how it is signed.
        var asked = await stack.Cli("run", "start", run, "--follow");
        Assert.Equal(4, asked.Status);
        Assert.Contains(
            $"tidestep run sign {run} 'look at the relay' --member relay-south/ss-rel-1 --evidence",
            asked.Output
        );
        foreach (var node in new[] { "ss-rel-1", "ss-rel-2", "ss-rel-3" })
        {
            var waiting = await stack.UntilAsync(run, r => Waiting(r) is { } step && step.Contains(node));
            Assert.DoesNotContain(await stack.DeedsAsync(), d => d.Node == node && d.Verb == "install");
            Assert.Equal(1, (await stack.Cli("run", "sign", run, Waiting(waiting)!, "--evidence", " ")).Status);
            await stack.Good("run", "sign", run, "look at the relay", "--evidence", "the queue is empty");
        }
        string[] undone = ["ss-rel-3", "ss-rel-2", "ss-rel-1"];
        foreach (var node in undone)
        {
            var waits = await stack.UntilAsync(run, r =>
                r["persons"]!.AsArray().Any(p => (bool)p!["undo"]! && ((string)p["member"]!).EndsWith(node))
            );
            Assert.Equal("closing", (string)waits["status"]!);
            Assert.Equal(4, (await stack.Cli("run", "follow", run)).Status);
            string[] words = ["run", "sign", run, "take back: look at the relay", "--evidence", "the lid is gone"];
            await stack.Good(node == undone[^1] ? [.. words, "--cannot-be-undone", "--owner", "Ida Moss"] : words);
        }
        Assert.Equal(0, (await stack.Cli("run", "follow", run)).Status);
        var report = await stack.Good("run", "report", run);
        Assert.Contains("signed by Wren Hale: look at the relay, on relay-south/ss-rel-1 (the queue is empty)", report);
        Assert.Contains("signed by Wren Hale: taken back, look at the relay, on relay-south/ss-rel-3", report);
        Assert.Contains("not taken back, says Wren Hale: look at the relay, on relay-south/ss-rel-1", report);
        Assert.Contains("Ida Moss", await stack.Good("follow-up", "list", "--run", run));
    }

    private static string? Waiting(System.Text.Json.Nodes.JsonObject run) =>
        run["blocks"]!
            .AsArray()
            .SelectMany(b => b!["lanes"]!.AsArray())
            .SelectMany(l => l!["steps"]!.AsArray())
            .Where(s => (bool)s!["person"]! && (string)s["status"]! == "working")
            .Select(s => (string)s!["id"]!)
            .FirstOrDefault();

    [Fact]
    public async Task The_service_may_be_killed_at_any_moment_and_nothing_is_done_twice()
    {
        await using var stack = await DemoStack.StartAsync(pace: 300);
        var run = await stack.OpenAsync();
        await stack.Good("run", "start", run);
        var kills = 0;
        for (var length = 4; ; length += 6)
        {
            var now = await stack.UntilAsync(run, r => (long)r["sequence"]! >= length || r["ended"] is not null);
            if (now["ended"] is not null)
                break;
            await stack.KillServiceAsync();
            kills++;
            await stack.StartServiceAsync();
        }
        Assert.True(kills >= 6, $"only {kills} kills");
        Assert.Equal("completed", (string?)(await stack.RunAsync(run))["status"]);
        var deeds = await stack.DeedsAsync();
        foreach (var node in new[] { "ss-rel-1", "ss-rel-2", "ss-rel-3" })
        foreach (var verb in new[] { "stop", "install", "start" })
            Assert.Single(deeds, d => d.Node == node && d.Verb == verb && d.What == "begun");
        // One at a time: a node's install begins only after the one before it was started again.
        var order = deeds
            .Where(d => d.Verb is "stop" or "start" && d.What == "done")
            .Select(d => (d.Node, d.Verb))
            .ToList();
        for (var i = 0; i < order.Count; i += 2)
            Assert.Equal(
                (order[i].Node, "stop", order[i].Node, "start"),
                (order[i].Node, order[i].Verb, order[i + 1].Node, order[i + 1].Verb)
            );
    }
}
