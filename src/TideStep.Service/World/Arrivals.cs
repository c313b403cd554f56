using System.Net;
using Microsoft.AspNetCore.HttpOverrides;
using TideStep.Core.Documents;

namespace TideStep.Service.World;

/// <summary>How a call came in.</summary>
/// <param name="Here">Whether it was made on this machine, and by nobody for somebody else.</param>
/// <param name="ByProxy">Whether a trusted proxy passed it on.</param>
public sealed record Arrival(bool Here, bool ByProxy);

/// <summary>Looks at how a call came in, before anything that it says of itself is believed.</summary>
public static class Arrivals
{
    private const string ForwardedFor = "X-Forwarded-For";

    /// <summary>How this call came in.</summary>
    public static Arrival Of(HttpContext http) => http.Features.Get<Arrival>() ?? new Arrival(false, false);

    public static void Use(WebApplication app, Doors doors, ServedCertificate? certificate)
    {
        app.Use(
            async (http, next) =>
            {
                var (remote, local) = (http.Connection.RemoteIpAddress, http.Connection.LocalIpAddress);
                var passedOn = doors.IsProxy(remote) && http.Request.Headers.ContainsKey(ForwardedFor);
                http.Features.Set(new Arrival(!passedOn && IsHere(remote, local), passedOn));
                if (RefusalOf(http, doors, passedOn) is { } refusal)
                    await Answers.Problem(403, refusal).ExecuteAsync(http);
                else
                    await next(http);
            }
        );
        var options = new ForwardedHeadersOptions
        {
            ForwardedHeaders =
                ForwardedHeaders.XForwardedFor | ForwardedHeaders.XForwardedProto | ForwardedHeaders.XForwardedHost,
            ForwardLimit = 1,
        };
        options.KnownProxies.Clear();
        options.KnownIPNetworks.Clear();
        foreach (var proxy in doors.Proxies)
            options.KnownProxies.Add(proxy);
        if (doors.Proxies.Count > 0)
            app.UseForwardedHeaders(options);
        app.Use((http, next) => PassNamedAsync(http, next, doors, certificate));
    }

    // A network's doors without TLS are for the proxy alone.
    private static Problem? RefusalOf(HttpContext http, Doors doors, bool passedOn) =>
        passedOn || http.Request.IsHttps || IsHere(http.Connection.RemoteIpAddress, http.Connection.LocalIpAddress)
            ? null
            : new Problem(
                "only a trusted proxy may call here",
                null,
                doors.Url is { } url ? $"Call {url}." : "Call the service by the address that its proxy has."
            );

    // Nobody elsewhere can hold a connection with this machine's own address.
    private static bool IsHere(IPAddress? remote, IPAddress? local) =>
        remote is null || IPAddress.IsLoopback(Doors.Plain(remote)) || remote.Equals(local);

    private static async Task PassNamedAsync(
        HttpContext http,
        RequestDelegate next,
        Doors doors,
        ServedCertificate? certificate
    )
    {
        var host = http.Request.Host.Host;
        if (
            doors.Answers(host, http.Connection.LocalIpAddress)
            || certificate?.Names.Contains(host, StringComparer.OrdinalIgnoreCase) is true
        )
            await next(http);
        else
            await Answers
                .Problem(
                    (int)HttpStatusCode.MisdirectedRequest,
                    new Problem(
                        $"this service does not answer to the name '{host}'",
                        null,
                        "Call it by its address, or by a name that it was started with (--hosts)."
                    )
                )
                .ExecuteAsync(http);
    }
}
