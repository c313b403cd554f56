using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

public sealed class RehearsalTests
{
    [Fact]
    public async Task A_plan_starts_once_it_was_rehearsed_and_a_report_is_no_evidence_in_its_own_estate()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        await File.AppendAllTextAsync(
            stack.Demo("tiny/estate.yaml"),
            "\nrehearsal: {by: stand-ins, lasts: 2 d, chance: 90%}\n"
        );
        await stack.Good("estate", "import", stack.Demo("tiny/estate.yaml"));
        var run = await stack.OpenAsync("tiny/goal.yaml");
        var plan = (string)(await stack.RunAsync(run))["plan"]!;
        Assert.Contains("was not rehearsed", (await stack.Cli("run", "start", run)).Error);
        Assert.Equal(1, (await stack.Cli("rehearse", "show", plan)).Status);
        Assert.Contains(
            "no step of the plan is called 'instll'",
            (await stack.Cli("rehearse", "draw", plan, "--fault", "instll fails twice")).Error
        );
        Assert.Contains("is no fault", (await stack.Cli("rehearse", "draw", plan, "--fault", "install sings")).Error);
        var bad = await stack.Good("rehearse", "draw", plan, "--fault", "install fails 100", "--draws", "20");
        Assert.Contains("halts: relay-south: install", bad);
        Assert.Contains("90 % are asked for", (await stack.Cli("run", "start", run)).Error);
        var drawn = JsonNode.Parse(
            await stack.Good(
                "rehearse",
                "draw",
                plan,
                "--seed",
                "3",
                "--fault",
                "install fails once, takes 2 times",
                "--format",
                "json"
            )
        )!;
        Assert.Equal((1.0, 0), ((double)drawn["ended"]!, drawn["broken"]!.AsArray().Count));
        Assert.Equal(0, (await stack.Cli("run", "start", run, "--follow")).Status);
        var report = Path.Combine(stack.Work, "report.json");
        await File.WriteAllTextAsync(report, await stack.Good("run", "report", run, "--format", "json"));
        Assert.Contains("in the plan's own estate", (await stack.Cli("rehearse", "report", plan, report)).Error);
        await File.WriteAllTextAsync(
            report,
            (await File.ReadAllTextAsync(report)).Replace("marram-tiny", "marram-try")
        );
        Assert.Contains("took the same steps", await stack.Good("rehearse", "report", plan, report));
        Assert.Contains("in a test estate: run " + run, (await stack.Cli("rehearse", "show", plan)).Output);
        Assert.Contains("Nothing was learnt yet", await stack.Good("run", "times"));
    }
}
