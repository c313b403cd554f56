using System.Text.RegularExpressions;
using Microsoft.Playwright;
using TideStep.Tests;

namespace TideStep.Browser;

/// <summary>The twelve questions of the night, each answered from the first page in three clicks at most
/// (7-interface).</summary>
public sealed class NightTests : ConsoleSession
{
    private const string Label = "South shore: relay to 3.2";

    private IPage _page = null!;
    private int _clicks;

    private async Task ClickAsync(ILocator what)
    {
        _clicks++;
        await what.ClickAsync();
    }

    private Task ToAsync(string page) =>
        ClickAsync(
            _page
                .GetByRole(AriaRole.Navigation, new() { Name = "pages" })
                .GetByRole(AriaRole.Link, new() { NameRegex = new Regex($"^{page}( [0-9]+)?$") })
        );

    private Task TabAsync(string tab) => ClickAsync(_page.GetByRole(AriaRole.Tab, new() { Name = tab }));

    private Task ToRunAsync() =>
        ClickAsync(_page.GetByRole(AriaRole.Banner).GetByRole(AriaRole.Link, new() { Name = Label }));

    private async Task AskAsync(string question, Func<Task> answer)
    {
        await OpenAsync(_page, "/");
        await Expect(Region(_page, "runs")).ToContainTextAsync(Label);
        _clicks = 0;
        await answer();
        Assert.True(_clicks <= 3, $"{question} takes {_clicks} clicks");
    }

    [Fact]
    public async Task Each_of_the_twelve_questions_is_answered_within_three_clicks()
    {
        var first = await Stack.HaltedAsync(Label);
        await Stack.Cli("run", "decide", first, "return", "--reason", "not tonight");
        await Stack.UntilAsync(first, r => (string)r["status"]! == "returned");
        await Stack.HaltedAsync(Label);
        _page = await EnterAsync();

        await AskAsync("what waits for me", async () =>
            await Expect(Region(_page, "waits for a person")).ToContainTextAsync("Decide: install on ss-rel-2")
        );
        await AskAsync("what is out of service and why", async () =>
        {
            await ToRunAsync();
            await Expect(Region(_page, "decision"))
                .ToContainTextAsync(new Regex("Out of service.*relay-south/ss-rel-2"));
            await Expect(Region(_page, "decision")).ToContainTextAsync("checksum differs");
            await Expect(Region(_page, "decision")).ToContainTextAsync("relay-south holds: 2 in service");
        });
        await AskAsync("which nodes still run the old release", async () =>
        {
            await ToRunAsync();
            await ClickAsync(Button(_page, "1 of 3 on 3.2"));
            await Expect(Region(_page, "old version")).ToContainTextAsync("relay-south/ss-rel-3");
            await Expect(Region(_page, "in between")).ToContainTextAsync("relay-south/ss-rel-2");
            await Expect(Region(_page, "new version")).ToContainTextAsync("relay-south/ss-rel-1");
        });
        await AskAsync("what is it doing on that node and what did it print", async () =>
        {
            await ToRunAsync();
            await ClickAsync(Button(_page, "relay-south/ss-rel-2"));
            await Expect(Dialog(_page)).ToContainTextAsync("setting up");
        });
        await AskAsync("how late will it be, and does it fit the window", async () =>
        {
            await ToRunAsync();
            await Expect(_page.GetByText("Forecast end")).ToBeVisibleAsync();
            await Expect(_page.GetByText("Window ends")).ToBeVisibleAsync();
        });
        await AskAsync("can I still go back, what would I lose, how long would it take", async () =>
        {
            await ToRunAsync();
            await ClickAsync(Button(_page, "Return …"));
            await Expect(Dialog(_page)).ToContainTextAsync("It takes");
            await Expect(Dialog(_page)).ToContainTextAsync("what was written since");
        });
        await AskAsync("who decided that", async () =>
        {
            await ClickAsync(Region(_page, "runs").GetByRole(AriaRole.Link, new() { Name = Label, Exact = true }).Last);
            await TabAsync("Log");
            await Expect(Region(_page, "log"))
                .ToContainTextAsync(new Regex("Wren Hale.*not tonight|not tonight.*Wren Hale"));
        });
        await AskAsync("what did the same run take last time", async () =>
        {
            await ToRunAsync();
            await TabAsync("Compared");
            await Expect(Region(_page, "comparison").GetByRole(AriaRole.Table))
                .ToContainTextAsync("relay-south wave 1");
        });
        await AskAsync("what is installed and not in effect", async () =>
        {
            await ClickAsync(Region(_page, "at risk").GetByRole(AriaRole.Link, new() { Name = "owe a restart" }));
            await Expect(Region(_page, "members")).ToContainTextAsync("21.5, restart owed");
        });
        await AskAsync("which points can go", async () =>
        {
            await ToAsync("Rollback points");
            await Expect(Region(_page, "rollback points").GetByRole(AriaRole.Row, new() { Name = "used" }).First)
                .ToContainTextAsync("GiB");
        });
        await AskAsync("what is left to be done", async () =>
        {
            await ToAsync("Follow-ups");
            await Expect(Region(_page, "follow-ups")).ToContainTextAsync("say whether its rollback points may go");
        });
    }

    [Fact]
    public async Task A_run_is_begun_decided_and_brought_to_its_end_by_the_keyboard_alone()
    {
        await Stack.FaultAsync("ss-rel-2", "install", "bad-checksum");
        await Stack.OpenAsync(label: Label);
        _page = await EnterAsync();
        var keys = _page.Keyboard;
        await keys.PressAsync("/");
        await _page.GetByLabel("search everything").WaitForAsync();
        await keys.TypeAsync("relay to 3.2");
        await Expect(_page.GetByRole(AriaRole.Option).First).ToContainTextAsync(Label);
        await keys.PressAsync("Enter");
        await Expect(_page.GetByTestId("status")).ToHaveTextAsync("ready");
        await TabToAsync("Start");
        await keys.PressAsync("Enter");
        await Expect(_page.GetByTestId("status")).ToHaveTextAsync("halted", new() { Timeout = 180_000 });
        await TabToAsync("Try again");
        await keys.PressAsync("Enter");
        await Expect(Dialog(_page)).ToContainTextAsync("done once more");
        await TabToAsync("Try again");
        await keys.PressAsync("Enter");
        await Expect(_page.GetByTestId("status")).ToHaveTextAsync("completed", new() { Timeout = 180_000 });
    }

    // From one thing to the next until the one with this name has the keyboard.
    private async Task TabToAsync(string name)
    {
        for (var i = 0; i < 60; i++)
        {
            await _page.Keyboard.PressAsync("Tab");
            if (await _page.EvaluateAsync<string?>("document.activeElement?.textContent?.trim()") == name)
                return;
        }
        Assert.Fail($"'{name}' is not reached by the keyboard");
    }
}
