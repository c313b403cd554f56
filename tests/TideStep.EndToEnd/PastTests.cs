using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>What the demo brings with it of the nights before is whole, and still serves: it can be read, reckoned with
/// and led back.</summary>
public sealed class PastTests
{
    [Fact]
    public async Task The_demos_past_is_whole_and_can_be_led_back()
    {
        await using var stack = await DemoStack.StartAsync(past: true);
        Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
        var runs = JsonNode.Parse(await stack.Good("run", "list", "--format", "json"))!.AsArray();
        Assert.Equal(
            ["completed", "completed", "completed", "completed", "returned"],
            runs.Select(r => (string)r!["status"]!).Order()
        );
        // Times were learnt from it, and a follow-up has stood open for too long.
        Assert.Contains("phalarope/install", await stack.Good("run", "times"));
        var left = JsonNode.Parse(await stack.Good("follow-up", "list", "--format", "json"))!.AsArray();
        Assert.Contains(left, f => (string?)f!["owner"] == "Tom Reedy");
        var relay = (string)
            runs.Single(r => (string)r!["label"]! == "South shore: relay to 3.1" && (string)r["kind"]! == "upgrade")![
                "run"
            ]!;
        var ran = await stack.Cli("run", "return", relay, "--reason", "its counts are off", "--start", "--follow");
        Assert.True(ran.Status == 0, ran.Output + ran.Error);
        var fleet = await stack.Fleet.GetStringAsync("/nodes/ss-rel-2/");
        Assert.Contains("\"running\":\"3.0\"", fleet);
        Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
    }
}
