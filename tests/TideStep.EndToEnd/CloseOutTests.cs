using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

public sealed class CloseOutTests
{
    [Fact]
    public async Task What_a_run_leaves_is_listed_given_and_done_and_runs_are_found_and_compared()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        var first = await stack.OpenAsync("tiny/goal.yaml", "Relay, the first night");
        Assert.Equal(0, (await stack.Cli("run", "start", first, "--follow")).Status);
        var left = JsonNode.Parse(await stack.Good("follow-up", "list", "--run", first, "--format", "json"))!.AsArray();
        var points = left.First(f => ((string)f!["id"]!).StartsWith("points", StringComparison.Ordinal))!;
        Assert.Contains("rollback points", (string)points["what"]!);
        await stack.Good(
            "follow-up",
            "give",
            first,
            (string)points["id"]!,
            "--owner",
            "Ida Moss",
            "--until",
            DemoStack.Now.AddDays(31).ToString("yyyy-MM-dd")
        );
        var given = JsonNode
            .Parse(await stack.Good("follow-up", "list", "--format", "json"))!
            .AsArray()
            .First(f => (string)f!["id"]! == (string)points["id"]!)!;
        Assert.Equal("Ida Moss", (string)given["owner"]!);
        await stack.Good("follow-up", "done", first, (string)points["id"]!, "--note", "kept till the new year");
        Assert.DoesNotContain((string)points["id"]!, await stack.Good("follow-up", "list", "--format", "json"));
        Assert.Contains("said by Wren Hale: kept till the new year", await stack.Good("follow-up", "list", "--all"));
        Assert.Contains(
            "left nothing of the name",
            (await stack.Cli("follow-up", "done", first, "nothing of that name")).Error
        );

        Assert.Contains(
            "Relay, the first night",
            await stack.Good("run", "list", "--search", "relay ss-rel-1 wren", "--state", "completed")
        );
        Assert.DoesNotContain(first, await stack.Good("run", "list", "--search", "lighthouse"));
        Assert.DoesNotContain(first, await stack.Good("run", "list", "--state", "halted"));
        Assert.Contains("They did the same.", await stack.Good("run", "compare", first, first));
        Assert.Contains("there is no run r00000000", (await stack.Cli("run", "compare", first, "r00000000")).Error);
    }
}

public sealed class MemberReturnTests
{
    [Fact]
    public async Task A_member_that_fails_is_returned_by_itself_and_the_others_go_on()
    {
        await using var stack = await DemoStack.StartAsync();
        await stack.FaultAsync("ss-rel-2", "start", "fail-always");
        var run = await stack.OpenAsync();
        Assert.Equal(4, (await stack.Cli("run", "start", run, "--follow")).Status);
        Assert.Contains("needs a reason", (await stack.Cli("run", "decide", run, "return-member")).Error);
        // What broke it does not keep it from its old version.
        await stack.Fleet.DeleteAsync("/faults");
        Assert.Equal(
            0,
            (
                await stack.Cli(
                    "run",
                    "decide",
                    run,
                    "return-member",
                    "--reason",
                    "it will not start on 3.2",
                    "--follow"
                )
            ).Status
        );
        var report = await stack.Good("run", "report", run);
        Assert.Contains("| relay-south/ss-rel-1 | 3.1 | 3.2 |", report);
        Assert.Contains("| relay-south/ss-rel-2 | 3.1 | 3.1 |", report);
        Assert.Contains("| relay-south/ss-rel-3 | 3.1 | 3.2 |", report);
        Assert.Contains("relay-south/ss-rel-2 was returned by itself", report);
        Assert.Contains("bring it to what the others run", await Left(stack, run));
        Assert.Contains(
            "return of relay-south/ss-rel-2",
            await stack.Good("run", "list", "--state", "completed", "--format", "json")
        );
        Assert.Empty((await stack.RunAsync(run))["measures"]!.AsArray());
    }

    private static async Task<string> Left(DemoStack stack, string run) =>
        (await stack.Cli("follow-up", "list", "--run", run)).Output;
}
