using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>The console in a real browser. With TIDESTEP_PICTURES set to a folder it leaves its pictures there.</summary>
public sealed class ConsoleTests : IAsyncLifetime
{
    private DemoStack _stack = null!;
    private IPlaywright _playwright = null!;
    private IBrowser _browser = null!;

    public async ValueTask InitializeAsync()
    {
        _stack = await DemoStack.StartAsync(pace: 300);
        _playwright = await Playwright.CreateAsync();
        _browser = await _playwright.Chromium.LaunchAsync(new BrowserTypeLaunchOptions { ExecutablePath = "/usr/bin/chromium", Args = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"] });
    }

    public async ValueTask DisposeAsync()
    {
        await _browser.DisposeAsync();
        _playwright.Dispose();
        await _stack.DisposeAsync();
    }

    private async Task<IPage> EnterAsync(ColorScheme scheme = ColorScheme.Light)
    {
        var context = await _browser.NewContextAsync(new BrowserNewContextOptions { ViewportSize = new ViewportSize { Width = 1280, Height = 800 }, ColorScheme = scheme });
        var page = await context.NewPageAsync();
        await page.GotoAsync((await _stack.Good("console", "link")).Trim());
        await page.GetByLabel("acting as").FillAsync("Wren Hale");
        return page;
    }

    private static async Task PictureAsync(IPage page, string name)
    {
        if (Environment.GetEnvironmentVariable("TIDESTEP_PICTURES") is { } folder) await page.ScreenshotAsync(new PageScreenshotOptions { Path = Path.Combine(folder, name + ".png") });
    }

    private static ILocatorAssertions Expect(ILocator locator) => Assertions.Expect(locator);

    private static readonly LocatorAssertionsToHaveTextOptions Patient = new() { Timeout = 60_000 };

    [Fact]
    public async Task A_run_is_started_halts_and_is_returned_from_the_console()
    {
        await _stack.FaultAsync("ss-rel-2", "install", "bad-checksum");
        var run = await _stack.OpenAsync(label: "South shore: relay to 3.2");
        var page = await EnterAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "Marram Ferries" })).ToBeVisibleAsync();
        await PictureAsync(page, "home");
        await page.GetByRole(AriaRole.Link, new() { Name = "South shore: relay to 3.2" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Start" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("halted", Patient);
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "decision" })).ToContainTextAsync("checksum differs");
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "decision" })).ToContainTextAsync("Loss: relay-south");
        await PictureAsync(page, "run-halted");
        await page.GetByRole(AriaRole.Region, new() { Name = "members" }).GetByRole(AriaRole.Button, new() { Name = "install", Exact = true }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Dialog)).ToContainTextAsync("phalarope 3.2: checksum differs");
        await page.GetByRole(AriaRole.Button, new() { Name = "Close" }).ClickAsync();
        await page.GetByLabel("Reason, for the report").FillAsync("not tonight");
        await page.GetByRole(AriaRole.Button, new() { Name = "Return as far as …" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("returned", Patient);
        Assert.Contains("| relay-south/ss-rel-1 | 3.1 | 3.1 |", await _stack.Good("run", "report", run));
    }

    [Fact]
    public async Task The_page_follows_a_run_through_a_killed_service()
    {
        var run = await _stack.OpenAsync();
        var page = await EnterAsync(ColorScheme.Dark);
        await page.GotoAsync($"/runs/{run}".Insert(0, $"http://127.0.0.1:{_stack.Port}"));
        await page.GetByRole(AriaRole.Button, new() { Name = "Start" }).ClickAsync();
        await _stack.UntilAsync(run, r => (int)r["currentBlock"]! == 2);
        await PictureAsync(page, "run-dark");
        await _stack.KillServiceAsync();
        await Expect(page.GetByText("The connection is lost")).ToBeVisibleAsync();
        await _stack.StartServiceAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", Patient);
        await Expect(page.GetByText("The connection is lost")).ToBeHiddenAsync();
    }

    [Fact]
    public async Task A_run_of_a_whole_season_shows_every_component_and_its_tide_line()
    {
        var run = await _stack.OpenAsync("goals/season.yaml", "Tickets to 7.2, gates to 7.1");
        await _stack.Good("run", "start", run);
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{_stack.Port}/runs/{run}");
        await _stack.UntilAsync(run, r => (int)r["currentBlock"]! >= 20);
        await Expect(page.GetByRole(AriaRole.Img)).ToHaveAttributeAsync("aria-label", new System.Text.RegularExpressions.Regex("Tide line: [1-9][0-9]* of 84 members"), new() { Timeout = 60_000 });
        await Expect(page.GetByRole(AriaRole.Region, new() { Name = "parts" }).GetByRole(AriaRole.Row)).ToHaveCountAsync(54);
        await PictureAsync(page, "run");
        await _stack.Good("run", "hold", run);
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
    }

    [Fact]
    public async Task Hold_and_go_on_are_buttons_and_the_keyboard_reaches_them()
    {
        var run = await _stack.OpenAsync();
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{_stack.Port}/runs/{run}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Start" }).FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        await page.GetByRole(AriaRole.Button, new() { Name = "Hold at the next safe place" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("held", Patient);
        await page.GetByRole(AriaRole.Button, new() { Name = "Go on" }).ClickAsync();
        await Expect(page.GetByTestId("status")).ToHaveTextAsync("completed", Patient);
    }

    [Fact]
    public async Task A_persons_step_is_signed_with_evidence_in_a_form()
    {
        var product = Path.Combine(_stack.Work, "signed.yaml");
        await File.WriteAllTextAsync(product, (await File.ReadAllTextAsync(_stack.Demo("catalogue/phalarope.yaml"))).Replace("change: [install]", "change: [look, install]").Replace("steps:\n", "steps:\n  look: {title: look at the relay, do: {person: \"Look at the queue of {member.node}.\"}}\n"));
        await _stack.Good("estate", "import", product);
        var run = await _stack.OpenAsync();
        await _stack.Good("run", "start", run);
        var page = await EnterAsync();
        await page.GotoAsync($"http://127.0.0.1:{_stack.Port}/runs/{run}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign that it is done" }).ClickAsync(new() { Timeout = 60_000 });
        var form = page.GetByRole(AriaRole.Dialog, new() { Name = "signature" });
        await Expect(form).ToContainTextAsync("Look at the queue of ss-rel-1.");
        await Expect(form.GetByRole(AriaRole.Button, new() { Name = "Sign as Wren Hale" })).ToBeDisabledAsync();
        await form.GetByLabel("What you did or saw").FillAsync("the queue is empty");
        await PictureAsync(page, "sign");
        await page.Keyboard.PressAsync("Tab");
        await page.Keyboard.PressAsync("Enter");
        await Expect(form).ToBeHiddenAsync();
        await _stack.UntilAsync(run, r => (int)r["currentBlock"]! >= 2);
        await _stack.Good("run", "hold", run);
        Assert.Contains("the queue is empty", await _stack.Good("run", "report", run));
    }

    [Fact]
    public async Task A_link_works_once_and_no_request_leaves_the_machine()
    {
        var link = (await _stack.Good("console", "link")).Trim();
        var page = await _browser.NewPageAsync();
        var elsewhere = new List<string>();
        page.Request += (_, request) => { if (!request.Url.StartsWith($"http://127.0.0.1:{_stack.Port}/", StringComparison.Ordinal) && !request.Url.StartsWith("data:", StringComparison.Ordinal)) elsewhere.Add(request.Url); };
        await page.GotoAsync(link);
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "Marram Ferries" })).ToBeVisibleAsync();
        Assert.Empty(elsewhere);
        Assert.Equal(410, (await (await _browser.NewPageAsync()).GotoAsync(link))!.Status);
    }
}
