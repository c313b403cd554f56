using Microsoft.Playwright;

namespace TideStep.Browser;

/// <summary>From one trusted key to a team whose members have names and roles, in the console alone.</summary>
public sealed class PeoplePageTests : ConsoleSession
{
    private const string Password = "a heron stands on one leg";

    private async Task<string> InviteAsync(IPage page, string name, params string[] roles)
    {
        await OpenAsync(page, "/people");
        var form = Region(page, "invite");
        await form.GetByLabel("Name").FillAsync(name);
        foreach (var role in roles)
            await form.GetByRole(AriaRole.Checkbox, new() { Name = role }).CheckAsync();
        await Button(page, "Make the link").ClickAsync();
        await Expect(Region(page, "invitation")).ToContainTextAsync(name);
        return await Region(page, "invitation").Locator("code").InnerTextAsync();
    }

    private async Task<IPage> JoinAsync(string link)
    {
        var page = await (await Browser.NewContextAsync()).NewPageAsync();
        await page.GotoAsync(link);
        await page.GetByLabel("Password", new() { Exact = false }).First.FillAsync("too short");
        await page.GetByLabel("The same again").FillAsync("too short");
        await Button(page, "Come in").ClickAsync();
        await Expect(page.GetByRole(AriaRole.Alert)).ToContainTextAsync("at least 12 characters");
        await page.GetByLabel("Password", new() { Exact = false }).First.FillAsync(Password);
        await page.GetByLabel("The same again").FillAsync(Password);
        await Button(page, "Come in").ClickAsync();
        await Expect(page.GetByRole(AriaRole.Banner)).ToContainTextAsync("Marram Ferries");
        return page;
    }

    [Fact]
    public async Task A_team_comes_in_each_as_what_they_are()
    {
        var run = await Stack.OpenAsync(label: "South shore: relay to 3.2");
        var local = await EnterAsync();
        await OpenAsync(local, "/people");
        await Expect(Region(local, "people")).ToContainTextAsync("Invite an administrator first");
        var link = await InviteAsync(local, "Iris Vane", "administer");
        await Expect(local.GetByRole(AriaRole.Banner)).ToContainTextAsync("Wren Hale");
        var iris = await JoinAsync(link);
        await Expect(iris.GetByRole(AriaRole.Banner)).ToContainTextAsync("Iris Vane");
        Assert.Empty(await SeriousAsync(iris));
        // From now on nobody is who they only say they are.
        await local.ReloadAsync();
        await Expect(local.GetByRole(AriaRole.Banner)).ToContainTextAsync("local administrator");

        var tamsin = await JoinAsync(await InviteAsync(iris, "Tamsin Reed"));
        await OpenAsync(tamsin, $"/runs/{run}");
        // What is not hers is there, and says whose it is, before anything is tried; by the keyboard as well.
        await Expect(Button(tamsin, "Start")).ToHaveAttributeAsync("aria-disabled", "true");
        await Button(tamsin, "Start").HoverAsync();
        await Expect(tamsin.GetByRole(AriaRole.Tooltip)).ToContainTextAsync("This takes the role 'run'. Nobody has it");
        await Button(tamsin, "Start").FocusAsync();
        await tamsin.Keyboard.PressAsync("Enter");
        Assert.Empty(await SeriousAsync(tamsin));
        await OpenAsync(tamsin, "/record");
        await Expect(tamsin.GetByRole(AriaRole.Alert)).ToContainTextAsync("Ask Iris Vane");

        // Another role ends the session; the page says so and lets one in again.
        await OpenAsync(iris, "/people");
        await iris.GetByRole(AriaRole.Row, new() { Name = "Tamsin Reed" })
            .GetByRole(AriaRole.Button, new() { Name = "Roles" })
            .ClickAsync();
        await iris.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Checkbox, new() { Name = "run" }).CheckAsync();
        await Button(iris, "Give these roles").ClickAsync();
        await Expect(iris.GetByRole(AriaRole.Row, new() { Name = "Tamsin Reed" })).ToContainTextAsync("look, run");
        await OpenAsync(tamsin, $"/runs/{run}");
        await Expect(tamsin.GetByRole(AriaRole.Heading, new() { Name = "Sign in" })).ToBeVisibleAsync();
        Assert.Empty(await SeriousAsync(tamsin));
        await SignInAsync(tamsin, "Tamsin Reed", "a heron stands on two legs");
        await Expect(tamsin.GetByRole(AriaRole.Alert)).ToContainTextAsync("the name or the password is wrong");
        await SignInAsync(tamsin, "tamsin reed", Password);
        await Button(tamsin, "Start").ClickAsync();
        await Expect(tamsin.GetByTestId("status")).ToHaveTextAsync("completed", new() { Timeout = 180_000 });

        await OpenAsync(iris, "/record");
        var started = iris.GetByRole(AriaRole.Row, new() { Name = "Start a run" });
        await Expect(started).ToHaveCountAsync(1);
        await Expect(started).ToContainTextAsync("Tamsin Reed");
        await Expect(iris.GetByRole(AriaRole.Row, new() { Name = "Tamsin Reed" }).Filter(new() { HasText = "refused" }))
            .Not.ToHaveCountAsync(0);
        await Button(iris, "Verify").ClickAsync();
        await Expect(iris.GetByRole(AriaRole.Status).First).ToContainTextAsync("The record is whole");
        await PictureAsync(iris, "record");
        await iris.GetByRole(AriaRole.Banner).Locator("button.person").ClickAsync();
        await iris.GetByRole(AriaRole.Menuitem, new() { Name = "Sign out" }).ClickAsync();
        await Expect(iris.GetByRole(AriaRole.Heading, new() { Name = "Sign in" })).ToBeVisibleAsync();
    }

    private static async Task SignInAsync(IPage page, string name, string password)
    {
        await page.GetByLabel("Name").FillAsync(name);
        await page.GetByLabel("Password", new() { Exact = false }).First.FillAsync(password);
        await Button(page, "Sign in").ClickAsync();
    }
}
