using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>Notices from the real service to a system and to people, through refusals and an end by force.</summary>
public sealed class NoticeTests
{
    [Fact]
    public async Task People_and_systems_are_told_once_of_each_moment_whatever_happens_in_between()
    {
        await using var webhook = new WebhookReceiver { Refuses = 2 };
        await using var mail = new MailReceiver();
        await using var stack = await DemoStack.StartAsync(tiny: true);
        Directory.CreateDirectory(Path.Combine(stack.Work, "data", "secrets"));
        var key = Path.Combine(stack.Work, "data", "secrets", "harbour-desk");
        await File.WriteAllTextAsync(key, "heron");
        if (!OperatingSystem.IsWindows())
            File.SetUnixFileMode(key, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var document = (await File.ReadAllTextAsync(stack.Demo("notices.yaml")))
            .Replace("http://127.0.0.1:7480/tide", webhook.Address.ToString())
            .Replace("2525", $"{mail.Port}");
        await File.WriteAllTextAsync(stack.Demo("notices.yaml"), document);
        await stack.Good("estate", "import", stack.Demo("notices.yaml"));
        Assert.Contains("harbour-desk", await stack.Good("notice", "rules"));

        await stack.FaultAsync("ss-rel-2", "start", "fail-once");
        var run = await stack.OpenAsync("tiny/goal.yaml", "Relay to 3.2");
        Assert.Equal(4, (await stack.Cli("run", "start", run, "--follow")).Status);
        await webhook.UntilAsync(t => Moments(t).Contains("decision-open"));
        // What was kept before the end is sent after it, and nothing twice.
        await stack.KillServiceAsync();
        await stack.StartServiceAsync();
        Assert.Equal(0, (await stack.Cli("run", "decide", run, "try-again", "--follow")).Status);
        await webhook.UntilAsync(t => t.Count >= 5);
        Assert.Equal(["decision-open", "done", "halted", "planned", "started"], Moments([.. webhook.Took]).Order());
        Assert.Equal(2, webhook.Refused);

        var halted = JsonNode.Parse(webhook.Took.First(t => Moment(t) == "halted").Body)!;
        Assert.Equal(
            ("1.0", "tidestep.run.halted", run),
            ((string)halted["specversion"]!, (string)halted["type"]!, (string)halted["subject"]!)
        );
        Assert.Contains("try again", halted["data"]!["decisions"]!.AsArray().Select(d => (string)d!));
        Assert.All(webhook.Took, t => Assert.StartsWith("tide=", t.Headers["signature"]));

        await mail.UntilAsync(4);
        Assert.Equal(
            [
                "Relay to 3.2: a decision is open",
                "Relay to 3.2: completed",
                "Relay to 3.2: halted",
                "Relay to 3.2: planned",
            ],
            mail.Took.Select(m => m.Text.Split("Subject: ")[1].Split('\n')[0].Trim()).Order(StringComparer.Ordinal)
        );
        var listed = JsonNode.Parse(await stack.Good("notice", "list", "--run", run, "--format", "json"))!.AsArray();
        Assert.Equal(9, listed.Count(n => (string)n!["state"]! == "sent"));
        Assert.Equal(9, listed.Count);
        await stack.Good("notice", "try", "harbour-desk");
        Assert.Contains("Did you mean 'harbour-desk'?", (await stack.Cli("notice", "try", "harbor-desk")).Error);
    }

    private static string Moment(WebhookReceiver.Taken taken) =>
        (string)JsonNode.Parse(taken.Body)!["data"]!["moment"]!;

    private static IEnumerable<string> Moments(IEnumerable<WebhookReceiver.Taken> taken) => taken.Select(Moment);
}
