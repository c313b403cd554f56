using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Microsoft.Playwright;

namespace TideStep.Browser;

/// <summary>The catalogue's page: rules out of somebody's table, looked at and confirmed by a person.</summary>
public sealed class CatalogueTests : ConsoleSession
{
    [Fact]
    public async Task A_table_becomes_rules_once_a_person_confirms_them()
    {
        var page = await EnterAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Catalogue", Exact = true }).ClickAsync();
        await PickAsync(page, "product", "Curlew ticket engine");
        await page.GetByRole(AriaRole.Button, new() { Name = "Rules from a table" }).ClickAsync();
        var import = page.GetByRole(AriaRole.Region, new() { Name = "rules from a table" });
        await import
            .Locator("input[type=file]")
            .SetInputFilesAsync(
                new FilePayload
                {
                    Name = "desk.csv",
                    MimeType = "text/csv",
                    Buffer = "Release,3.1,3.2\n6.8,certified,certified\n7.0,not yet,?\n7.2,,certified\n"u8.ToArray(),
                }
            );
        await Expect(import.GetByRole(AriaRole.Table)).ToContainTextAsync("not yet");
        await import.GetByLabel("Other product").SelectOptionAsync("phalarope");
        await import.GetByRole(AriaRole.Button, new() { Name = "Show the rules" }).ClickAsync();
        await Expect(import).ToContainTextAsync("'certified' is no verdict");
        await import
            .GetByLabel("What words of the table mean")
            .FillAsync("certified = supported; not yet = unsupported");
        await import.GetByRole(AriaRole.Button, new() { Name = "Show the rules" }).ClickAsync();
        var rules = import.GetByRole(AriaRole.Status, new() { Name = "rules" });
        await Expect(rules).ToContainTextAsync("verdict: unsupported, source: {title: \"desk.csv\"}");
        await PictureAsync(page, "import");
        Assert.DoesNotContain("desk.csv", await Document());
        await rules.GetByRole(AriaRole.Button, new() { Name = "into the catalogue as Wren Hale" }).ClickAsync();
        await Expect(rules).ToContainTextAsync("revision 2");
        Assert.Contains("- {this: \"7.0\", depends-on: phalarope, at: \"3.1\", verdict: unsupported", await Document());

        async Task<string> Document() =>
            (string)(await Stack.Service.GetFromJsonAsync<JsonObject>("/api/documents/product/curlew"))!["body"]!;
    }
}
