using TideStep.Core.Access;
using TideStep.Core.Documents;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>A sign-in.</summary>
/// <param name="Browser">Whether it is a browser, which gets a cookie; else what to show stands in the
/// answer.</param>
public sealed record SignInRequest(string Name, string Password, bool Browser = true);

/// <summary>A password that is chosen by an invitation.</summary>
public sealed record JoinRequest(string Invitation, string Password);

/// <summary>Who is signed in.</summary>
/// <param name="Kind">local, person or program.</param>
/// <param name="Session">What a browser's calls that change something carry in the header
/// <c>Tide-Step-Session</c>.</param>
/// <param name="Named">Whether the name is theirs; else whoever has the local key says who acts.</param>
/// <param name="Lacks">What they may not do.</param>
public sealed record MeView(
    string Id,
    string Name,
    CallerKind Kind,
    IReadOnlyList<string> Roles,
    string? Session,
    bool Named,
    IReadOnlyList<LackView> Lacks
);

/// <summary>Calls that somebody may not make.</summary>
/// <param name="Why">What they take.</param>
/// <param name="Hint">Who may.</param>
/// <param name="Calls">Each as <c>POST /api/runs/{run}/start</c>.</param>
public sealed record LackView(string Why, string? Hint, IReadOnlyList<string> Calls);

/// <summary>What a program shows from now on: it is told once.</summary>
public sealed record SignedIn(string Name, string? Key);

/// <summary>How somebody comes in: by a one-time link, by name and password, by an invitation.</summary>
public static class EntryRoutes
{
    public static void MapEntry(this WebApplication app, AccessKey key)
    {
        app.MapGet(
                "/enter/{ticket}",
                async (HttpContext http, string ticket, AccessDesk desk, AccessRules rules, CancellationToken ct) =>
                {
                    if (key.Redeem(ticket) is not { } opens)
                        return Answers.Problem(
                            410,
                            new Problem(
                                "this link has been used or is too old",
                                null,
                                "Make a new one with 'tidestep console link'."
                            )
                        );
                    http.Features.Set(
                        await desk.FindPersonAsync(opens.Person, ct) is { } person
                            ? Known(person) with
                            {
                                By = "link",
                            }
                            : new Caller(CallerKind.Local, Caller.LocalId, Caller.LocalName, Grants.All, "link")
                    );
                    await BeginAsync(http, desk, rules, opens.Person, opens.Stamp, ct);
                    return Results.Redirect("/");
                }
            )
            .ExcludeFromDescription();
        app.MapGet("/schemas/{kind}", (string kind) =>
                typeof(EntryRoutes).Assembly.GetManifestResourceStream($"schemas/{kind}.schema.json") is { } schema
                    ? Results.Stream(schema, "application/schema+json")
                    : Answers.Problem(
                        404,
                        new Problem(
                            $"there is no schema '{kind}'",
                            null,
                            "Known: estate, product, readings, goal, path."
                        )
                    )
            )
            .Produces<string>(200, "application/schema+json")
            .WithSummary("The JSON Schema of a kind of document");
        app.MapPost("/api/links", async (HttpContext http, AccessDesk desk, CancellationToken ct) =>
                AccessRules.CallerOf(http) is { Kind: not CallerKind.Program } caller
                    ? Results.Ok(
                        new LinkView(
                            $"{http.Request.Scheme}://{http.Request.Host}/enter/"
                                + key.NewTicket(caller.Id, (await desk.FindPersonAsync(caller.Id, ct))?.Stamp ?? 0)
                        )
                    )
                    : Answers.Problem(403, new Problem("a program has no browser"))
            )
            .Produces<LinkView>()
            .ProducesProblem(403)
            .WithSummary("A one-time link into the console, for whoever asks");
        app.MapSignIn();
    }

    private static void MapSignIn(this WebApplication app)
    {
        app.MapPost("/api/sign-in", SignInAsync)
            .Produces<SignedIn>()
            .ProducesProblem(401)
            .ProducesProblem(429)
            .WithSummary("Sign in by name and password");
        app.MapPost(
                "/api/join",
                async (
                    HttpContext http,
                    JoinRequest request,
                    AccessDesk desk,
                    AccessRules rules,
                    SignInPace pace,
                    CancellationToken ct
                ) =>
                {
                    if (Slowed(http, pace, "join") is { } slowed)
                        return slowed;
                    var (person, refused) = await desk.JoinAsync(request.Invitation, request.Password, ct);
                    if (person is null)
                    {
                        pace.Wrong($"{http.Connection.RemoteIpAddress} join");
                        return Answers.Problem(422, refused!);
                    }
                    http.Features.Set(Known(person));
                    await BeginAsync(http, desk, rules, person.Id, person.Stamp, ct);
                    return Results.Ok(new SignedIn(person.Name, null));
                }
            )
            .Produces<SignedIn>()
            .ProducesProblem(422)
            .ProducesProblem(429)
            .WithSummary("Choose a password by an invitation, and sign in");
        app.MapPost(
                "/api/sign-out",
                async (HttpContext http, AccessDesk desk, AccessRules rules, CancellationToken ct) =>
                {
                    var bearer = http.Request.Headers.Authorization.ToString();
                    var shown = bearer.StartsWith("Bearer ", StringComparison.Ordinal)
                        ? bearer[7..]
                        : http.Request.Cookies[rules.CookieOf(http)] ?? "";
                    await desk.EndAsync(shown, ct);
                    http.Response.Cookies.Delete(rules.CookieOf(http));
                    return Results.NoContent();
                }
            )
            .Produces(204)
            .WithSummary("End this session");
        app.MapGet("/api/me", async (HttpContext http, AccessRules rules, CancellationToken ct) =>
                AccessRules.CallerOf(http) is { } caller
                    ? Results.Ok(
                        new MeView(
                            caller.Id,
                            caller.Name,
                            caller.Kind,
                            [.. caller.Grants.Select(g => g.ToString())],
                            caller.Session,
                            caller.Kind != CallerKind.Local || caller.Name == Caller.LocalName,
                            await rules.LacksAsync(caller, ct)
                        )
                    )
                    : Results.Unauthorized()
            )
            .Produces<MeView>()
            .WithSummary("Who is signed in, and what they may do");
    }

    private static async Task<IResult> SignInAsync(
        HttpContext http,
        SignInRequest request,
        AccessDesk desk,
        AccessRules rules,
        SignInPace pace,
        CancellationToken ct
    )
    {
        var (name, from) = ($"name {AccountRules.KeyOf(request.Name)}", $"from {http.Connection.RemoteIpAddress}");
        if (Slowed(http, pace, name, from) is { } slowed)
            return slowed;
        if (await desk.KnowAsync(request.Name, request.Password, ct) is not { } person)
        {
            pace.Wrong(name, from);
            return Answers.Problem(401, new Problem("the name or the password is wrong", null, "Try again."));
        }
        pace.Right(name, from);
        http.Features.Set(Known(person));
        if (request.Browser)
        {
            await BeginAsync(http, desk, rules, person.Id, person.Stamp, ct);
            return Results.Ok(new SignedIn(person.Name, null));
        }
        var shown = await desk.BeginAsync(person.Id, person.Stamp, $"{http.Connection.RemoteIpAddress}", ct);
        return Results.Ok(new SignedIn(person.Name, shown));
    }

    private static Caller Known(Person person) =>
        new(CallerKind.Person, person.Id, person.Name, person.Roles, "password");

    private static IResult? Slowed(HttpContext http, SignInPace pace, params ReadOnlySpan<string> of)
    {
        if (pace.Wait(of) is not { } wait)
            return null;
        http.Response.Headers.RetryAfter = $"{(int)Math.Ceiling(wait.TotalSeconds)}";
        return Answers.Problem(
            429,
            new Problem(
                "too many that were wrong, one after another",
                null,
                $"Wait {Durations.Write(wait)}; an administrator with the local key gets in meanwhile."
            )
        );
    }

    // A session of before is not gone on with: whoever had it does not come in with the new one.
    private static async Task BeginAsync(
        HttpContext http,
        AccessDesk desk,
        AccessRules rules,
        string person,
        long stamp,
        CancellationToken ct
    )
    {
        if (http.Request.Cookies[rules.CookieOf(http)] is { Length: > 0 } before)
            await desk.EndAsync(before, ct);
        http.Response.Cookies.Append(
            rules.CookieOf(http),
            await desk.BeginAsync(person, stamp, $"{http.Connection.RemoteIpAddress}", ct),
            new CookieOptions
            {
                HttpOnly = true,
                Secure = http.Request.IsHttps,
                SameSite = SameSiteMode.Strict,
                IsEssential = true,
                Path = "/",
                MaxAge = AccessDesk.Longest,
            }
        );
    }
}
