using System.Security.Cryptography;
using System.Text;
using TideStep.Core.Access;
using TideStep.Core.Documents;
using TideStep.Engine.Estates;
using TideStep.Service.Routes;
using TideStep.Service.World;

namespace TideStep.Service.Access;

/// <summary>Who may call: with this installation's key, a token or a session, or as a trusted proxy says, and with a
/// role that the route takes (<see cref="Permissions"/>).</summary>
public sealed class AccessRules(AccessKey key, AccessDesk desk, EstateDesk estates, ServiceSettings settings)
{
    private const string NameHeader = "Tide-Step-Name";

    /// <summary>What a browser's calls that change something carry besides the cookie: no other page can have
    /// it.</summary>
    private const string SessionHeader = "Tide-Step-Session";

    /// <summary>The name of the session's cookie. Under TLS no other host and no path can set it; without, there is one
    /// per port, for a browser sends it to all ports of a machine.</summary>
    public string CookieOf(HttpContext http) =>
        http.Request.IsHttps ? "__Host-tidestep-session" : $"tidestep-session-{settings.Port}";

    /// <summary>Who calls; null where nobody knows.</summary>
    public static Caller? CallerOf(HttpContext http) => http.Features.Get<Caller>();

    /// <summary>The name that stands on everything done.</summary>
    public static string ActorOf(HttpContext http) => CallerOf(http)?.Name ?? "";

    public async Task PassAsync(HttpContext http, RequestDelegate next)
    {
        Hardened(http.Response.Headers, http.Request.IsHttps);
        if (!http.Request.Path.StartsWithSegments("/api"))
        {
            await next(http);
            return;
        }
        var caller = await KnownAsync(http);
        http.Features.Set(caller);
        if (await RefusalAsync(http, caller) is { } refusal)
            await refusal.ExecuteAsync(http);
        else
            await next(http);
    }

    // OWASP's list of headers for answers of a page and of an API.
    private static void Hardened(IHeaderDictionary headers, bool tls)
    {
        headers.ContentSecurityPolicy =
            "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
            + "font-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";
        headers.XContentTypeOptions = "nosniff";
        headers.XFrameOptions = "DENY";
        headers["Referrer-Policy"] = "no-referrer";
        headers["Cross-Origin-Resource-Policy"] = "same-origin";
        headers["Cross-Origin-Opener-Policy"] = "same-origin";
        if (tls)
            headers.StrictTransportSecurity = "max-age=31536000";
    }

    private async Task<Caller?> KnownAsync(HttpContext http)
    {
        var bearer = http.Request.Headers.Authorization.ToString();
        if (bearer.StartsWith("Bearer ", StringComparison.Ordinal))
            return await ShownAsync(bearer[7..], http);
        if (
            http.Request.Cookies[CookieOf(http)] is { Length: > 0 } cookie
            && await desk.CallerOfAsync(cookie, http.RequestAborted) is { Session: not null } caller
        )
            return await NamedAsync(caller, http);
        return await ByProxyAsync(http);
    }

    // What comes in with a header is no browser's doing: no other page can send it. The local key is this machine's.
    private async Task<Caller?> ShownAsync(string shown, HttpContext http)
    {
        if (key.Fits(shown))
            return Arrivals.Of(http).Here
                ? await NamedAsync(new Caller(CallerKind.Local, Caller.LocalId, "", Grants.All, "key"), http)
                : null;
        return await desk.CallerOfAsync(shown, http.RequestAborted) is { } caller
            ? await NamedAsync(caller with { Session = null }, http)
            : null;
    }

    // A trusted proxy says who was signed in there; only people who are known here come in by it.
    private async Task<Caller?> ByProxyAsync(HttpContext http)
    {
        if (settings.Doors.NameHeader is not { } header || !Arrivals.Of(http).ByProxy)
            return null;
        var name = http.Request.Headers[header].ToString().Trim();
        return name.Length > 0 && await desk.NamedAsync(name, http.RequestAborted) is { } person
            ? new Caller(
                CallerKind.Person,
                person.Id,
                person.Name,
                person.Roles,
                "proxy",
                key.SealOf($"{person.Id} {person.Stamp}")
            )
            : null;
    }

    // Whoever has the local key says who acts, until there are people who have names of their own.
    private async Task<Caller> NamedAsync(Caller caller, HttpContext http)
    {
        if (caller.Kind != CallerKind.Local)
            return caller;
        if (await desk.AnybodyAsync(http.RequestAborted))
            return caller with { Name = Caller.LocalName };
        var given = Uri.UnescapeDataString(http.Request.Headers[NameHeader].ToString()).Trim();
        return caller with { Name = AccountRules.WrongName(given) is null ? given : "" };
    }

    private async Task<IResult?> RefusalAsync(HttpContext http, Caller? caller)
    {
        // What no route answers is said by whoever answers then, to those who are known.
        var pattern = (http.GetEndpoint() as RouteEndpoint)?.RoutePattern.RawText;
        var permission = pattern?.StartsWith("/api/", StringComparison.Ordinal) is not true
            ? new Permission([])
            : Permissions.Of(http.Request.Method, pattern);
        if (permission is { Anonymous: true })
            return null;
        if (caller is null)
            return Answers.Problem(
                401,
                new Problem(
                    "nobody is signed in",
                    null,
                    "Sign in; on this machine the command line has the access key from the data folder, and "
                        + "'tidestep console link' makes a link for a browser."
                )
            );
        if (Foreign(http, caller) is { } foreign)
            return Answers.Problem(403, foreign);
        if (permission is null)
            return Answers.Problem(403, new Problem("this call is not open to anybody"));
        if (await LackingAsync(caller, permission, http.RequestAborted) is { } lacking)
            return Answers.Problem(403, lacking);
        return !HttpMethods.IsGet(http.Request.Method) && caller.Name.Length == 0
            ? Answers.Problem(
                400,
                WrongNameOf(http)
                    ?? new Problem(
                        "who acts is not known",
                        null,
                        $"Send your name in the header {NameHeader}; the command line asks for it with "
                            + "'tidestep profile set --name'."
                    )
            )
            : null;
    }

    // A name that was said and can't be one.
    private static Problem? WrongNameOf(HttpContext http) =>
        Uri.UnescapeDataString(http.Request.Headers[NameHeader].ToString()).Trim() is { Length: > 0 } given
            ? AccountRules.WrongName(given)
            : null;

    // A cookie comes along whoever made the browser call: what comes from another page is refused.
    private static Problem? Foreign(HttpContext http, Caller caller)
    {
        if (caller.Session is not { } its)
            return null;
        var site = http.Request.Headers["Sec-Fetch-Site"].ToString();
        if (site is not ("" or "same-origin" or "none"))
            return new Problem("another page can't call this service with your session");
        return HttpMethods.IsGet(http.Request.Method) || HttpMethods.IsHead(http.Request.Method) || Same(http, its)
            ? null
            : new Problem(
                "the call does not carry what belongs to your session",
                null,
                $"Send what /api/me tells in the header {SessionHeader}."
            );
    }

    private static bool Same(HttpContext http, string session) =>
        CryptographicOperations.FixedTimeEquals(
            Encoding.UTF8.GetBytes(http.Request.Headers[SessionHeader].ToString()),
            Encoding.UTF8.GetBytes(session)
        );

    private async Task<Problem?> LackingAsync(Caller caller, Permission permission, CancellationToken ct)
    {
        if (permission.Any.Count == 0)
            return null;
        var estate = (await estates.CurrentEstateAsync(ct))?.Id;
        return IsLacking(caller, permission, estate)
            ? Lack(caller, permission, estate, await desk.PeopleAsync(ct))
            : null;
    }

    /// <summary>The calls that somebody may not make, with why and who may.</summary>
    public async Task<IReadOnlyList<LackView>> LacksAsync(Caller caller, CancellationToken ct)
    {
        var estate = (await estates.CurrentEstateAsync(ct))?.Id;
        var lacking = Permissions.All.Where(r => r.Value.Any.Count > 0 && IsLacking(caller, r.Value, estate)).ToList();
        if (lacking.Count == 0)
            return [];
        var people = await desk.PeopleAsync(ct);
        return
        [
            .. lacking
                .GroupBy(r => Lack(caller, r.Value, estate, people))
                .Select(g => new LackView(
                    g.Key.What,
                    g.Key.Hint,
                    [.. g.Select(r => r.Key).Order(StringComparer.Ordinal)]
                )),
        ];
    }

    private static bool IsLacking(Caller caller, Permission permission, string? estate) =>
        permission.Own && IsNobodys(caller) || !permission.Any.Any(r => caller.Grants.Give(r, estate));

    // Two people have to be two: neither a program nor whoever has the key is one of them.
    private static bool IsNobodys(Caller caller) =>
        caller.Kind == CallerKind.Program || caller.Name == Caller.LocalName;

    private static Problem Lack(Caller caller, Permission permission, string? estate, IReadOnlyList<Person> people)
    {
        if (permission.Own && IsNobodys(caller))
            return new Problem(
                "somebody's own word is asked for here",
                $"{caller.Name} is {(caller.Kind == CallerKind.Program ? "a program" : "whoever has the local key")}",
                "Sign in by your name."
            );
        var roles = string.Join(" or ", permission.Any.Select(r => $"'{r.Word()}'"));
        var has = caller.Grants.IsEmpty ? "no role" : $"the roles {Grants.Words(caller.Grants)}";
        var others = people
            .Where(p => p.RemovedAt is null && permission.Any.Any(r => p.Roles.Give(r, estate)))
            .Select(p => p.Name)
            .ToList();
        return new Problem(
            $"this takes the role {roles}",
            $"{caller.Name} has {has}",
            others.Count == 0
                ? "Nobody has it: an administrator can give it."
                : $"Ask {string.Join(", ", others.Take(5))}{(others.Count > 5 ? " or others" : "")}."
        );
    }
}
