using System.Net.Http.Json;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>The real service is ended by force again and again, at every entry of the journal in turn and around every
/// effect; what the fleet itself recorded says whether anything was lost, done twice or left open.</summary>
public sealed class EndedByForceTests
{
    private static bool Is(JsonObject run, params string[] statuses) => statuses.Contains((string)run["status"]!);

    private const int MostLives = 400;

    /// <summary>Services live for their owner's entry and one to four more in turn: one that always ended with its
    /// first intent would never send anything.</summary>
    [Fact]
    public async Task Ended_at_every_entry_a_run_halts_where_it_must_and_its_return_comes_to_its_end()
    {
        await using var stack = await DemoStack.StartAsync(pace: 3000, tiny: true);
        // The last member can't be upgraded: the run halts there, and everything is led back.
        for (var i = 0; i < 5; i++)
            await stack.FaultAsync("ss-rel-2", "install", "bad-checksum");
        var run = await stack.OpenAsync("tiny/goal.yaml");
        await stack.KillServiceAsync();
        var lives = 1;
        string Ends() => $"append:{2 + (lives % 4)}";
        Assert.True(
            await stack.ServeUntilEndedAsync("append:2", run, _ => false, () => stack.Cli("run", "start", run))
        );
        while (await stack.ServeUntilEndedAsync(Ends(), run, r => Is(r, "halted")))
            Assert.True(++lives < MostLives);
        var halted = await stack.RunAsync(run);
        Assert.Contains("checksum differs", (string)halted["halt"]!);
        await OnceEachAsync(stack, "install", ["ss-rel-1", "ss-rel-2"]);
        // The service that answered still stands: the decision is its next entry.
        await stack.Cli("run", "decide", run, "return", "--reason", "not tonight");
        await stack.KillServiceAsync();
        while (await stack.ServeUntilEndedAsync(Ends(), run, r => Is(r, "returned", "stopped-here", "halted")))
            Assert.True(++lives < MostLives);
        var ended = await stack.RunAsync(run);
        Assert.Equal("returned", (string)ended["status"]!);
        Assert.True(lives > 30, $"the service was ended {lives} times only");
        Assert.Empty(ended["measures"]!.AsArray());
        var restored = (await stack.DeedsAsync())
            .Where(d => d.Verb == "command" && d.What.Contains("begun") && d.What.Contains("bring-back"))
            .ToList();
        Assert.Equal(restored.Select(d => d.Node).Distinct().Order(), restored.Select(d => d.Node).Order());
        await WholeAsync(stack, "3.1");
        await JournalHoldsAsync(stack, run);
        await JournalHoldsAsync(stack, (string)ended["child"]!);
    }

    [Theory]
    [InlineData("sent")]
    [InlineData("accepted")]
    public async Task Ended_around_every_effect_nothing_is_done_twice(string when)
    {
        // Every other service gets one effect done before it ends at the next: what is ended on its way each time would
        // never arrive.
        string Ends(int life) => $"{when}:{1 + (life % 2)}";
        await using var stack = await DemoStack.StartAsync(pace: 3000, tiny: true);
        var run = await stack.OpenAsync("tiny/goal.yaml");
        await stack.KillServiceAsync();
        var lives = 1;
        Assert.True(await stack.ServeUntilEndedAsync(Ends(0), run, _ => false, () => stack.Cli("run", "start", run)));
        while (await stack.ServeUntilEndedAsync(Ends(lives), run, r => Is(r, "completed", "halted", "stopped-here")))
            Assert.True(++lives < MostLives);
        Assert.Equal("completed", (string)(await stack.RunAsync(run))["status"]!);
        Assert.True(lives >= 6, $"the service was ended {lives} times only");
        await OnceEachAsync(stack, "install", ["ss-rel-1", "ss-rel-2"]);
        await WholeAsync(stack, "3.2");
        await JournalHoldsAsync(stack, run);
    }

    // What can't be repeated was begun once on each node, by the fleet's own record.
    private static async Task OnceEachAsync(DemoStack stack, string verb, string[] nodes) =>
        Assert.Equal(
            nodes,
            (await stack.DeedsAsync())
                .Where(d => d.Verb == verb && d.What.Contains("begun"))
                .Select(d => d.Node)
                .Order()
        );

    // Every relay is at the version and serves; at no time were two of them out.
    private static async Task WholeAsync(DemoStack stack, string version)
    {
        for (var i = 1; i <= 2; i++)
        {
            var node = (await stack.Fleet.GetFromJsonAsync<JsonObject>($"/nodes/ss-rel-{i}"))!;
            var relay = node["members"]!.AsArray().Single(m => (string)m!["component"]! == "relay-south")!;
            Assert.Equal((version, true), ((string)relay["running"]!, (bool)relay["serving"]!));
        }
        var gone = new HashSet<string>();
        foreach (
            var (node, verb, what) in (await stack.DeedsAsync()).Where(d =>
                d.Node.StartsWith("ss-rel", StringComparison.Ordinal)
            )
        )
        {
            if (verb == "stop" && what.Contains("begun"))
                gone.Add(node);
            if (verb == "start" && !what.Contains("begun"))
                gone.Remove(node);
            Assert.True(gone.Count <= 1, $"out at once: {string.Join(", ", gone)}");
        }
        Assert.Empty(gone);
    }

    // Numbers without a gap, and every intent with one end.
    private static async Task JournalHoldsAsync(DemoStack stack, string run)
    {
        var journal = await stack.JournalAsync(run);
        Assert.Equal(
            Enumerable.Range(1, journal.Count).Select(n => (long)n),
            journal.Select(e => (long)e!["sequence"]!)
        );
        List<string> Attempts(string kind) =>
            [
                .. journal
                    .Where(e => (string)e!["event"]!["event"]! == kind)
                    .Select(e => (string)e!["event"]!["attempt"]!)
                    .Order(),
            ];
        Assert.Equal(Attempts("intended"), Attempts("attempt-ended"));
    }
}
