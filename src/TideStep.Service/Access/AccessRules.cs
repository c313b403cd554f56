using System.Net;

namespace TideStep.Service.Access;

/// <summary>Who may call: loopback only, a Host header that names it, and the access key as a bearer or the console's
/// cookie.</summary>
public static class AccessRules
{
    public const string Cookie = "tidestep-access";
    private const string NameHeader = "Tide-Step-Name";

    /// <summary>The name that stands on everything done; accounts will give it later.</summary>
    public static string ActorOf(HttpContext http)
    {
        var given = Uri.UnescapeDataString(http.Request.Headers[NameHeader].ToString()).Trim();
        return given.Length is > 0 and <= 100 ? given : "";
    }

    public static void UseAccessRules(this WebApplication app, AccessKey key)
    {
        app.Use(
            async (http, next) =>
            {
                var host = http.Request.Host.Host;
                if (host is not ("localhost" or "127.0.0.1" or "[::1]"))
                {
                    await Refuse(
                        http,
                        HttpStatusCode.MisdirectedRequest,
                        $"this service does not answer to the name '{host}'",
                        "Call it by 127.0.0.1 or localhost."
                    );
                    return;
                }
                var path = http.Request.Path;
                if (!path.StartsWithSegments("/api") || MayCall(http, key))
                {
                    // What changes something needs a name, and a header that no foreign page can send.
                    if (
                        path.StartsWithSegments("/api")
                        && !HttpMethods.IsGet(http.Request.Method)
                        && ActorOf(http).Length == 0
                    )
                    {
                        await Refuse(
                            http,
                            HttpStatusCode.BadRequest,
                            "who acts is not known",
                            $"Send your name in the header {NameHeader}; the command line asks for it with "
                                + $"'tidestep profile set --name'."
                        );
                        return;
                    }
                    await next();
                    return;
                }
                await Refuse(
                    http,
                    HttpStatusCode.Unauthorized,
                    "the access key is missing or wrong",
                    "The command line reads it from the data folder; for the console make a link with "
                        + "'tidestep console link'."
                );
            }
        );
    }

    private static bool MayCall(HttpContext http, AccessKey key)
    {
        var bearer = http.Request.Headers.Authorization.ToString();
        return key.Fits(
            bearer.StartsWith("Bearer ", StringComparison.Ordinal) ? bearer[7..] : http.Request.Cookies[Cookie]
        );
    }

    private static Task Refuse(HttpContext http, HttpStatusCode status, string what, string hint) =>
        Answers.Problem((int)status, new Core.Documents.Problem(what, null, hint)).ExecuteAsync(http);
}
