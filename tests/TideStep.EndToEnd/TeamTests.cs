using System.Text.RegularExpressions;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>A team of four on the command line of two machines, over TLS, each as what they are: one is refused,
/// another signs, a role that is taken away stops the person and not the run.</summary>
public sealed class TeamTests
{
    private const string Password = "a heron stands on one leg";

    [Fact]
    public async Task A_planner_an_operator_an_approver_and_an_administrator_carry_one_run()
    {
        using var machines = new Machines();
        Vouching vouching = null!;
        await using var stack = await DemoStack.StartAsync(pace: 60, options: its =>
        {
            vouching = new Vouching(its.Work);
            var certificate = vouching.Certificate("service.pem", false, machines.Here);
            _server = $"https://{machines.Here}:{its.DoorPort}";
            return ["--listen", $"{machines.Here}:{its.DoorPort}", "--certificate", certificate, "--url", _server];
        });
        using var _ = vouching;
        _machineOf["Iris Vane"] = _machineOf["Wren Hale"] = machines.One;
        _machineOf["Odo Marsh"] = _machineOf["Tamsin Reed"] = machines.Other;
        // A machine that doesn't know the authority is told so, and nothing is sent.
        var untrusting = await AsAsync(stack, "Iris Vane", "whoami");
        Assert.Equal(3, untrusting.Status);
        Assert.Contains("nobody that is trusted vouches for its certificate", untrusting.Error);
        await File.AppendAllTextAsync(stack.Demo("estate.yaml"), "\nsign-offs:\n  start: {lasts: 2 d}\n");
        await stack.Good("estate", "import", stack.Demo("estate.yaml"));
        await JoinAsync(stack, "Iris Vane", "look", "administer");
        await JoinAsync(stack, "Wren Hale", "look", "survey", "plan");
        await JoinAsync(stack, "Odo Marsh", "look", "survey", "run", "sign");
        await JoinAsync(stack, "Tamsin Reed", "look", "sign");
        Assert.Contains("may: look, survey, plan", await GoodAsync(stack, "Wren Hale", "whoami"));

        var made = await GoodAsync(
            stack,
            "Wren Hale",
            "plan",
            "make",
            "--goal",
            stack.Demo("goals/relay.yaml"),
            "--format",
            "json"
        );
        var plan = (string)System.Text.Json.Nodes.JsonNode.Parse(made)!["digest"]!;
        var refused = await AsAsync(stack, "Wren Hale", "run", "open", plan);
        Assert.NotEqual(0, refused.Status);
        Assert.Contains("this takes the role 'run'", refused.Error);
        Assert.Contains("Ask Odo Marsh.", refused.Error);
        var run = Regex
            .Match(await GoodAsync(stack, "Odo Marsh", "run", "open", plan, "--format", "json"), "r[0-9a-f]{8}")
            .Value;
        // Who opened the run does not sign for it, whatever roles they have.
        await GoodAsync(stack, "Tamsin Reed", "plan", "sign-off", plan);
        await GoodAsync(stack, "Odo Marsh", "run", "start", run);
        await stack.UntilAsync(run, r => (string?)r["status"] == "running");

        // The operator's role is taken away in the middle: the run goes on, the operator does not.
        await GoodAsync(stack, "Iris Vane", "person", "roles", "Odo Marsh", "--role", "look");
        var stopped = await AsAsync(stack, "Odo Marsh", "run", "hold", run);
        Assert.Contains("nobody is signed in", stopped.Error);
        await SignInAsync(stack, "Odo Marsh");
        Assert.Contains("this takes the role 'run'", (await AsAsync(stack, "Odo Marsh", "run", "hold", run)).Error);
        await stack.UntilAsync(run, r => (string)r["status"]! == "completed");

        var record = await GoodAsync(stack, "Iris Vane", "record", "list", "--about", $"runs/{run}", "--most", "500");
        Assert.Matches(@"Odo Marsh\s+Start a run: runs/r\w+\s+done", record);
        Assert.Matches(@"Odo Marsh\s+Hold at the next safe place.*refused \(403\)", record);
        Assert.Contains("Wren Hale", await GoodAsync(stack, "Iris Vane", "record", "list", "--by", "Wren Hale"));
        Assert.Contains("The record is whole", await GoodAsync(stack, "Iris Vane", "record", "verify"));
        Assert.Contains("\"who\":", await GoodAsync(stack, "Iris Vane", "record", "export"));

        // A key goes to the service that it was made for and to no other.
        var elsewhere = await stack.CliAt(HomeOf(stack, "Tamsin Reed"), "whoami");
        Assert.Contains("local administrator", elsewhere.Output);
        // And the local administrator's goes to no door but this machine's own.
        await File.WriteAllTextAsync(Path.Combine(HomeOf(stack, "Tamsin Reed"), "key"), stack.Key);
        var taken = await AsAsync(
            stack,
            "Tamsin Reed",
            "login",
            "--token-file",
            Path.Combine(HomeOf(stack, "Tamsin Reed"), "key")
        );
        Assert.Contains("nobody is signed in", taken.Error);
        Assert.Contains("signed out", await GoodAsync(stack, "Tamsin Reed", "logout"));
        Assert.Equal(2, (await AsAsync(stack, "Tamsin Reed", "logout")).Status);
    }

    private readonly Dictionary<string, string> _machineOf = [];
    private string _server = "";

    private static string HomeOf(DemoStack stack, string name) => Path.Combine(stack.Work, name.Replace(' ', '-'));

    private Task<DemoStack.Ran> AsAsync(DemoStack stack, string name, params string[] arguments) =>
        stack.CliFrom(_machineOf[name], _server, HomeOf(stack, name), arguments);

    private async Task<string> GoodAsync(DemoStack stack, string name, params string[] arguments)
    {
        var ran = await AsAsync(stack, name, arguments);
        Assert.True(ran.Status == 0, $"{name}: {string.Join(' ', arguments)} ended with {ran.Status}: {ran.Error}");
        return ran.Output;
    }

    private async Task JoinAsync(DemoStack stack, string name, params string[] roles)
    {
        var link = Regex
            .Match(await stack.Good(["person", "invite", name, "--role", .. roles]), "https://.*#[0-9a-f]+")
            .Value;
        var file = Path.Combine(stack.Work, "password");
        await File.WriteAllTextAsync(file, Password);
        await GoodAsync(
            stack,
            name,
            "login",
            "--invitation",
            link,
            "--password-file",
            file,
            "--authority",
            Path.Combine(stack.Work, "authority.pem")
        );
        var profile = new FileInfo(Path.Combine(HomeOf(stack, name), "profile.json"));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, profile.UnixFileMode);
        Assert.DoesNotContain(Password, await File.ReadAllTextAsync(profile.FullName));
    }

    private Task SignInAsync(DemoStack stack, string name) =>
        GoodAsync(stack, name, "login", "--name", name, "--password-file", Path.Combine(stack.Work, "password"));
}
