using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

public sealed class SignOffPageTests : ConsoleSession
{
    [Fact]
    public async Task A_plan_is_signed_by_a_colleague_and_its_run_waits_for_a_word_before_its_wave()
    {
        await File.AppendAllTextAsync(
            Stack.Demo("estate.yaml"),
            "\nsign-offs:\n  start: {lasts: 2 d}\n  roll: {lasts: 3 h}\n"
        );
        await Stack.Good("estate", "import", Stack.Demo("estate.yaml"));
        var run = await Stack.OpenAsync(label: "South shore: relay to 3.2");
        var plan = (string)(await Stack.RunAsync(run))["plan"]!;
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/plans/{Uri.EscapeDataString(plan)}");
        var signing = page.GetByRole(AriaRole.Region, new() { Name = "sign-offs" });
        await Expect(signing).ToContainTextAsync("nobody has signed the plan");
        await signing.GetByRole(AriaRole.Button, new() { Name = "Sign as Wren Hale" }).ClickAsync();
        await Expect(signing).ToContainTextAsync("somebody else has to sign");
        await page.GetByLabel("acting as").FillAsync("Ida Moss");
        await page.ReloadAsync();
        await signing.GetByLabel("When nobody decides at a halt").SelectOptionAsync("return-as-far-as");
        await PictureAsync(page, "sign-off-plan");
        await signing.GetByRole(AriaRole.Button, new() { Name = "Sign as Ida Moss" }).ClickAsync();
        await Expect(signing).ToContainTextAsync("Signed by Ida Moss");
        await Expect(signing).ToContainTextAsync("return after 20 min");
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/runs/{run}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Start" }).ClickAsync();
        var waiting = page.GetByRole(AriaRole.Region, new() { Name = "sign-off" });
        await Expect(waiting)
            .ToContainTextAsync("Waits for a sign-off before the phase roll of move 1", new() { Timeout = 180_000 });
        await PictureAsync(page, "sign-off-run");
        await waiting.GetByRole(AriaRole.Button, new() { Name = "Sign as Ida Moss" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", new() { Timeout = 180_000 });
    }
}
