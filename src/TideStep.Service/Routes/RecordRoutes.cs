using System.Globalization;
using System.Text.Json;
using Microsoft.AspNetCore.Http.Metadata;
using TideStep.Core.Documents;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>A line of the record.</summary>
/// <param name="What">The call, as <c>POST /api/runs/{run}/start</c>.</param>
/// <param name="Words">What the call is for; empty where this version has no such call.</param>
/// <param name="Removed">How many lines this one stands for, where it tells of some that were taken away.</param>
/// <param name="Damaged">What is wrong with it, where it can't be read.</param>
public sealed record RecordLineView(
    long Number,
    DateTimeOffset At,
    string Who,
    string Name,
    string By,
    string From,
    string What,
    string Words,
    string About,
    int Status,
    string Result,
    long? Removed,
    string? Damaged
);

/// <summary>Whether the record is what was written.</summary>
/// <param name="Lines">How many lines were walked.</param>
/// <param name="What">The call, as <c>POST /api/runs/{run}/start</c>.</param>
/// <param name="Words">What the call is for; empty where this version has no such call.</param>
/// <param name="Removed">How many were taken away before them, as the record itself says.</param>
public sealed record RecordVerdict(bool Whole, long Lines, long Removed, IReadOnlyList<string> Problems);

/// <summary>Routes of the record: who did what.</summary>
public static class RecordRoutes
{
    private const int AtOnce = 500;
    private const int MostProblems = 50;
    private static readonly byte[] NewLine = [(byte)'\n'];

    private sealed record RemovedLines(long Removed, string From, string To);

    public static void MapRecord(this RouteGroupBuilder api)
    {
        api.MapGet("/record", ListAsync)
            .Produces<IReadOnlyList<RecordLineView>>()
            .ProducesProblem(400)
            .WithSummary("Who did what, newest first; by somebody, about something, since a moment");
        api.MapGet("/record/verify", VerifyAsync)
            .Produces<RecordVerdict>()
            .WithSummary("Walks the whole record along its chain of digests");
        api.MapGet("/record/export", (HttpContext http, IAccessStore store, CancellationToken ct) =>
                Results.Stream(body => ExportAsync(body, store, ct), "application/jsonl", "record.jsonl")
            )
            .Produces<string>(200, "application/jsonl")
            .WithSummary("The whole record as JSON Lines, oldest first");
    }

    private static async Task<IResult> ListAsync(
        HttpContext http,
        IAccessStore store,
        AccessDesk desk,
        CancellationToken ct,
        string? by = null,
        string? about = null,
        string? since = null,
        long? after = null,
        int? limit = null
    )
    {
        DateTimeOffset? from = null;
        if (since is not null)
        {
            if (
                !DateTimeOffset.TryParse(
                    since,
                    CultureInfo.InvariantCulture,
                    DateTimeStyles.AssumeUniversal,
                    out var moment
                )
            )
                return Answers.Problem(
                    400,
                    new Problem($"since: '{since}' is no moment", null, "Write it as in 2026-11-21T22:00:00Z.")
                );
            from = moment;
        }
        var size = Pages.Size(limit);
        var who = by is null ? null : await IdOfAsync(by, desk, ct);
        var found = await store.RecordAsync(who, about, from, after, size + 1, ct);
        var words = WordsOf(http.RequestServices.GetRequiredService<EndpointDataSource>());
        return Results.Ok(
            Pages.Of(http, [.. found.Select(l => Worded(ViewOf(l), words))], size, l =>
                l.Number.ToString(CultureInfo.InvariantCulture)
            )
        );
    }

    private static RecordLineView Worded(RecordLineView line, Dictionary<string, string> words) =>
        line with
        {
            Words = words.GetValueOrDefault(line.What, ""),
        };

    // What each call is for, as the OpenAPI document says it.
    private static Dictionary<string, string> WordsOf(EndpointDataSource routes) =>
        routes
            .Endpoints.OfType<RouteEndpoint>()
            .SelectMany(e =>
                (e.Metadata.GetMetadata<IHttpMethodMetadata>()?.HttpMethods ?? []).Select(m =>
                    (
                        Call: $"{m} {e.RoutePattern.RawText}",
                        Words: BeginningOf(e.Metadata.GetMetadata<IEndpointSummaryMetadata>()?.Summary ?? "")
                    )
                )
            )
            .DistinctBy(e => e.Call)
            .ToDictionary(e => e.Call, e => e.Words);

    private static string BeginningOf(string summary) => summary.Split([',', ';', ':'], 2)[0];

    // People are asked for by name as well as by what stays the same of them.
    private static async Task<string> IdOfAsync(string by, AccessDesk desk, CancellationToken ct)
    {
        var key = Core.Access.AccountRules.KeyOf(by);
        return (await desk.PeopleAsync(ct)).FirstOrDefault(p => Core.Access.AccountRules.KeyOf(p.Name) == key)?.Id
            ?? (await desk.TokensAsync(ct)).FirstOrDefault(t => Core.Access.AccountRules.KeyOf(t.Name) == key)?.Id
            ?? by;
    }

    private static async Task<RecordVerdict> VerifyAsync(IAccessStore store, CancellationToken ct)
    {
        var (lines, removed, problems) = (0L, 0L, new List<string>());
        await foreach (var line in AllAsync(store, ct))
        {
            if (line.Damaged is { } wrong && problems.Count < MostProblems)
                problems.Add($"line {line.Number}: {wrong}");
            if (line.Summary)
                removed = ViewOf(line).Removed ?? 0;
            else
                lines++;
        }
        return new RecordVerdict(problems.Count == 0, lines, removed, problems);
    }

    private static async Task ExportAsync(Stream body, IAccessStore store, CancellationToken ct)
    {
        await foreach (var line in AllAsync(store, ct))
        {
            await JsonSerializer.SerializeAsync(body, ViewOf(line), Json.Options, ct);
            await body.WriteAsync(NewLine, ct);
        }
    }

    private static async IAsyncEnumerable<StoredRecordLine> AllAsync(
        IAccessStore store,
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken ct
    )
    {
        for (long after = 0; ; )
        {
            var page = await store.RecordAfterAsync(after, AtOnce, ct);
            foreach (var line in page)
                yield return line;
            if (page.Count < AtOnce)
                break;
            after = page[^1].Number;
        }
    }

    private static RecordLineView ViewOf(StoredRecordLine line)
    {
        try
        {
            if (line.Summary)
                return Of(line, Nothing, JsonSerializer.Deserialize<RemovedLines>(line.Body, Json.Options)?.Removed);
            return Of(line, JsonSerializer.Deserialize<ActionLine>(line.Body, Json.Options) ?? Nothing);
        }
        catch (JsonException e)
        {
            return Of(line with { Damaged = line.Damaged ?? e.Message }, Nothing);
        }
    }

    private static readonly ActionLine Nothing = new("", "", "", "", "", "", 0, "");

    private static RecordLineView Of(StoredRecordLine line, ActionLine its, long? removed = null) =>
        new(
            line.Number,
            line.At,
            line.Who,
            its.Name,
            its.By,
            its.From,
            its.What,
            "",
            line.About,
            its.Status,
            its.Result,
            removed,
            line.Damaged
        );
}
