using System.Globalization;
using System.Threading.RateLimiting;
using Microsoft.AspNetCore.Http.Features;
using TideStep.Core.Documents;

namespace TideStep.Service;

/// <summary>Large requests wait for one another: what is worked on at the same time fits into the memory of a small
/// machine. What is small goes past them; files, which are written as they come, are not counted.</summary>
public sealed class LargeRequests : IDisposable
{
    /// <summary>How large a request may be that is read as a whole, in bytes.</summary>
    public const long Most = 24L * 1024 * 1024;

    private const string Files = "/api/artefacts/uploads";
    private const long Small = 256 * 1024;
    private const int Unit = 64 * 1024;
    private const int MostWaiting = 64;

    private readonly ConcurrencyLimiter _room = new(
        new ConcurrencyLimiterOptions
        {
            PermitLimit = (int)(Most / Unit),
            QueueLimit = MostWaiting * (int)(Most / Unit),
            QueueProcessingOrder = QueueProcessingOrder.OldestFirst,
        }
    );

    public async Task PassAsync(HttpContext http, RequestDelegate next)
    {
        if (http.Request.Path.StartsWithSegments(Files, StringComparison.Ordinal))
        {
            await next(http);
            return;
        }
        if (http.Features.Get<IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } limit)
            limit.MaxRequestBodySize = Most;
        var size = http.Features.Get<IHttpRequestBodyDetectionFeature>() is { CanHaveBody: true }
            ? Math.Min(http.Request.ContentLength ?? await SizeAsync(http), Most)
            : 0;
        if (size <= Small)
        {
            await next(http);
            return;
        }
        using var room = await _room.AcquireAsync((int)((size + Unit - 1) / Unit), http.RequestAborted);
        if (room.IsAcquired)
            await next(http);
        else
            await BusyAsync(http);
    }

    // What comes in pieces does not say how long it is: it is looked whether it ends before it is large.
    private static async Task<long> SizeAsync(HttpContext http)
    {
        http.Request.EnableBuffering((int)Small);
        var (piece, seen) = (new byte[16 * 1024], 0L);
        while (seen <= Small && await http.Request.Body.ReadAsync(piece, http.RequestAborted) is > 0 and var read)
            seen += read;
        http.Request.Body.Position = 0;
        return seen <= Small ? seen : Most;
    }

    private static Task BusyAsync(HttpContext http)
    {
        http.Response.Headers.RetryAfter = 5.ToString(CultureInfo.InvariantCulture);
        return Answers
            .Problem(
                StatusCodes.Status503ServiceUnavailable,
                new Problem("very many large requests wait already", null, "Send it again in a few seconds.")
            )
            .ExecuteAsync(http);
    }

    public void Dispose() => _room.Dispose();
}
