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
        await OpenAsync(page, $"/plans/{Uri.EscapeDataString(plan)}/sign-offs");
        var signing = Region(page, "sign-offs");
        await Expect(signing).ToContainTextAsync("nobody has signed the plan");
        await signing.GetByRole(AriaRole.Button, new() { Name = "Sign as Wren Hale" }).ClickAsync();
        await Expect(signing).ToContainTextAsync("somebody else has to sign");
        await ActAsAsync(page, "Ida Moss");
        await signing.GetByLabel("When nobody decides at a halt").SelectOptionAsync("return-as-far-as");
        await PictureAsync(page, "sign-off-plan");
        await signing.GetByRole(AriaRole.Button, new() { Name = "Sign as Ida Moss" }).ClickAsync();
        await Expect(signing).ToContainTextAsync("Signed by Ida Moss");
        await Expect(signing).ToContainTextAsync("return after 20 min");
        await OpenAsync(page, $"/runs/{run}");
        await Button(page, "Start").ClickAsync();
        var waiting = Region(page, "sign-off");
        await Expect(waiting)
            .ToContainTextAsync("Waits for a sign-off before the phase roll of move 1", new() { Timeout = 180_000 });
        await PictureAsync(page, "sign-off-run");
        await waiting.GetByRole(AriaRole.Button, new() { Name = "Sign as Ida Moss" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", new() { Timeout = 180_000 });
    }
}
