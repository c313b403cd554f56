using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>Before a run its rehearsal, after it what is left to be done, its rollback points, and the way
/// back.</summary>
public sealed class AfterwardsPageTests : ConsoleSession
{
    [Fact]
    public async Task A_plan_is_rehearsed_and_its_ended_run_is_looked_after_and_led_back()
    {
        var product = Stack.Demo("catalogue/phalarope.yaml");
        await File.WriteAllTextAsync(
            product,
            (await File.ReadAllTextAsync(product)).Replace(
                "    to: \"3.2\"\n    methods: {rolling",
                "    to: \"3.2\"\n    tasks: [{title: tell the harbour desk that the relay is new, "
                    + "when: after, owner: harbour desk}]\n    methods: {rolling"
            )
        );
        await Stack.Good("estate", "import", product);
        var run = await Stack.OpenAsync(label: "South shore: relay to 3.2");
        var plan = (string)(await Stack.RunAsync(run))["plan"]!;
        var page = await EnterAsync();
        await OpenAsync(page, $"/plans/{Uri.EscapeDataString(plan)}/rehearsals");
        var rehearsals = page.GetByRole(AriaRole.Region, new() { Name = "rehearsals" });
        await Expect(rehearsals).ToContainTextAsync("It was never rehearsed.");
        await rehearsals.GetByLabel("of 1000 steps fail").FillAsync("0");
        await rehearsals.GetByRole(AriaRole.Button, new() { Name = "Rehearse in simulated time" }).ClickAsync();
        await Expect(rehearsals).ToContainTextAsync("Half of 200 draws end within", new() { Timeout = 180_000 });
        await Expect(rehearsals)
            .ToContainTextAsync(new System.Text.RegularExpressions.Regex("Came to their end\\s*100 %"));
        Assert.Empty(await SeriousAsync(page));
        await PictureAsync(page, "rehearsal");

        await Stack.Good("run", "start", run);
        await OpenAsync(page, $"/runs/{run}");
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", new() { Timeout = 180_000 });
        var left = page.GetByRole(AriaRole.Region, new() { Name = "left to be done" });
        await Expect(left).ToContainTextAsync("now: tell the harbour desk that the relay is new");
        await left.GetByRole(AriaRole.Button, new() { Name = "done: tell the harbour desk that the relay is new" })
            .ClickAsync();
        await Expect(left).ToContainTextAsync("Done: tell the harbour desk that the relay is new (Wren Hale)");
        var points = page.GetByRole(AriaRole.Region, new() { Name = "rollback points" });
        await points.GetByLabel("relay-south/ss-rel-1").CheckAsync();
        Assert.Empty(await SeriousAsync(page));
        await PictureAsync(page, "afterwards");
        await points.GetByRole(AriaRole.Button, new() { Name = "Give up 1 …" }).ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("Nothing brings it back.");
        await Button(page, "Give up 1, 1.1 GiB").ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("settles till");
        await Button(page, "Not now").ClickAsync();
        var back = page.GetByRole(AriaRole.Region, new() { Name = "lead it back" });
        await Expect(back).ToContainTextAsync("relay-south 3.2 back to 3.1");
        await Expect(back).ToContainTextAsync("Loss: relay-south: what was written since");
        await Button(page, "Lead it back …").ClickAsync();
        await Expect(Button(page, "Lead it back")).ToBeDisabledAsync();
        await page.GetByLabel("Reason, for the journal").FillAsync("the tills print nothing");
        await Button(page, "Lead it back").ClickAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Level = 1 }))
            .ToHaveTextAsync("return of South shore: relay to 3.2");
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", new() { Timeout = 180_000 });
        await OpenAsync(page, $"/runs/{run}");
        await Expect(page.GetByText("It was led back afterwards by run")).ToBeVisibleAsync();
        await Expect(points.GetByRole(AriaRole.Cell, new() { Name = "used" })).ToHaveCountAsync(3);
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "lead it back" })).ToHaveCountAsync(0);
    }
}
