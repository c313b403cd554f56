using System.Security.Cryptography;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Service;

/// <summary>Everything that starts or decides something takes an <c>Idempotency-Key</c>: asked again with the same key,
/// it gives the same answer and does nothing.</summary>
public sealed class Idempotency(IDocumentStore store, TimeProvider time)
{
    private readonly SemaphoreSlim _one = new(1, 1);

    private sealed record Kept(int Status, JsonElement? Body);

    /// <summary>Carries an action out once per key. Refusals are not kept: what was refused may be asked
    /// again.</summary>
    public async Task<IResult> OnceAsync(
        HttpContext http,
        object request,
        Func<Task<(int Status, object? Body)?>> act,
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
        await _one.WaitAsync(http.RequestAborted);
        try
        {
            if (await store.FindAnswerAsync(key, http.RequestAborted) is { } known)
            {
                if (known.Request != print)
                    return Answers.Problem(
                        422,
                        new Problem("this Idempotency-Key was used for another request", null, "Send a fresh one.")
                    );
                var kept = JsonSerializer.Deserialize<Kept>(known.Body, Json.Options)!;
                return Results.Json(kept.Body, statusCode: kept.Status);
            }
            if (await act() is not { } answer)
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
        finally
        {
            _one.Release();
        }
    }
}
