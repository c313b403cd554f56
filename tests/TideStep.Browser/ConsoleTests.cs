using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>The console in a real browser. With TIDESTEP_PICTURES set to a folder it leaves its pictures
/// there.</summary>
public sealed class ConsoleTests : ConsoleSession
{
    private static readonly LocatorAssertionsToHaveTextOptions Patient = new() { Timeout = 180_000 };

    [Fact]
    public async Task A_run_is_started_halts_and_is_returned_from_the_console()
    {
        await Stack.FaultAsync("ss-rel-2", "install", "bad-checksum");
        var run = await Stack.OpenAsync(label: "South shore: relay to 3.2");
        var page = await EnterAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "Marram Ferries" })).ToBeVisibleAsync();
        await PictureAsync(page, "home");
        await page.GetByRole(AriaRole.Link, new() { Name = "South shore: relay to 3.2" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Start" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("halted", Patient);
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "decision" }))
            .ToContainTextAsync("checksum differs");
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "decision" }))
            .ToContainTextAsync("Loss: relay-south");
        await PictureAsync(page, "run-halted");
        await page.GetByRole(AriaRole.Region, new() { Name = "members" })
            .GetByRole(AriaRole.Button, new() { Name = "install", Exact = true })
            .ClickAsync();
        await Expect(page.GetByRole(AriaRole.Dialog)).ToContainTextAsync("phalarope 3.2: checksum differs");
        await page.GetByRole(AriaRole.Button, new() { Name = "Close" }).ClickAsync();
        await page.GetByLabel("Reason, for the report").FillAsync("not tonight");
        await page.GetByRole(AriaRole.Button, new() { Name = "Return as far as …" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("returned", Patient);
        Assert.Contains("| relay-south/ss-rel-1 | 3.1 | 3.1 |", await Stack.Good("run", "report", run));
    }

    [Fact]
    public async Task A_run_waits_for_its_time_and_is_let_begin()
    {
        var run = await Stack.OpenAsync();
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/runs/{run}");
        await page.GetByLabel("begin at").FillAsync(DateTime.Now.AddDays(1).ToString("yyyy-MM-dd'T'HH:mm"));
        await page.GetByRole(AriaRole.Button, new() { Name = "Start at that time" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("waiting", Patient);
        await Expect(page.GetByText("Waits: for the time to begin")).ToBeVisibleAsync();
        await PictureAsync(page, "run-waits");
        await page.GetByRole(AriaRole.Button, new() { Name = "Begin now" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", Patient);
    }

    [Fact]
    public async Task A_long_step_shows_its_parts()
    {
        await Stack.FaultAsync("ss-rel-1", "install", "hang");
        var run = await Stack.OpenAsync();
        await Stack.Good("run", "start", run);
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/runs/{run}");
        var parts = page.GetByRole(AriaRole.List, new() { Name = "parts of install" });
        await Expect(parts.Locator("[aria-current=step]")).ToContainTextAsync("unpack, ", new() { Timeout = 180_000 });
        await Expect(parts).ToContainTextAsync("set up, takes 20 s");
        await PictureAsync(page, "run-parts");
    }

    [Fact]
    public async Task The_page_follows_a_run_through_a_killed_service()
    {
        var run = await Stack.OpenAsync();
        var page = await EnterAsync(ColorScheme.Dark);
        await page.GotoAsync($"/runs/{run}".Insert(0, $"http://127.0.0.1:{Stack.Port}"));
        await page.GetByRole(AriaRole.Button, new() { Name = "Start" }).ClickAsync();
        // Held, so that it is at work however long a busy machine takes for the rest.
        await page.GetByRole(AriaRole.Button, new() { Name = "Hold at the next safe place" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
        await PictureAsync(page, "run-dark");
        await Stack.KillServiceAsync();
        await Expect(page.GetByText("The connection is lost")).ToBeVisibleAsync();
        await Stack.StartServiceAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Go on" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", Patient);
        await Expect(page.GetByText("The connection is lost")).ToBeHiddenAsync();
    }

    [Fact]
    public async Task A_run_of_a_whole_season_shows_every_component_and_its_tide_line()
    {
        var run = await Stack.OpenAsync("goals/season.yaml", "Tickets to 7.2, gates to 7.1");
        await Stack.GrowDiskAsync();
        await Stack.SignAllAsync((string)(await Stack.RunAsync(run))["plan"]!);
        await Stack.Good("run", "start", run);
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/runs/{run}");
        await Stack.UntilAsync(run, r => (int)r["currentBlock"]! >= 20);
        await Expect(page.GetByRole(AriaRole.Img))
            .ToHaveAttributeAsync(
                "aria-label",
                new System.Text.RegularExpressions.Regex("Tide line: [1-9][0-9]* of 156 members"),
                new() { Timeout = 180_000 }
            );
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "parts" }).GetByRole(AriaRole.Row))
            .ToHaveCountAsync((await Stack.RunAsync(run))["blocks"]!.AsArray().Count + 1);
        await PictureAsync(page, "run");
        await Stack.Good("run", "hold", run);
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
    }

    [Fact]
    public async Task Hold_and_go_on_are_buttons_and_the_keyboard_reaches_them()
    {
        var run = await Stack.OpenAsync();
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/runs/{run}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Start" }).FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        await page.GetByRole(AriaRole.Button, new() { Name = "Hold at the next safe place" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
        await page.GetByRole(AriaRole.Button, new() { Name = "Go on" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", Patient);
    }

    [Fact]
    public async Task A_hold_that_waits_for_a_safe_place_can_be_made_to_hold_at_once()
    {
        var product = Path.Combine(Stack.Work, "slow.yaml");
        await File.WriteAllTextAsync(
            product,
            (await File.ReadAllTextAsync(Stack.Demo("catalogue/phalarope.yaml")))
                .Replace("change: [install]", "change: [wait, install]")
                .Replace(
                    "steps:\n",
                    "steps:\n  wait: {title: wait for the queue's copy, do: {await: 'copied = \"yes\"'}, limit: 20 h}\n"
                )
                .Replace("readings:\n", "readings:\n  copied: {by: field, unit: text}\n")
        );
        await Stack.Good("estate", "import", product);
        var run = await Stack.OpenAsync();
        await Stack.Good("run", "start", run);
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/runs/{run}");
        // Its relay is stopped and waits for something: no safe place is near.
        await Stack.UntilDoneAsync(d => d is { Node: "ss-rel-1", Verb: "check-point", What: "done" });
        await page.GetByRole(AriaRole.Button, new() { Name = "Hold at the next safe place" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("holding", Patient);
        await page.GetByRole(AriaRole.Button, new() { Name = "Hold at once" }).ClickAsync();
        foreach (var relay in new[] { "ss-rel-1", "ss-rel-2", "ss-rel-3" })
            (await Stack.ReadsAsync(relay, "relay-south", "copied", "yes")).EnsureSuccessStatusCode();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
        // What waited was ended; nothing further was begun, though its member is out of service.
        Assert.DoesNotContain(await Stack.DeedsAsync(), d => d.Verb == "install");
        await Expect(page.GetByRole(AriaRole.Button, new() { Name = "Hold at once" })).ToBeHiddenAsync();
        Assert.Empty(await SeriousAsync(page));
        Assert.Contains(await Stack.JournalAsync(run), e =>
            e!.ToJsonString().Contains("\"atOnce\":true", StringComparison.Ordinal)
        );
        await page.GetByRole(AriaRole.Button, new() { Name = "Go on" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", Patient);
    }

    [Fact]
    public async Task A_persons_step_is_signed_with_evidence_in_a_form()
    {
        var product = Path.Combine(Stack.Work, "signed.yaml");
        await File.WriteAllTextAsync(
            product,
            (await File.ReadAllTextAsync(Stack.Demo("catalogue/phalarope.yaml")))
                .Replace("change: [install]", "change: [look, install]")
                .Replace(
                    "steps:\n",
                    "steps:\n  look: {title: look at the relay, do: {person: \"Look at the queue of "
                        + "{member.node}.\"}}\n"
                )
        );
        await Stack.Good("estate", "import", product);
        var run = await Stack.OpenAsync();
        await Stack.Good("run", "start", run);
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/runs/{run}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign that it is done" })
            .ClickAsync(new() { Timeout = 180_000 });
        var form = page.GetByRole(AriaRole.Dialog, new() { Name = "signature" });
        await Expect(form).ToContainTextAsync("Look at the queue of ss-rel-1.", new() { Timeout = 180_000 });
        await Expect(form.GetByRole(AriaRole.Button, new() { Name = "Sign as Wren Hale" })).ToBeDisabledAsync();
        await form.GetByLabel("What you did or saw").FillAsync("the queue is empty");
        await PictureAsync(page, "sign");
        await page.Keyboard.PressAsync("Tab");
        await page.Keyboard.PressAsync("Enter");
        await Expect(form).ToBeHiddenAsync();
        await Stack.UntilAsync(run, r => (int)r["currentBlock"]! >= 2);
        await Stack.Good("run", "hold", run);
        Assert.Contains("the queue is empty", await Stack.Good("run", "report", run));
    }

    [Fact]
    public async Task A_goal_is_put_together_planned_compared_and_opened_as_a_run()
    {
        await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"));
        var page = await EnterAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Plans" }).ClickAsync();
        await page.GetByLabel("tickets-north shall be at").SelectOptionAsync("7.2");
        await page.GetByRole(AriaRole.Button, new() { Name = "all of them" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Find the path" }).ClickAsync();
        var none = page.GetByRole(AriaRole.Status, new() { Name = "no path" });
        await Expect(none).ToContainTextAsync("There is no path.", new() { Timeout = 180_000 });
        await Expect(none).ToContainTextAsync("seat-map-south");
        await PictureAsync(page, "plans-none");
        await page.GetByLabel("Pairs that nobody has tested").CheckAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Find the path" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "path" }))
            .ToContainTextAsync("moves", new() { Timeout = 180_000 });
        await page.GetByText("components move that the goal does not name").ClickAsync();
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "path" })).ToContainTextAsync("os-south");
        await PictureAsync(page, "plans-path");
        await page.GetByRole(AriaRole.Button, new() { Name = "Make the plan" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "parts" }))
            .ToContainTextAsync("tickets-south wave 1 of 3", new() { Timeout = 180_000 });
        await page.GetByLabel("earlier plan").SelectOptionAsync(new SelectOptionValue { Index = 1 });
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "comparison" }))
            .ToContainTextAsync("does not make the move gates 6.3 to 7.1", new() { Timeout = 180_000 });
        await page.GetByRole(AriaRole.Button, new() { Name = "Open a run of it" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("ready", Patient);
    }

    [Fact]
    public async Task A_plan_is_read_from_its_strip_with_the_keyboard()
    {
        var plan = System.Text.Json.Nodes.JsonNode.Parse(
            await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"), "--format", "json")
        )!;
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{Stack.Port}/plans/{plan["digest"]}");
        var strip = page.GetByRole(AriaRole.Figure);
        await Expect(strip).ToContainTextAsync("move 1: runtime-south 21.3 to 21.5", new() { Timeout = 180_000 });
        await page.GetByRole(AriaRole.Img, new() { Name = "move 1: runtime-south" }).FocusAsync();
        await page.Keyboard.PressAsync("ArrowRight");
        await page.Keyboard.PressAsync("ArrowRight");
        await Expect(strip).ToContainTextAsync("move 3: identity-south 4.6 to 5.1");
        await Expect(page.GetByText("Window 2")).ToBeVisibleAsync();
        await Expect(strip).ToContainTextAsync("rests till 6 Dec");
        await PictureAsync(page, "strip");
        await page.GetByRole(
                AriaRole.Button,
                new() { NameRegex = new System.Text.RegularExpressions.Regex(": return path after part 60$") }
            )
            .PressAsync("Enter");
        var back = page.GetByRole(AriaRole.Region, new() { Name = "return path", Exact = true });
        await Expect(back).ToContainTextAsync("season-pass-south 3.4 back to 3.1", new() { Timeout = 180_000 });
        await Expect(back).ToContainTextAsync("relay-south: restore store loses what was written since its capture");
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "needs", Exact = true }))
            .ToContainTextAsync("pratincole-7.1-wide.img, 17.2 KiB 8 nodes");
        await PictureAsync(page, "plan");
    }

    [Fact]
    public async Task A_plans_findings_are_read_and_one_is_accepted()
    {
        await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"));
        var page = await EnterAsync();
        await page.GetByLabel("acting as").FillAsync("Robin Dale");
        await page.GetByRole(AriaRole.Link, new() { Name = "Checks" }).ClickAsync();
        await Expect(page.GetByText("This plan was never checked.")).ToBeVisibleAsync(new() { Timeout = 180_000 });
        await page.GetByRole(AriaRole.Button, new() { Name = "Check now" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Status, new() { Name = "readiness" }))
            .ToContainTextAsync("Not ready. 4 blockers", new() { Timeout = 180_000 });
        await Expect(page.GetByRole(AriaRole.Table, new() { Name = "Stands in the way" }))
            .ToContainTextAsync("needs at least 30 GiB, has 23.5 GiB: 6.5 GiB short");
        await page.GetByRole(AriaRole.Button, new() { Name = "sign manual ask for the licence of Greenshank 4" })
            .ClickAsync();
        var signature = page.GetByRole(AriaRole.Dialog, new() { Name = "acceptance" });
        await signature.GetByLabel("What you did or saw").FillAsync("it is in the drawer");
        await signature.GetByRole(AriaRole.Button, new() { Name = "Sign as Robin Dale" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Status, new() { Name = "readiness" }))
            .ToContainTextAsync("Not ready. 3 blockers", new() { Timeout = 180_000 });
        await page.GetByRole(AriaRole.Button, new() { Name = "accept to-8.4 lag ledger-north/ns-led-3" })
            .PressAsync("Enter");
        var dialog = page.GetByRole(AriaRole.Dialog, new() { Name = "acceptance" });
        await dialog.GetByLabel("Why it may be borne").FillAsync("it catches up in minutes");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Accept as Robin Dale" }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Table, new() { Name = "Accepted" }))
            .ToContainTextAsync("Robin Dale, until", new() { Timeout = 180_000 });
        await PictureAsync(page, "checks");
        await page.GetByRole(AriaRole.Button, new() { Name = "accept to-8.4 room ledger-south/ss-led-3" }).ClickAsync();
        await dialog.GetByLabel("Why it may be borne").FillAsync("dumps are cleared on Friday");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Accept as Robin Dale" }).ClickAsync();
        await Expect(page.GetByText("A second person has to agree.")).ToBeVisibleAsync(new() { Timeout = 180_000 });
        await Expect(page.GetByRole(AriaRole.Status, new() { Name = "readiness" })).ToContainTextAsync("Not ready.");
    }

    [Fact]
    public async Task A_matrix_is_read_place_by_place_with_its_rules()
    {
        await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"));
        var page = await EnterAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Catalogue" }).ClickAsync();
        await page.GetByLabel("product", new() { Exact = true }).SelectOptionAsync("curlew");
        var matrix = page.GetByRole(AriaRole.Application);
        await Expect(matrix)
            .ToHaveAttributeAsync(
                "aria-label",
                "curlew depends on dunlin, 4 by 2 releases",
                new() { Timeout = 180_000 }
            );
        await matrix.FocusAsync();
        await Expect(page.GetByRole(AriaRole.Figure))
            .ToContainTextAsync("curlew 7.2 with dunlin 8.4: supported by curlew#2, Curlew 7.2 notes");
        await Expect(page.GetByRole(AriaRole.Figure))
            .ToContainTextAsync("After the newest plan: tickets-north with ledger-north");
        foreach (var key in new[] { "ArrowUp", "ArrowUp", "ArrowUp", "ArrowLeft", "ArrowLeft" })
            await page.Keyboard.PressAsync(key);
        await Expect(page.GetByRole(AriaRole.Figure)).ToContainTextAsync("Today: tickets-north with ledger-north");
        await PictureAsync(page, "catalogue");
    }

    [Fact]
    public async Task A_link_works_once_and_no_request_leaves_the_machine()
    {
        var link = (await Stack.Good("console", "link")).Trim();
        var page = await Browser.NewPageAsync();
        var elsewhere = new List<string>();
        page.Request += (_, request) =>
        {
            if (
                !request.Url.StartsWith($"http://127.0.0.1:{Stack.Port}/", StringComparison.Ordinal)
                && !request.Url.StartsWith("data:", StringComparison.Ordinal)
            )
                elsewhere.Add(request.Url);
        };
        await page.GotoAsync(link);
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "Marram Ferries" })).ToBeVisibleAsync();
        Assert.Empty(elsewhere);
        Assert.Equal(410, (await (await Browser.NewPageAsync()).GotoAsync(link))!.Status);
    }
}
