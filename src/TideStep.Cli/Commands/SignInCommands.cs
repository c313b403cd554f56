using System.CommandLine;
using System.Text.Json;
using TideStep.Client;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep login</c>, <c>logout</c> and <c>whoami</c>: as whom a service knows one.</summary>
public static class SignInCommands
{
    public static IEnumerable<Command> Create(Context context) => [Login(context), Logout(context), WhoAmI(context)];

    private static Command Login(Context context)
    {
        var name = new Option<string?>("--name") { Description = "your name there" };
        var password = new Option<string?>("--password-file")
        {
            Description = "a file with the password, or - for standard input (default: it is asked for)",
        };
        var invitation = new Option<string?>("--invitation")
        {
            Description = "the link of an invitation: a password is chosen by it",
        };
        var token = new Option<string?>("--token-file")
        {
            Description = "a file with a token, or - for standard input, instead of a name and a password",
        };
        var authority = new Option<string?>("--authority")
        {
            Description =
                "a PEM file of who vouches for the service's certificate, where the machine does not know them",
        };
        var code = new Option<bool>("--code")
        {
            Description = "show a code that you let in by a browser anywhere, also where there is one beside",
        };
        return context.Command(
            "login",
            "Sign in to a service, by its console unless a name, a token or an invitation is given; what is shown to "
                + "it from then on is kept in your profile, for it alone",
            async (result, output, ct) =>
            {
                var address = Profile.AddressOf(result.GetValue(context.Server));
                var vouches = result.GetValue(authority) is { } pem ? Path.GetFullPath(pem) : null;
                using var unknown = Profile.Connect(address, null, null, vouches);
                var byConsole = result.GetValue(name) is null && result.GetValue(invitation) is null;
                var key =
                    result.GetValue(token) is { } file ? await ReadAsync(file, ct)
                    : byConsole ? await LetIn.AskAsync(unknown, LetIn.HasBrowser && !result.GetValue(code), ct)
                    : await SignInAsync(
                        unknown,
                        result.GetValue(name),
                        result.GetValue(password),
                        result.GetValue(invitation),
                        ct
                    );
                using var client = Profile.Connect(address, key, null, vouches);
                var me = await client.GetAsync<MeView>("/api/me", ct);
                var (profile, place) = (Profile.Load(), Profile.PlaceOf(address));
                if (vouches is not null)
                    profile = profile with { Authorities = profile.Authorities.SetItem(place, vouches) };
                (profile with { Keys = profile.Keys.SetItem(place, key) }).Save();
                Tell(me, address, output);
                return Exit.Done;
            },
            name,
            password,
            invitation,
            token,
            authority,
            code
        );
    }

    private static async Task<string> SignInAsync(
        ServiceClient client,
        string? name,
        string? passwordFile,
        string? invitation,
        CancellationToken ct
    )
    {
        if (invitation is not null)
        {
            var chosen = await PasswordAsync("a password, at least 12 characters: ", passwordFile, ct);
            var joined = await client.PostAsync(
                "/api/join",
                new { invitation = invitation[(invitation.IndexOf('#') + 1)..], password = chosen },
                ct
            );
            name = joined.Deserialize<SignedIn>(Json.Options)!.Name;
            return await KeyAsync(client, name, chosen, ct);
        }
        return await KeyAsync(client, name!, await PasswordAsync("password: ", passwordFile, ct), ct);
    }

    private static async Task<string> KeyAsync(
        ServiceClient client,
        string name,
        string password,
        CancellationToken ct
    ) => (
            await client.PostAsync(
                "/api/sign-in",
                new
                {
                    name,
                    password,
                    browser = false,
                },
                ct
            )
        ).Deserialize<SignedIn>(Json.Options)!.Key!;

    private static async Task<string> PasswordAsync(string what, string? file, CancellationToken ct)
    {
        if (file is not null)
            return await ReadAsync(file, ct);
        if (Console.IsInputRedirected)
            throw new MisusedException([
                new Problem("no password was given", null, "Say --password-file, with - for standard input."),
            ]);
        Console.Error.Write(what);
        var typed = new System.Text.StringBuilder();
        while (Console.ReadKey(intercept: true) is { Key: not ConsoleKey.Enter } key)
            if (key.Key != ConsoleKey.Backspace)
                typed.Append(key.KeyChar);
            else if (typed.Length > 0)
                typed.Length--;
        Console.Error.WriteLine();
        return typed.ToString();
    }

    private static async Task<string> ReadAsync(string file, CancellationToken ct) =>
        (file == "-" ? await Console.In.ReadToEndAsync(ct) : await File.ReadAllTextAsync(file, ct)).Trim();

    private static Command Logout(Context context) =>
        context.Command(
            "logout",
            "End your session with a service, and forget what was shown to it",
            async (result, output, ct) =>
            {
                var address = Profile.AddressOf(result.GetValue(context.Server));
                var (profile, place) = (Profile.Load(), Profile.PlaceOf(address));
                if (!profile.Keys.TryGetValue(place, out var key))
                    throw new MisusedException([
                        new Problem($"you are not signed in to {place}", null, "See 'tidestep whoami'."),
                    ]);
                (profile with { Keys = profile.Keys.Remove(place) }).Save();
                try
                {
                    using var client = Profile.Connect(address, key, null);
                    await client.PostAsync("/api/sign-out", null, ct);
                }
                catch (RefusedException e) when (e.Status == 401)
                { /* it had ended already */
                }
                output.Line($"You are signed out of {place}.");
                return Exit.Done;
            }
        );

    private static Command WhoAmI(Context context) =>
        context.Remote("whoami", "As whom the service knows you, and what you may do", async (_, client, output, ct) =>
        {
            Tell(await client.GetAsync<MeView>("/api/me", ct), client.Address, output);
            return Exit.Done;
        });

    private static void Tell(MeView me, Uri address, Output output) =>
        output.Write(
            new
            {
                me.Id,
                me.Name,
                me.Kind,
                me.Roles,
            },
            () =>
            {
                var name = me.Name.Length > 0 ? me.Name : "nobody yet: set a name with 'tidestep profile set --name'";
                output.Line($"{name} at {Profile.PlaceOf(address)}");
                output.Line(
                    me.Roles.Count == 0
                        ? "without a role: an administrator can give you some"
                        : $"may: {string.Join(", ", me.Roles)}"
                );
            }
        );
}
