using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>Documents in the console: an error at its line, the differences before they are kept, earlier
/// revisions.</summary>
public sealed class DocumentsTests : ConsoleSession
{
    [Fact]
    public async Task A_document_is_edited_with_its_errors_at_their_lines_and_kept_once_its_differences_were_seen()
    {
        var page = await EnterAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Documents" }).ClickAsync();
        await page.GetByLabel("search documents").FillAsync("curlew");
        await page.GetByRole(AriaRole.Link, new() { Name = "curlew" }).ClickAsync();
        var look = Button(page, "Look at the differences …");
        await Expect(look).ToBeDisabledAsync();
        await page.GetByLabel("text of curlew").ClickAsync();
        await page.Keyboard.PressAsync("Control+Home");
        await page.Keyboard.TypeAsync("surprise: 1\n");
        var problems = Region(page, "problems");
        await Expect(problems).ToContainTextAsync("line 1");
        await Expect(problems).ToContainTextAsync("surprise");
        await Expect(look).ToBeDisabledAsync();
        await PictureAsync(page, "document");
        await page.Keyboard.PressAsync("Control+Home");
        await page.Keyboard.PressAsync("Shift+End");
        await page.Keyboard.TypeAsync("# looked at in the harbour");
        await Expect(problems).ToBeHiddenAsync();
        await look.ClickAsync();
        await Expect(Region(page, "differences")).ToContainTextAsync("# looked at in the harbour");
        Assert.Empty(await SeriousAsync(page));
        await PictureAsync(page, "document-differences");
        // Somebody else was faster: what was looked at is no longer what is there.
        var kept = (string)(await KeptAsync())["body"]!;
        (
            await Stack.Service.PostAsJsonAsync(
                "/api/documents",
                new { documents = new[] { new { name = "curlew", text = kept + "\n# the other\n" } } }
            )
        ).EnsureSuccessStatusCode();
        await Button(page, "Keep it as revision 2").ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("was changed meanwhile");
        Assert.DoesNotContain("harbour", (string)(await KeptAsync())["body"]!);
        await page.ReloadAsync();
        await page.GetByLabel("text of curlew").ClickAsync();
        await page.Keyboard.PressAsync("Control+Home");
        await page.Keyboard.TypeAsync("# looked at in the harbour\n");
        await look.ClickAsync();
        await Button(page, "Keep it as revision 3").ClickAsync();
        await Expect(page.GetByText("revision 3 by Wren Hale")).ToBeVisibleAsync();
        Assert.StartsWith("# looked at in the harbour\n", (string)(await KeptAsync())["body"]!);
        await Stack.OpenAsync(label: "Relay, of revision 3");
        var uses = Region(page, "revisions").GetByRole(AriaRole.Button, new() { Name = "used by …" });
        await uses.First.ClickAsync();
        await Expect(Region(page, "revisions")).ToContainTextAsync("relay-south 3.1 to 3.2");
        await Expect(Region(page, "revisions")).ToContainTextAsync("Relay, of revision 3");
        await uses.Last.ClickAsync();
        await Expect(Region(page, "revisions")).ToContainTextAsync("No plan was made while it counted");
        await Region(page, "revisions").GetByRole(AriaRole.Button, new() { Name = "1, against now" }).ClickAsync();
        await Expect(Region(page, "differences")).ToContainTextAsync("# the other");
    }

    private async Task<JsonObject> KeptAsync() =>
        (await Stack.Service.GetFromJsonAsync<JsonObject>("/api/documents/product/curlew"))!;
}
