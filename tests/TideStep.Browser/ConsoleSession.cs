using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>The demo's service and fleet with a real browser before its console. With TIDESTEP_PICTURES set to a folder
/// tests leave their pictures there.</summary>
public abstract class ConsoleSession : IAsyncLifetime
{
    private IPlaywright _playwright = null!;
    private protected IBrowser Browser { get; private set; } = null!;

    private protected DemoStack Stack { get; private set; } = null!;

    /// <summary>What stands before the browser: the demo, where a test says nothing else.</summary>
    private protected virtual Task<DemoStack> StartAsync() => DemoStack.StartAsync(pace: 300);

    public async ValueTask InitializeAsync()
    {
        // A page waits for the service's answers: on a busy machine they take longer than a page alone would.
        Assertions.SetDefaultExpectTimeout(90_000);
        Stack = await StartAsync();
        _playwright = await Playwright.CreateAsync();
        Browser = await _playwright.Chromium.LaunchAsync(
            new BrowserTypeLaunchOptions
            {
                ExecutablePath = "/usr/bin/chromium",
                Args =
                [
                    "--no-sandbox",
                    "--disable-gpu",
                    "--disable-quic",
                    "--no-first-run",
                    "--disable-background-networking",
                    "--disable-component-update",
                    "--disable-sync",
                ],
            }
        );
    }

    public async ValueTask DisposeAsync()
    {
        await Browser.DisposeAsync();
        _playwright.Dispose();
        await Stack.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    protected async Task<IPage> EnterAsync(ColorScheme scheme = ColorScheme.Light)
    {
        var context = await Browser.NewContextAsync(
            new BrowserNewContextOptions
            {
                ViewportSize = new ViewportSize { Width = 1280, Height = 800 },
                ColorScheme = scheme,
            }
        );
        var page = await context.NewPageAsync();
        await page.GotoAsync((await Stack.Good("console", "link")).Trim());
        await ActAsAsync(page, "Wren Hale");
        return page;
    }

    /// <summary>Says who acts, as one does once in each browser.</summary>
    protected static async Task ActAsAsync(IPage page, string name)
    {
        await page.GetByRole(AriaRole.Banner).Locator("button.person").ClickAsync();
        await page.GetByLabel("Acting as").FillAsync(name);
        await page.Keyboard.PressAsync("Escape");
    }

    /// <summary>Opens a page by its address; what has a page has an address.</summary>
    protected Task OpenAsync(IPage page, string path) => page.GotoAsync($"http://127.0.0.1:{Stack.Port}{path}");

    protected static ILocator Region(IPage page, string name) =>
        page.GetByRole(AriaRole.Region, new() { Name = name, Exact = true });

    protected static ILocator Button(IPage page, string name) =>
        page.GetByRole(AriaRole.Button, new() { Name = name, Exact = true });

    /// <summary>Picks one out of a list that opens.</summary>
    protected static async Task PickAsync(IPage page, string list, string option)
    {
        await page.GetByRole(AriaRole.Combobox, new() { Name = list, Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = option }).First.ClickAsync();
    }

    protected static ILocator Dialog(IPage page) => page.GetByRole(AriaRole.Dialog);

    /// <summary>What assistive tools would stumble over in a page as it stands.</summary>
    protected static async Task<string[]> SeriousAsync(IPage page)
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "TideStep.slnx")))
            root = Path.GetDirectoryName(root)!;
        await page.EvaluateAsync(
            await File.ReadAllTextAsync(Path.Combine(root, "console", "node_modules", "axe-core", "axe.min.js"))
        );
        return await page.EvaluateAsync<string[]>(
            "async () => (await axe.run(document, { resultTypes: ['violations'] })).violations.filter(v => "
                + "v.impact === 'serious' || v.impact === 'critical').map(v => `${v.id}: ${v.nodes.slice(0, "
                + "3).map(n => n.target.join(' ') + ' ' + (n.any[0]?.message ?? '')).join(' | ')}`)"
        );
    }

    protected static async Task PictureAsync(IPage page, string name)
    {
        if (Environment.GetEnvironmentVariable("TIDESTEP_PICTURES") is { } folder)
            await page.ScreenshotAsync(new PageScreenshotOptions { Path = Path.Combine(folder, name + ".png") });
    }

    protected static ILocatorAssertions Expect(ILocator locator) => Assertions.Expect(locator);
}
