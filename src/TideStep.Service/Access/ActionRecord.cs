using System.Collections.Concurrent;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Service.Access;

/// <summary>A line of the record: who did what, from where, by which session or token, with what result (11-access,
/// The record). No password, secret or token stands in it: neither bodies nor queries of calls are taken in.</summary>
/// <param name="Who">The identifier of who acted; empty where nobody was known.</param>
/// <param name="By">The session or token, by its public identifier; <c>key</c> for the local key.</param>
/// <param name="What">The call, as <c>POST /api/runs/{run}/start</c>.</param>
/// <param name="About">What it was about, as <c>runs/r1</c>.</param>
/// <param name="Status">The HTTP status of the answer.</param>
/// <param name="Result">done, refused or failed.</param>
public sealed record ActionLine(
    string Who,
    string Name,
    string By,
    string From,
    string What,
    string About,
    int Status,
    string Result
);

/// <summary>Writes down everything that changes something or was refused, after it was answered.</summary>
public sealed class ActionRecord(IAccessStore store, TimeProvider time, ILogger<ActionRecord> log)
{
    // Of refusals of somebody unknown, so many within a minute are told one by one.
    private const int MostUnknown = 20;
    private readonly ConcurrentDictionary<(string From, long Minute), int> _unknown = new();

    public async Task PassAsync(HttpContext http, RequestDelegate next)
    {
        try
        {
            await next(http);
        }
        finally
        {
            if (Counts(http))
                await AppendAsync(LineOf(http));
        }
    }

    private bool Counts(HttpContext http)
    {
        var path = http.Request.Path;
        if (!path.StartsWithSegments("/api") && !path.StartsWithSegments("/enter"))
            return false;
        var refused = http.Response.StatusCode is 401 or 403 or 429;
        // A browser asks who is signed in before anybody is.
        if (refused && AccessRules.CallerOf(http) is null)
            return !path.StartsWithSegments("/api/me") && FewEnough(FromOf(http));
        return refused
            || path.StartsWithSegments("/enter")
            || path.StartsWithSegments("/api/record/export")
            || !(
                HttpMethods.IsGet(http.Request.Method)
                || HttpMethods.IsHead(http.Request.Method)
                || HttpMethods.IsOptions(http.Request.Method)
                || path.StartsWithSegments("/api/documents/check")
                || path.StartsWithSegments("/api/paths")
                // Whoever waits asks every second; what came of it is the word of whoever lets them in.
                || http.Response.StatusCode == 202 && path.StartsWithSegments("/api/entries")
            );
    }

    private bool FewEnough(string from)
    {
        var minute = time.GetUtcNow().Ticks / TimeSpan.TicksPerMinute;
        foreach (var old in _unknown.Keys.Where(k => k.Minute < minute))
            _unknown.TryRemove(old, out _);
        return _unknown.AddOrUpdate((from, minute), 1, (_, n) => n + 1) <= MostUnknown;
    }

    private static ActionLine LineOf(HttpContext http)
    {
        var caller = AccessRules.CallerOf(http);
        var pattern = (http.GetEndpoint() as RouteEndpoint)?.RoutePattern.RawText;
        var status = http.Response.StatusCode;
        return new ActionLine(
            caller?.Id ?? "",
            caller?.Name ?? "",
            caller?.By ?? "",
            FromOf(http),
            // Of an address that no route has, and of a link that opens, only so much.
            $"{http.Request.Method} {pattern ?? "(no such call)"}",
            pattern is null || !http.Request.Path.StartsWithSegments("/api") ? "" : AboutOf(MadeOf(http)),
            status,
            status < 400 ? "done"
                : status < 500 ? "refused"
                : "failed"
        );
    }

    // What was made by the call, where it made something that has an address of its own.
    private static PathString MadeOf(HttpContext http) =>
        http.Response.Headers.Location is [{ } made] && made.StartsWith("/api/", StringComparison.Ordinal)
            ? new PathString(made)
            : http.Request.Path;

    // The kind and the identifier, without what is asked of it; how somebody comes in is about nothing.
    private static string AboutOf(PathString path) =>
        path.Value!.Split('/', StringSplitOptions.RemoveEmptyEntries) is [_, var kind, .. var rest]
        && kind is not ("sign-in" or "sign-out" or "join" or "links" or "entries")
            ? string.Join('/', rest.Take(1).Prepend(kind))
            : "";

    private static string FromOf(HttpContext http) => http.Connection.RemoteIpAddress?.ToString() ?? "";

    /// <summary>Appends a line.</summary>
    public async Task AppendAsync(ActionLine line)
    {
        try
        {
            await store.AppendRecordAsync(
                new StoredRecordLine(
                    0,
                    time.GetUtcNow(),
                    line.Who,
                    line.About,
                    JsonSerializer.Serialize(line, Json.Options)
                ),
                CancellationToken.None
            );
        }
        catch (StoreUnavailableException e)
        {
            log.LogWarning(e, "{What} by {Name} could not be written into the record", line.What, line.Name);
        }
    }
}
