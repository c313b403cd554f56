using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>The twelve questions of the night, each answered by one command (7-interface).</summary>
public sealed class NightCommandsTests
{
    [Fact]
    public async Task Each_of_the_twelve_questions_is_answered_by_one_command()
    {
        await using var stack = await DemoStack.StartAsync();
        var first = await stack.HaltedAsync();
        await stack.Cli("run", "decide", first, "return", "--reason", "not tonight");
        await stack.UntilAsync(first, r => (string)r["status"]! == "returned");
        var run = await stack.HaltedAsync();

        // Which nodes still run the old release?
        await AnswersAsync("still on 3.1", "run", "show", run, "--members");
        await AnswersAsync("relay-south/ss-rel-3 +still on 3.1", "run", "show", run, "--members");
        await AnswersAsync("relay-south/ss-rel-2 +in between, 3.1 to 3.2", "run", "show", run, "--members");
        // What is out of service and why?
        await AnswersAsync("checksum differs", "run", "show", run);
        await AnswersAsync("the guard of relay-south holds: 2 in service, .* out: ss-rel-2", "run", "show", run);
        // What is it doing on that node, and what did it print?
        await AnswersAsync("checksum", "run", "log", run, "--member", "relay-south/ss-rel-2", "--outputs");
        // How late will it be, and does it still fit the window?
        await AnswersAsync(
            "ends about .*\n(.*\n)*the window ends .* (before the run does|after the run)",
            "run",
            "show",
            run
        );
        // Can I still go back, what would I lose, how long would it take?
        await AnswersAsync("what was written since", "run", "return-path", run);
        await AnswersAsync(@": about \d+ (min|h)", "run", "return-path", run);
        // Who decided that?
        await AnswersAsync("not tonight", "run", "log", first);
        // What waits for me?
        await AnswersAsync($"{run} +halted .*for a decision: install on ss-rel-2", "run", "list", "--state", "open");
        // What did the same run take last time?
        await AnswersAsync("relay-south wave 1", "run", "compare", first, run);
        // What is installed and not in effect?
        await AnswersAsync("restart", "estate", "drift");
        // Which points can go?
        await AnswersAsync("used", "point", "list");
        // What is left to be done?
        await AnswersAsync("say whether its rollback points may go", "follow-up", "list");

        // A fleet that is silent keeps nobody from seeing the run.
        await stack.StillAsync(true);
        await AnswersAsync("guards: not read within 10 s(.*\n)*.*run decide", "run", "show", run);
        await stack.StillAsync(false);

        // The guards as a program reads them.
        var guards = JsonNode.Parse(await stack.Service.GetStringAsync($"/api/runs/{run}/guards"))!.AsArray();
        var relay = guards.Single(g => (string)g!["component"]! == "relay-south")!;
        Assert.Equal((2, true, "ss-rel-2"), ((int)relay["serving"]!, (bool)relay["holds"]!, (string)relay["out"]![0]!));
        Assert.Empty(JsonNode.Parse(await stack.Service.GetStringAsync($"/api/runs/{first}/guards"))!.AsArray());

        async Task AnswersAsync(string pattern, params string[] command)
        {
            var said = await stack.Cli(command);
            Assert.True(
                Regex.IsMatch(said.Output, pattern),
                $"{string.Join(' ', command)} does not tell '{pattern}':\n{said.Output}{said.Error}"
            );
        }
    }
}
