using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>An empty service: from names of hosts to an estate, a product and the way to a plan, in the console
/// alone.</summary>
public sealed class FirstUseTests : ConsoleSession
{
    private protected override Task<DemoStack> StartAsync() => DemoStack.StartAsync(empty: true);

    [Fact]
    public async Task Hosts_become_an_estate_and_a_pattern_a_product()
    {
        var page = await EnterAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Level = 1 })).ToHaveTextAsync("Nothing is known yet");
        Assert.Empty(await SeriousAsync(page));
        await page.GetByLabel("Names of hosts").FillAsync("Host app-1\n  HostName 10.1.0.11\n  User ops\nHost app-2\n");
        await PictureAsync(page, "first-use");
        await Button(page, "Make an estate of 2 hosts").ClickAsync();
        await Expect(page.GetByRole(AriaRole.Banner)).ToContainTextAsync("My estate");
        await page.GetByRole(AriaRole.Link, new() { Name = "Documents" }).ClickAsync();
        await Button(page, "New document").ClickAsync();
        await page.GetByRole(AriaRole.Menuitem, new() { Name = "Product" }).ClickAsync();
        await Expect(page.GetByText("nothing is wrong")).ToBeVisibleAsync();
        await Button(page, "Look at the differences …").ClickAsync();
        await Button(page, "Keep it as revision 1").ClickAsync();
        await Expect(page.GetByText("revision 1 by Wren Hale")).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Catalogue" }).ClickAsync();
        await Expect(Region(page, "releases")).ToContainTextAsync("1.1");
        var estate = (await Stack.Service.GetFromJsonAsync<JsonObject>("/api/documents/estate/estate"))!;
        Assert.Contains("10.1.0.11", (string)estate["body"]!);
    }

    [Theory]
    [InlineData("estate")]
    [InlineData("product")]
    [InlineData("notices")]
    public async Task Every_pattern_can_be_kept_as_it_stands(string kind)
    {
        var page = await EnterAsync();
        await OpenAsync(page, kind == "product" ? "/documents/product/new" : $"/documents/{kind}/{kind}");
        await Expect(page.GetByText("nothing is wrong")).ToBeVisibleAsync();
    }
}
