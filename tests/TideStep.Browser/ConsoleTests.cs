using System.Text.RegularExpressions;
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
        await Expect(page.GetByRole(AriaRole.Banner)).ToContainTextAsync("Marram Ferries");
        await PictureAsync(page, "now-empty");
        await Region(page, "runs").GetByRole(AriaRole.Link, new() { Name = "South shore: relay to 3.2" }).ClickAsync();
        await Button(page, "Start").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("halted", Patient);
        var decision = Region(page, "decision");
        await Expect(decision).ToContainTextAsync("checksum differs");
        await Expect(decision.Locator("pre")).ToContainTextAsync("setting up");
        await Expect(decision).ToContainTextAsync("relay-south/ss-rel-2");
        await Expect(decision.GetByRole(AriaRole.Group))
            .ToHaveTextAsync([new Regex("^Go on"), new Regex("^Go back"), new Regex("^Stop here")]);
        await PictureAsync(page, "halt");
        await decision.GetByRole(AriaRole.Button, new() { Name = "All of the output of install" }).ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("phalarope 3.2: checksum differs");
        await page.Keyboard.PressAsync("Escape");
        // Nothing happens by the first click: a choice opens its consequences, and can be left.
        await Button(page, "Stop here").ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("Could be led back");
        await Button(page, "Not now").ClickAsync();
        await Button(page, "Return …").ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("relay-south: what was written since");
        await PictureAsync(page, "halt-choice");
        await page.GetByLabel("Reason, for the report").FillAsync("not tonight");
        await Button(page, "Return").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("returned", Patient);
        Assert.Contains("| relay-south/ss-rel-1 | 3.1 | 3.1 |", await Stack.Good("run", "report", run));
        Assert.Single(await Stack.JournalAsync(run), e =>
            e!.ToJsonString().Contains("not tonight", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_run_waits_for_its_time_and_is_let_begin()
    {
        var run = await Stack.OpenAsync();
        var page = await EnterAsync();
        await OpenAsync(page, $"/runs/{run}");
        await Button(page, "Start at …").ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { NameRegex = new Regex("^Begin at") }).ClickAsync();
        await page.Locator("[data-direction=next]").First.ClickAsync();
        await page.Locator("td button:not([data-outside])", new() { HasTextRegex = new Regex("^15$") }).ClickAsync();
        await Button(page, "take this time").ClickAsync();
        await Button(page, "Start at that time").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("waiting", Patient);
        await Expect(page.GetByText("Waits: for the time to begin")).ToBeVisibleAsync();
        await PictureAsync(page, "run-waits");
        await Button(page, "Begin now").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", Patient);
    }

    [Fact]
    public async Task A_long_step_shows_its_parts()
    {
        await Stack.FaultAsync("ss-rel-1", "install", "hang");
        var run = await Stack.OpenAsync();
        await Stack.Good("run", "start", run);
        var page = await EnterAsync();
        await OpenAsync(page, $"/runs/{run}");
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
        await OpenAsync(page, $"/runs/{run}");
        await Button(page, "Start").ClickAsync();
        // Held, so that it is at work however long a busy machine takes for the rest.
        await Button(page, "Hold at the next safe place").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
        await PictureAsync(page, "run-dark");
        await Stack.KillServiceAsync();
        await Expect(page.GetByText("The connection is lost")).ToBeVisibleAsync();
        await Stack.StartServiceAsync();
        await Button(page, "Go on").ClickAsync();
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
        await OpenAsync(page, $"/runs/{run}");
        await Stack.UntilAsync(run, r => (int)r["currentBlock"]! >= 20);
        await Expect(page.GetByRole(AriaRole.Img, new() { Name = "Tide line" }))
            .ToHaveAttributeAsync(
                "aria-label",
                new Regex("Tide line: [1-9][0-9]* of 156 members"),
                new() { Timeout = 180_000 }
            );
        var waves = page.GetByRole(AriaRole.Group, new() { Name = "waves" });
        await Expect(waves.GetByRole(AriaRole.Button, new() { Name = "gates wave 1" })).ToBeVisibleAsync();
        await PictureAsync(page, "run");
        await page.GetByRole(AriaRole.Tab, new() { Name = "Parts" }).ClickAsync();
        await Expect(Region(page, "parts").GetByRole(AriaRole.Row))
            .ToHaveCountAsync((await Stack.RunAsync(run))["blocks"]!.AsArray().Count + 1);
        await PictureAsync(page, "run-parts-list");
        await Stack.Good("run", "hold", run);
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
    }

    [Fact]
    public async Task Hold_and_go_on_are_buttons_and_the_keyboard_reaches_them()
    {
        var run = await Stack.OpenAsync();
        var page = await EnterAsync();
        await OpenAsync(page, $"/runs/{run}");
        await Button(page, "Start").FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        await Button(page, "Hold at the next safe place").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
        await Button(page, "Go on").ClickAsync();
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
        await OpenAsync(page, $"/runs/{run}");
        // Its relay is stopped and waits for something: no safe place is near.
        await Stack.UntilDoneAsync(d => d is { Node: "ss-rel-1", Verb: "check-point", What: "done" });
        await Button(page, "Hold at the next safe place").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("holding", Patient);
        await Button(page, "Hold at once …").ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("No further step is begun");
        await Button(page, "Hold at once").ClickAsync();
        foreach (var relay in new[] { "ss-rel-1", "ss-rel-2", "ss-rel-3" })
            (await Stack.ReadsAsync(relay, "relay-south", "copied", "yes")).EnsureSuccessStatusCode();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
        // What waited was ended; nothing further was begun, though its member is out of service.
        Assert.DoesNotContain(await Stack.DeedsAsync(), d => d.Verb == "install");
        await Expect(Button(page, "Hold at once …")).ToBeHiddenAsync();
        Assert.Empty(await SeriousAsync(page));
        Assert.Contains(await Stack.JournalAsync(run), e =>
            e!.ToJsonString().Contains("\"atOnce\":true", StringComparison.Ordinal)
        );
        await Button(page, "Go on").ClickAsync();
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
        await OpenAsync(page, $"/runs/{run}");
        var form = Region(page, "waits for a person");
        await Expect(form).ToContainTextAsync("Look at the queue of ss-rel-1.", new() { Timeout = 180_000 });
        await Expect(form.GetByRole(AriaRole.Button, new() { Name = "Sign as Wren Hale" })).ToBeDisabledAsync();
        await form.GetByLabel("What you did or saw").FillAsync("the queue is empty");
        await PictureAsync(page, "sign");
        // Past the file, which nobody has to give, to the button.
        await page.Keyboard.PressAsync("Tab");
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
        await page.GetByRole(AriaRole.Link, new() { Name = "Make a plan" }).First.ClickAsync();
        await page.GetByLabel("search components").FillAsync("ticket engine");
        await page.GetByLabel("add all of Curlew ticket engine").ClickAsync();
        await Expect(Button(page, "Find the path")).ToBeDisabledAsync();
        await PickAsync(page, "tickets-north shall be at", "7.2, long support");
        await page.GetByRole(AriaRole.Button, new() { Name = "for all of" }).First.ClickAsync();
        await Button(page, "Find the path").ClickAsync();
        var none = page.GetByRole(AriaRole.Status, new() { Name = "no path" });
        await Expect(none).ToContainTextAsync("There is no path.", new() { Timeout = 180_000 });
        await Expect(none).ToContainTextAsync("seat-map-south");
        await PictureAsync(page, "plans-none");
        await page.GetByLabel("Pairs that nobody has tested").CheckAsync();
        await Button(page, "Find the path").ClickAsync();
        var path = Region(page, "path");
        await Expect(path).ToContainTextAsync("moves", new() { Timeout = 180_000 });
        await page.GetByText("components move that the goal does not name").ClickAsync();
        await Expect(path).ToContainTextAsync("os-south");
        await PictureAsync(page, "path-page");
        await Button(page, "Make the plan").ClickAsync();
        await Expect(Region(page, "parts")).ToContainTextAsync("tickets-south", new() { Timeout = 180_000 });
        await page.GetByRole(AriaRole.Tab, new() { Name = "Compared" }).ClickAsync();
        await PickAsync(page, "earlier plan", "gates");
        await Expect(Region(page, "comparison"))
            .ToContainTextAsync("does not make the move gates 6.3 to 7.1", new() { Timeout = 180_000 });
        await Button(page, "Open a run of it").ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("ready", Patient);
    }

    [Fact]
    public async Task A_plan_is_read_from_its_strip_with_the_keyboard()
    {
        var plan = System.Text.Json.Nodes.JsonNode.Parse(
            await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"), "--format", "json")
        )!;
        var page = await EnterAsync();
        await OpenAsync(page, $"/plans/{plan["digest"]}");
        var strip = page.GetByRole(AriaRole.Figure);
        await Expect(strip).ToContainTextAsync("move 1: runtime-south 21.3 to 21.5", new() { Timeout = 180_000 });
        await page.GetByRole(AriaRole.Img, new() { Name = "move 1: runtime-south" }).FocusAsync();
        await page.Keyboard.PressAsync("ArrowRight");
        await page.Keyboard.PressAsync("ArrowRight");
        await Expect(strip).ToContainTextAsync("move 3: identity-south 4.6 to 5.1");
        await Expect(page.GetByText("Window 2")).ToBeVisibleAsync();
        await Expect(strip).ToContainTextAsync(new Regex("rests till [0-9]{1,2} [A-Z][a-z]{2}"));
        await PictureAsync(page, "plan-page");
        await Button(page, "Open all").ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { NameRegex = new Regex(": return path after part 60$") })
            .PressAsync("Enter");
        var back = Region(page, "return path");
        await Expect(back).ToContainTextAsync("season-pass-south 3.4 back to 3.1", new() { Timeout = 180_000 });
        await Expect(back).ToContainTextAsync("relay-south: restore store loses what was written since its capture");
        await PictureAsync(page, "plan-return");
        await page.Keyboard.PressAsync("Escape");
        await page.GetByRole(AriaRole.Button, new() { Name = "relay-south wave 1 of 3" }).ClickAsync();
        await Expect(Dialog(page)).ToContainTextAsync("relay-south/ss-rel-1");
        await page.Keyboard.PressAsync("Escape");
        await page.GetByRole(AriaRole.Tab, new() { Name = "Needs" }).ClickAsync();
        await Expect(Region(page, "needs")).ToContainTextAsync("pratincole-7.1-wide.img, 17.2 KiB 8 nodes");
    }

    [Fact]
    public async Task A_plans_findings_are_read_and_one_is_accepted_by_two_people()
    {
        var plan = System.Text.Json.Nodes.JsonNode.Parse(
            await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"), "--format", "json")
        )!;
        var page = await EnterAsync();
        await ActAsAsync(page, "Robin Dale");
        await OpenAsync(page, $"/plans/{plan["digest"]}");
        await page.GetByRole(AriaRole.Tab, new() { Name = "Is it ready?" }).ClickAsync();
        await Expect(page.GetByText("This plan was never checked.")).ToBeVisibleAsync(new() { Timeout = 180_000 });
        await Button(page, "Check now").ClickAsync();
        var checks = Region(page, "checks");
        await Expect(checks).ToContainTextAsync("Not ready.", new() { Timeout = 180_000 });
        await Expect(checks).ToContainTextAsync("4 blockers");
        await Expect(page.GetByRole(AriaRole.Table, new() { Name = "Stands in the way" }))
            .ToContainTextAsync("needs at least 30 GiB, has 23.5 GiB: 6.5 GiB short");
        await page.GetByRole(AriaRole.Button, new() { Name = "sign manual ask for the licence of Greenshank 4" })
            .ClickAsync();
        await Dialog(page).GetByLabel("What you did or saw").FillAsync("it is in the drawer");
        await Dialog(page).GetByRole(AriaRole.Button, new() { Name = "Sign", Exact = true }).ClickAsync();
        await Expect(checks).ToContainTextAsync("3 blockers", new() { Timeout = 180_000 });
        await page.GetByRole(AriaRole.Button, new() { Name = "accept to-8.4 lag ledger-north/ns-led-3" })
            .PressAsync("Enter");
        await Dialog(page).GetByLabel("Why it may be borne").FillAsync("it catches up in minutes");
        await Dialog(page).GetByRole(AriaRole.Button, new() { Name = "Accept", Exact = true }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Table, new() { Name = "Accepted" }))
            .ToContainTextAsync("Robin Dale, until", new() { Timeout = 180_000 });
        await PictureAsync(page, "findings");
        await page.GetByRole(AriaRole.Button, new() { Name = "accept to-8.4 room ledger-south/ss-led-3" }).ClickAsync();
        await Dialog(page).GetByLabel("Why it may be borne").FillAsync("dumps are cleared on Friday");
        await Dialog(page).GetByRole(AriaRole.Button, new() { Name = "Accept", Exact = true }).ClickAsync();
        await Expect(page.GetByText("A second person has to agree.")).ToBeVisibleAsync(new() { Timeout = 180_000 });
        await Expect(checks).ToContainTextAsync("3 blockers");
        await ActAsAsync(page, "Ida Moss");
        await Button(page, "Agree").ClickAsync();
        await Expect(checks).ToContainTextAsync("2 blockers", new() { Timeout = 180_000 });
    }

    [Fact]
    public async Task A_matrix_is_read_place_by_place_with_its_rules()
    {
        await Stack.Good("plan", "make", "--goal", Stack.Demo("goals/season.yaml"));
        var page = await EnterAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Catalogue", Exact = true }).ClickAsync();
        await PickAsync(page, "product", "Curlew ticket engine");
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
        await Expect(page.GetByRole(AriaRole.Banner)).ToContainTextAsync("Marram Ferries");
        Assert.Empty(elsewhere);
        Assert.Equal(410, (await (await Browser.NewPageAsync()).GotoAsync(link))!.Status);
    }
}
