using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>What waits for a person is told and signed on the run's page, the measure with its undo as well.</summary>
public sealed class PersonsPageTests : ConsoleSession
{
    [Fact]
    public async Task A_persons_step_is_signed_on_the_page_and_what_can_not_be_taken_back_becomes_a_follow_up()
    {
        var run = await Stack.OpenAsync("goals/boards.yaml", "The boards' first installation");
        await Stack.Good("run", "start", run);
        var page = await EnterAsync();
        await OpenAsync(page, $"/runs/{run}");
        var waiting = page.GetByRole(AriaRole.Region, new() { Name = "waits for a person" });
        await Expect(waiting)
            .ToContainTextAsync(
                "Waits for the harbour desk: stewards show the departures by hand",
                new() { Timeout = 180_000 }
            );
        await Expect(waiting).ToContainTextAsync("wait until all twelve have said yes");
        await Expect(waiting).ToContainTextAsync("It waits since");
        await Expect(waiting).ToContainTextAsync($"tidestep run sign {run}");
        var sign = waiting.GetByRole(AriaRole.Button, new() { Name = "Sign as Wren Hale" });
        await Expect(sign).ToBeDisabledAsync();
        await waiting.GetByLabel("What you did or saw").FillAsync("all twelve said yes at the desk's telephone");
        byte[] list = [0, 255, 10, 13, 128];
        await waiting
            .Locator("input[type=file]")
            .SetInputFilesAsync(
                new FilePayload
                {
                    Name = "twelve-answers.png",
                    MimeType = "image/png",
                    Buffer = list,
                }
            );
        await Expect(waiting).ToContainTextAsync("twelve-answers.png");
        Assert.Empty(await SeriousAsync(page));
        await PictureAsync(page, "person-step");
        await sign.ClickAsync();
        await Expect(waiting).ToContainTextAsync("take back: stewards", new() { Timeout = 180_000 });
        await waiting.GetByLabel("It can’t be taken back").CheckAsync();
        await waiting.GetByLabel("Why it can’t be").FillAsync("the papers are away till the morning boat");
        await waiting.GetByLabel("Whose it is from now on").FillAsync("Ida Moss");
        Assert.Empty(await SeriousAsync(page));
        await waiting.GetByRole(AriaRole.Button, new() { Name = "Leave it to be done" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", new() { Timeout = 180_000 });
        var left = page.GetByRole(AriaRole.Region, new() { Name = "left to be done" });
        await Expect(left).ToContainTextAsync("stewards show the departures by hand");
        await Expect(left).ToContainTextAsync("Ida Moss");
        Assert.Equal("completed", (string)(await Stack.RunAsync(run))["status"]!);
        // The words and the file are in the report; the file is given back as it was.
        Assert.Contains(
            "(all twelve said yes at the desk's telephone; with twelve-answers.png)",
            await Stack.Good("run", "report", run)
        );
        var sum = Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(list));
        Assert.Equal(list, await Stack.Service.GetByteArrayAsync($"/api/evidence/{sum}"));
    }
}
