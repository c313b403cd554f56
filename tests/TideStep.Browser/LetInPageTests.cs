using System.Diagnostics;
using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>The command line is let in by the console: beside the browser, and elsewhere by a code.</summary>
public sealed class LetInPageTests : ConsoleSession
{
    private protected override Task<DemoStack> StartAsync() => DemoStack.StartAsync(tiny: true);

    // A terminal that waits to be let in, with a browser that only notes what it was to open.
    private (Process Waiting, string Home, Task<string> Opened) Login(bool beside)
    {
        var home = Directory.CreateTempSubdirectory("tidestep-let-in").FullName;
        var (browser, opened) = (Path.Combine(home, "browser"), Path.Combine(home, "opened"));
        File.WriteAllText(browser, $"#!/bin/sh\necho \"$1\" >'{opened}.next'\nmv '{opened}.next' '{opened}'\n");
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(browser, UnixFileMode.UserRead | UnixFileMode.UserExecute);
        var start = new ProcessStartInfo(DemoStack.Executable("Cli", "tidestep"), ["login"])
        {
            RedirectStandardError = true,
            RedirectStandardOutput = true,
        };
        start.Environment["TIDESTEP_HOME"] = home;
        start.Environment["TIDESTEP_DATA"] = home;
        start.Environment["TIDESTEP_SERVER"] = $"http://127.0.0.1:{Stack.Port}";
        start.Environment["BROWSER"] = browser;
        start.Environment["DISPLAY"] = beside ? ":0" : "";
        start.Environment["WAYLAND_DISPLAY"] = "";
        var process = Process.Start(start)!;
        return (process, home, beside ? NotedAsync(opened) : SaidAsync(process));
    }

    private static async Task<string> NotedAsync(string file)
    {
        for (var until = DateTime.UtcNow.AddMinutes(1); !File.Exists(file); await Task.Delay(50))
            Assert.True(DateTime.UtcNow < until, "no browser was opened");
        return (await File.ReadAllTextAsync(file)).Trim();
    }

    private static async Task<string> SaidAsync(Process process)
    {
        var line = await process.StandardError.ReadLineAsync();
        return line!["Open ".Length..];
    }

    private static async Task EndsAsync(Process process, int status)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        await process.WaitForExitAsync(limit.Token);
        Assert.Equal(status, process.ExitCode);
    }

    [Fact]
    public async Task A_terminal_is_let_in_by_the_browser_beside_it_or_by_its_code_or_not_at_all()
    {
        var page = await EnterAsync();
        var (beside, home, address) = Login(beside: true);
        await page.GotoAsync(await address);
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "Let a command line in" })).ToBeVisibleAsync();
        await Expect(page.Locator("main")).ToContainTextAsync("tidestep on ");
        Assert.Empty(await SeriousAsync(page));
        await page.GetByRole(AriaRole.Button, new() { NameRegex = new("Let it in as .*") }).ClickAsync();
        await Expect(page.GetByText("You are signed in: go on in the terminal")).ToBeVisibleAsync();
        await EndsAsync(beside, 0);
        Assert.Contains(
            $"http://127.0.0.1:{Stack.Port}",
            await File.ReadAllTextAsync(Path.Combine(home, "profile.json"))
        );
        Assert.Equal(0, (await Stack.CliAt(home, "estate", "show")).Status);

        // Elsewhere the code is typed.
        var (elsewhere, other, code) = Login(beside: false);
        await OpenAsync(page, "/let-in");
        await page.GetByLabel("Code").FillAsync((await code).Split('=')[^1].ToLowerInvariant());
        await Button(page, "Look at it").ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { NameRegex = new("Let it in as .*") }).ClickAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "It is let in" })).ToBeVisibleAsync();
        await EndsAsync(elsewhere, 0);

        var (unwanted, third, its) = Login(beside: false);
        await page.GotoAsync(await its);
        await Button(page, "It is not mine").ClickAsync();
        await Expect(page.GetByRole(AriaRole.Heading, new() { Name = "It is not let in" })).ToBeVisibleAsync();
        await EndsAsync(unwanted, 2);
        foreach (var folder in new[] { home, other, third })
            Folders.Remove(folder);
    }
}
