using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service;

/// <summary>Everything that starts or decides something takes an <c>Idempotency-Key</c>: asked again with the same key,
/// it gives the same answer and does nothing.</summary>
public sealed class Idempotency(IDocumentStore store, TimeProvider time, IHostApplicationLifetime lifetime)
{
    private readonly ConcurrentDictionary<string, Task> _underWay = new();

    private sealed record Kept(int Status, JsonElement? Body);

    /// <summary>Carries an action out once per caller and key. Refusals are not kept: what was refused may be asked
    /// again. Who asks again while it is under way waits for its end, and nobody else does; a caller that goes away
    /// ends nothing.</summary>
    public async Task<IResult> OnceAsync(
        HttpContext http,
        object request,
        Func<CancellationToken, Task<(int Status, object? Body)?>> act,
        Func<IResult> refused
    )
    {
        var key = http.Request.Headers["Idempotency-Key"].ToString();
        if (key.Length is 0 or > 200)
            return Answers.Problem(
                400,
                new Problem(
                    "an Idempotency-Key is missing",
                    null,
                    "Send a fresh unique text in the header Idempotency-Key, and the same one when asking again."
                )
            );
        var print = Convert.ToHexStringLower(
            SHA256.HashData(
                JsonSerializer.SerializeToUtf8Bytes(new { path = http.Request.Path.Value, request }, Json.Options)
            )
        );
        var caller = AccessRules.ActorOf(http);
        var kept = $"{caller.Length} {caller} {key}";
        var mine = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        while (_underWay.GetOrAdd(kept, mine.Task) is var first && first != mine.Task)
            await first.WaitAsync(http.RequestAborted);
        try
        {
            return await FirstAsync(kept, print, act, refused);
        }
        finally
        {
            _underWay.TryRemove(kept, out _);
            mine.SetResult();
        }
    }

    private async Task<IResult> FirstAsync(
        string key,
        string print,
        Func<CancellationToken, Task<(int Status, object? Body)?>> act,
        Func<IResult> refused
    )
    {
        if (await store.FindAnswerAsync(key, lifetime.ApplicationStopping) is { } known)
        {
            if (known.Request != print)
                return Answers.Problem(
                    422,
                    new Problem("this Idempotency-Key was used for another request", null, "Send a fresh one.")
                );
            var kept = JsonSerializer.Deserialize<Kept>(known.Body, Json.Options)!;
            return Results.Json(kept.Body, statusCode: kept.Status);
        }
        if (await act(lifetime.ApplicationStopping) is not { } answer)
            return refused();
        var body = answer.Body is null
            ? (JsonElement?)null
            : JsonSerializer.SerializeToElement(answer.Body, Json.Options);
        await store.SaveAnswerAsync(
            key,
            print,
            JsonSerializer.Serialize(new Kept(answer.Status, body), Json.Options),
            time.GetUtcNow(),
            CancellationToken.None
        );
        return Results.Json(answer.Body, Json.Options, statusCode: answer.Status);
    }
}
