using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>The estate in a real browser: readings, lists of any length, and what assistive tools find in every
/// page.</summary>
public sealed class EstateTests : ConsoleSession
{
    [Fact]
    public async Task A_member_shows_all_that_was_read_of_it_and_a_part_is_surveyed_from_here()
    {
        await Stack.Good("survey", "take");
        var page = await EnterAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Estate", Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Navigation, new() { Name = "components" })
            .GetByRole(AriaRole.Button, new() { Name = "ledger-south" })
            .ClickAsync();
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "members", Exact = true }))
            .ToContainTextAsync("3 members");
        await page.GetByLabel("members, by the arrow keys").FocusAsync();
        foreach (var key in new[] { "ArrowDown", "ArrowDown", "ArrowDown" })
            await page.Keyboard.PressAsync(key);
        var readings = page.GetByRole(AriaRole.Region, new() { Name = "readings" });
        await Expect(readings).ToContainTextAsync("ledger-south/ss-led-3");
        await Expect(readings).ToContainTextAsync("23.5 GiB");
        await Expect(readings).ToContainTextAsync("not read: its report does not tell it");
        await Stack.Fleet.PutAsync(
            "/nodes/ss-led-3/readings",
            new StringContent(
                "{\"component\": \"ledger-south\", \"name\": \"lag\", \"value\": \"3 MiB\"}",
                System.Text.Encoding.UTF8,
                "application/json"
            )
        );
        await page.GetByRole(AriaRole.Button, new() { Name = "Survey ledger-south" }).ClickAsync();
        await Expect(readings).ToContainTextAsync("3 MiB");
        await PictureAsync(page, "estate");
        await readings.GetByRole(AriaRole.Button, new() { Name = "lag" }).ClickAsync();
        await Expect(readings).ToContainTextAsync(new Regex("3 MiB .*, 0 B"));
        await page.GetByRole(AriaRole.Link, new() { Name = "Artefacts" }).ClickAsync();
        await Expect(Region(page, "artefacts")).ToContainTextAsync("pratincole-7.1-wide.img");
    }

    [Fact]
    public async Task Ten_thousand_members_are_a_list_of_which_only_what_is_in_sight_is_drawn()
    {
        var texts = LargeEstate.Write();
        var folder = Directory.CreateDirectory(Path.Combine(Stack.Work, "large")).FullName;
        await File.WriteAllTextAsync(Path.Combine(folder, "estate.yaml"), texts.Estate);
        await File.WriteAllTextAsync(Path.Combine(folder, "readings.yaml"), texts.Readings);
        foreach (var (id, text) in texts.Products)
            await File.WriteAllTextAsync(Path.Combine(folder, id + ".yaml"), text);
        await Stack.Good("estate", "import", folder);
        var total = (int)JsonNode.Parse(await Stack.Service.GetStringAsync("/api/members?limit=1"))!["total"]!;
        Assert.True(total > 9000);
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/estate");
        var members = page.GetByRole(AriaRole.Region, new() { Name = "members", Exact = true });
        await Expect(members).ToContainTextAsync($"{total:N0} members");
        Assert.InRange(await members.GetByRole(AriaRole.Row).CountAsync(), 5, 120);
        // Somebody scrolls on and on: the next page may have come before or after each pull.
        await page.WaitForFunctionAsync(
            """
            () => {
              const list = document.querySelector('[aria-label="members, by the arrow keys"]');
              list.scrollTop = list.scrollHeight;
              return document.querySelector('[aria-rowindex="395"]') !== null;
            }
            """,
            null,
            new() { Timeout = 180_000 }
        );
        Assert.InRange(await members.GetByRole(AriaRole.Row).CountAsync(), 5, 120);
        await page.GetByLabel("narrow by name or version").FillAsync("landing-07");
        await Expect(members).Not.ToContainTextAsync($"{total:N0} members");
    }

    [Theory]
    [InlineData(ColorScheme.Light)]
    [InlineData(ColorScheme.Dark)]
    public async Task Assistive_tools_find_nothing_serious_in_any_page(ColorScheme scheme)
    {
        await Stack.Good("survey", "take");
        var plan = (string)
            JsonNode.Parse(
                await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"), "--format", "json")
            )!["digest"]!;
        await Stack.Cli("check", "run", plan);
        var run = await Stack.OpenAsync(label: "South shore: relay to 3.2");
        var page = await EnterAsync(scheme);
        var found = new List<string>();
        foreach (
            var address in (string[])
                [
                    "/",
                    "/estate",
                    "/estate?view=out-of-line",
                    "/estate/map?component=ledger-south",
                    "/documents",
                    "/documents/product/curlew",
                    "/catalogue",
                    "/plans",
                    "/plans/new",
                    .. new[] { "parts", "findings", "needs", "rehearsals", "sign-offs", "compared" }.Select(part =>
                        $"/plans/{Uri.EscapeDataString(plan)}/{part}"
                    ),
                    "/runs",
                    .. new[] { "members", "parts", "log", "afterwards", "report", "compared" }.Select(part =>
                        $"/runs/{run}/{part}"
                    ),
                    "/points",
                    "/follow-ups",
                    "/artefacts",
                    "/notices",
                    "/service",
                    "/people",
                    "/record",
                    "/keys",
                    "/nowhere",
                ]
        )
        {
            await page.GotoAsync($"http://127.0.0.1:{Stack.Port}{address}");
            // pages that ask again and again are never idle
            await page.WaitForLoadStateAsync(LoadState.NetworkIdle, new() { Timeout = 5000 }).ContinueWith(_ => { });
            await Expect(page.GetByRole(AriaRole.Heading, new() { Level = 1 }).First).ToBeVisibleAsync();
            found.AddRange((await SeriousAsync(page)).Select(v => $"{address}: {v}"));
        }
        Assert.True(found.Count == 0, string.Join("\n", found));
    }
}
