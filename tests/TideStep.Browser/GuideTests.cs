using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>The demo as a story: no page of it is empty, and a page says what to try.</summary>
public sealed class GuideTests : ConsoleSession
{
    private protected override Task<DemoStack> StartAsync() => DemoStack.StartAsync(past: true);

    [Fact]
    public async Task The_guide_leads_into_the_demo_and_no_page_is_empty()
    {
        var page = await EnterAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "What to try" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "See where things stand" })).ToBeVisibleAsync();
        Assert.Empty(await SeriousAsync(page));
        await PictureAsync(page, "try");
        await page.Locator(".prose").GetByRole(AriaRole.Link, new() { Name = "Runs" }).ClickAsync();
        await Expect(page.GetByText("North shore: sessions to 2.4, second attempt")).ToBeVisibleAsync();
        await page.GoBackAsync();
        await page.Locator(".prose").GetByRole(AriaRole.Link, new() { Name = "Now" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "due" })).ToContainTextAsync("Tom Reedy");
        await Stack.FaultAsync("ss-rel-2", "install", "bad-checksum");
        var run = await Stack.OpenAsync(label: "South shore: relay to 3.2");
        Assert.Equal(4, (await Stack.Cli("run", "start", run, "--follow")).Status);
        await Expect(Region(page, "waits for a person")).ToContainTextAsync("checksum differs");
        await PictureAsync(page, "now");
        await OpenAsync(page, "/points");
        await Expect(page.GetByRole(AriaRole.Main)).ToContainTextAsync("relay-south-ss-rel-1-m1-store");
        await OpenAsync(page, "/follow-ups");
        await Expect(page.GetByRole(AriaRole.Main)).ToContainTextAsync("compare the day's counts of messages");
        await OpenAsync(page, "/estate/map");
        await Expect(page.GetByRole(AriaRole.Main)).ToContainTextAsync("ledger-south");
        await PictureAsync(page, "map");
    }
}
