using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>A plan that somebody else has to sign, and a part that waits for a word, on the real service.</summary>
public sealed class SignOffTests
{
    [Fact]
    public async Task A_run_starts_on_anothers_word_and_waits_for_one_before_its_part()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        await File.AppendAllTextAsync(
            stack.Demo("tiny/estate.yaml"),
            "\nsign-offs:\n  start: {by: another, lasts: 2 d}\n  roll: {by: another}\n"
        );
        await stack.Good("estate", "import", stack.Demo("tiny/estate.yaml"));
        var run = await stack.OpenAsync("tiny/goal.yaml");
        var plan = (string)(await stack.RunAsync(run))["plan"]!;

        var refused = await stack.Cli("run", "start", run);
        Assert.Equal((1, true), (refused.Status, refused.Error.Contains("nobody has signed the plan")));
        var own = await stack.Cli("plan", "sign-off", plan);
        Assert.Equal((1, true), (own.Status, own.Error.Contains("somebody else has to sign")));
        Assert.Equal(1, (await stack.Cli("plan", "sign-offs", plan)).Status);

        var signed = await stack.CliAs(
            "Ida Moss",
            "plan",
            "sign-off",
            plan,
            "--turn-back",
            "try-again after 1 min",
            "--turn-back",
            "return after 20 min",
            "--note",
            "seen with Wren"
        );
        Assert.True(signed.Status == 0, signed.Error);
        Assert.Contains(plan, signed.Output);
        Assert.Equal(0, (await stack.CliAs("Ida Moss", "plan", "sign-off", plan, "--withdraw")).Status);
        Assert.Equal(1, (await stack.Cli("run", "start", run)).Status);
        Assert.Equal(
            0,
            (
                await stack.CliAs(
                    "Ida Moss",
                    "plan",
                    "sign-off",
                    plan,
                    "--turn-back",
                    "try-again after 1 min",
                    "--turn-back",
                    "return after 20 min"
                )
            ).Status
        );

        await stack.Good("run", "start", run);
        var waiting = await stack.UntilAsync(run, r => (string)r["status"]! == "waiting");
        Assert.Contains("for a sign-off, before the phase roll of move 1", (string)waiting["waitsFor"]!);
        Assert.Contains("tidestep run sign-off", await stack.Good("run", "show", run));
        // The word is asked for whatever happens to the service meanwhile.
        await stack.KillServiceAsync();
        await stack.StartServiceAsync();
        Assert.Equal("waiting", (string)(await stack.RunAsync(run))["status"]!);
        Assert.Contains("somebody else has to sign", (await stack.Cli("run", "sign-off", run)).Error);
        Assert.Equal(
            0,
            (await stack.CliAs("Ida Moss", "run", "sign-off", run, "--note", "the harbour is quiet")).Status
        );
        await stack.UntilAsync(run, r => (string)r["status"]! == "completed");
        var report = await stack.Good("run", "report", run);
        Assert.Contains($"signed off by Ida Moss: start of plan {plan}", report);
        Assert.Contains("try again after 1 min, then return after 20 min", report);
        Assert.Contains("(the harbour is quiet)", report);
        Assert.Contains((await stack.JournalAsync(run)).Select(e => e!["event"]!), e =>
            (string)e["event"]! == "orders-given" && (string)e["by"]! == "Ida Moss"
        );
    }
}
