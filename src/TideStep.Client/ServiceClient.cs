using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Net.Security;
using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;
using System.Text.Json.Nodes;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Client;

/// <summary>The service refused a request: its status and every problem it named.</summary>
public sealed class RefusedException(int status, string title, IReadOnlyList<Problem> problems) : Exception(title)
{
    public int Status { get; } = status;
    public IReadOnlyList<Problem> Problems { get; } = problems;
}

/// <summary>Calls a Tide Step service over its HTTP API.</summary>
public sealed class ServiceClient : IDisposable
{
    private readonly HttpClient _http;

    /// <param name="address">The service's address, http://127.0.0.1:7470.</param>
    /// <param name="key">The access key, or null where there is none to send.</param>
    /// <param name="name">Who acts.</param>
    /// <param name="authority">Who has to vouch for the service's certificate; whom the machine trusts where
    /// null.</param>
    public ServiceClient(Uri address, string? key, string? name, X509Certificate2Collection? authority = null)
    {
        // What is shown to this address is shown to no other: an answer that leads elsewhere is not followed.
        var handler = new SocketsHttpHandler { AllowAutoRedirect = false, UseCookies = false };
        if (authority is not null)
        {
            handler.SslOptions.CertificateChainPolicy = new X509ChainPolicy
            {
                TrustMode = X509ChainTrustMode.CustomRootTrust,
                RevocationMode = X509RevocationMode.NoCheck,
            };
            handler.SslOptions.CertificateChainPolicy.CustomTrustStore.AddRange(authority);
        }
        handler.SslOptions.RemoteCertificateValidationCallback = Accepts;
        _http = new HttpClient(handler) { BaseAddress = address, Timeout = Timeout.InfiniteTimeSpan };
        if (key is not null)
            _http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", key);
        if (name is not null)
            _http.DefaultRequestHeaders.Add("Tide-Step-Name", Uri.EscapeDataString(name));
    }

    public Uri Address => _http.BaseAddress!;

    /// <summary>Why the service's certificate was not accepted; null as long as none was refused.</summary>
    public static string? Distrusted { get; private set; }

    private static bool Accepts(object sender, X509Certificate? shown, X509Chain? chain, SslPolicyErrors errors)
    {
        if (errors == SslPolicyErrors.None)
            return true;
        Distrusted =
            errors.HasFlag(SslPolicyErrors.RemoteCertificateNotAvailable) ? "it shows no certificate"
            : errors.HasFlag(SslPolicyErrors.RemoteCertificateNameMismatch)
                ? $"its certificate is for {(shown as X509Certificate2)?.GetNameInfo(X509NameType.DnsName, false)}"
            : chain?.ChainStatus.Any(s => s.Status.HasFlag(X509ChainStatusFlags.NotTimeValid)) is true
                ? $"its certificate counts from {shown?.GetEffectiveDateString()} to {shown?.GetExpirationDateString()}"
            : "nobody that is trusted vouches for its certificate";
        return false;
    }

    public async Task<T> GetAsync<T>(string path, CancellationToken ct)
    {
        using var response = await _http.GetAsync(path, ct);
        await ThrowIfRefused(response, ct);
        return (await response.Content.ReadFromJsonAsync<T>(Json.Options, ct))!;
    }

    /// <summary>A list page after page, as the Link headers name them, up to so many lines.</summary>
    /// <param name="most">How many lines at most; all where null.</param>
    /// <returns>The lines, and whether there are more.</returns>
    public async Task<(List<T> Lines, bool More)> ListAsync<T>(string path, int? most, CancellationToken ct)
    {
        var lines = new List<T>();
        for (string? next = path; next is not null; )
        {
            using var response = await _http.GetAsync(next, ct);
            await ThrowIfRefused(response, ct);
            lines.AddRange((await response.Content.ReadFromJsonAsync<List<T>>(Json.Options, ct))!);
            next = response.Headers.TryGetValues("Link", out var links) ? Next(links) : null;
            if (lines.Count >= most)
                return ([.. lines.Take(most.Value)], next is not null || lines.Count > most);
        }
        return (lines, false);
    }

    // <address>; rel="next"
    private static string? Next(IEnumerable<string> links) =>
        links
            .Select(l => l.Split('>', 2))
            .Where(l =>
                l.Length == 2 && l[0].StartsWith('<') && l[1].Contains("rel=\"next\"", StringComparison.Ordinal)
            )
            .Select(l => l[0][1..])
            .FirstOrDefault();

    public async Task<string> GetTextAsync(string path, CancellationToken ct)
    {
        using var response = await _http.GetAsync(path, ct);
        await ThrowIfRefused(response, ct);
        return await response.Content.ReadAsStringAsync(ct);
    }

    /// <summary>Posts a request; a fresh idempotency key goes along, so that a repeated send after a broken connection
    /// does nothing twice.</summary>
    public async Task<JsonNode?> PostAsync(string path, object? body, CancellationToken ct)
    {
        var key = Guid.NewGuid().ToString("N");
        for (var tries = 0; ; tries++)
        {
            try
            {
                using var request = new HttpRequestMessage(HttpMethod.Post, path)
                {
                    Content = JsonContent.Create(body ?? new { }, options: Json.Options),
                };
                request.Headers.Add("Idempotency-Key", key);
                using var response = await _http.SendAsync(request, ct);
                await ThrowIfRefused(response, ct);
                var text = await response.Content.ReadAsStringAsync(ct);
                return text.Length == 0 ? null : JsonNode.Parse(text);
            }
            catch (HttpRequestException e)
                when (tries < 2
                    && e.HttpRequestError is HttpRequestError.ResponseEnded or HttpRequestError.InvalidResponse
                )
            {
                await Task.Delay(200, ct);
            }
        }
    }

    public async Task PutAsync(string path, object body, CancellationToken ct)
    {
        using var response = await _http.PutAsJsonAsync(path, body, Json.Options, ct);
        await ThrowIfRefused(response, ct);
    }

    private const int UploadPiece = 16 * 1024 * 1024;
    private const int UploadTries = 10;

    /// <summary>Uploads a file by the tus protocol, in pieces; where the line breaks it asks how much is there and goes
    /// on. One that broke off before is taken up.</summary>
    /// <param name="path">The file.</param>
    /// <param name="about">What goes along: filename, sha256, version, variant, signature.</param>
    /// <param name="sent">Told how much is there.</param>
    public async Task UploadAsync(
        string path,
        IReadOnlyDictionary<string, string> about,
        Action<long> sent,
        CancellationToken ct
    )
    {
        await using var file = new FileStream(
            path,
            FileMode.Open,
            FileAccess.Read,
            FileShare.Read,
            1 << 16,
            FileOptions.Asynchronous
        );
        using var begin = Tus(HttpMethod.Post, "/api/artefacts/uploads");
        begin.Headers.Add("Upload-Length", file.Length.ToString(System.Globalization.CultureInfo.InvariantCulture));
        begin.Headers.Add(
            "Upload-Metadata",
            string.Join(
                ',',
                about.Select(a => $"{a.Key} {Convert.ToBase64String(System.Text.Encoding.UTF8.GetBytes(a.Value))}")
            )
        );
        using var begun = await _http.SendAsync(begin, ct);
        await ThrowIfRefused(begun, ct);
        var place = begun.Headers.Location!.ToString();
        for (var (offset, tries) = (await OffsetAsync(place, ct), 0); ; )
        {
            sent(offset);
            if (offset >= file.Length && offset > 0)
                return;
            try
            {
                file.Seek(offset, SeekOrigin.Begin);
                var piece = new byte[Math.Min(UploadPiece, file.Length - offset)];
                await file.ReadExactlyAsync(piece, ct);
                using var patch = Tus(HttpMethod.Patch, place);
                patch.Headers.Add("Upload-Offset", offset.ToString(System.Globalization.CultureInfo.InvariantCulture));
                patch.Content = new ByteArrayContent(piece)
                {
                    Headers = { ContentType = new MediaTypeHeaderValue("application/offset+octet-stream") },
                };
                using var answer = await _http.SendAsync(patch, ct);
                await ThrowIfRefused(answer, ct);
                offset = long.Parse(
                    answer.Headers.GetValues("Upload-Offset").Single(),
                    System.Globalization.CultureInfo.InvariantCulture
                );
                tries = 0;
                if (file.Length == 0)
                    return;
            }
            catch (HttpRequestException) when (++tries < UploadTries)
            {
                await Task.Delay(500, ct);
                try
                {
                    offset = await OffsetAsync(place, ct);
                }
                catch (HttpRequestException)
                { /* still away: the next round asks again */
                }
            }
        }
    }

    private async Task<long> OffsetAsync(string place, CancellationToken ct)
    {
        using var ask = Tus(HttpMethod.Head, place);
        using var answer = await _http.SendAsync(ask, ct);
        answer.EnsureSuccessStatusCode();
        return long.Parse(
            answer.Headers.GetValues("Upload-Offset").Single(),
            System.Globalization.CultureInfo.InvariantCulture
        );
    }

    private static HttpRequestMessage Tus(HttpMethod method, string path) =>
        new(method, path) { Headers = { { "Tus-Resumable", "1.0.0" } } };

    public async Task DeleteAsync(string path, CancellationToken ct)
    {
        using var response = await _http.DeleteAsync(path, ct);
        await ThrowIfRefused(response, ct);
    }

    private static async Task ThrowIfRefused(HttpResponseMessage response, CancellationToken ct)
    {
        if (response.IsSuccessStatusCode)
            return;
        var text = await response.Content.ReadAsStringAsync(ct);
        JsonNode? body = null;
        try
        {
            body = JsonNode.Parse(text);
        }
        catch (JsonException)
        { /* not one of our answers */
        }
        var title = (string?)body?["title"] ?? $"the service answered {(int)response.StatusCode}";
        var problems = (body?["problems"] as JsonArray)
            ?.Select(p => new Problem(
                (string)p!["what"]!,
                (string?)p["detail"],
                (string?)p["hint"],
                p["at"] is JsonObject at ? new Place((string)at["file"]!, (int)at["line"]!, (int)at["column"]!) : null
            ))
            .ToList()
            ?? [];
        throw new RefusedException(
            (int)response.StatusCode,
            title,
            problems.Count > 0 ? problems : [new Problem(title, (string?)body?["detail"])]
        );
    }

    /// <summary>A run's journal from after a sequence number on; survives a lost connection and the service's restart,
    /// and ends with the run.</summary>
    /// <param name="run">The run.</param>
    /// <param name="after">The last sequence number that is known already.</param>
    /// <param name="lost">Told when the connection is lost and when it is back.</param>
    /// <param name="ct">Ends the following.</param>
    public async IAsyncEnumerable<JournalEntry> FollowAsync(
        string run,
        long after,
        Action<bool> lost,
        [EnumeratorCancellation] CancellationToken ct
    )
    {
        var last = after;
        var events = EventsAsync($"/api/runs/{Uri.EscapeDataString(run)}/events", () => last, lost, ct);
        await foreach (var item in events)
        {
            var entry = JsonSerializer.Deserialize<JournalEntry>(item.Data, Json.Options)!;
            last = entry.Sequence;
            yield return entry;
            if (entry.Event is Ended)
                yield break;
        }
    }

    /// <summary>A run as it stands, again whenever something of it changed; survives a lost connection and the
    /// service's restart, and does not end by itself.</summary>
    /// <param name="run">The run.</param>
    /// <param name="lanes">Of which parts the members are told: all, current, or a part's number.</param>
    /// <param name="lost">Told when the connection is lost and when it is back.</param>
    /// <param name="ct">Ends the watching.</param>
    public async IAsyncEnumerable<RunView> WatchAsync(
        string run,
        string lanes,
        Action<bool> lost,
        [EnumeratorCancellation] CancellationToken ct
    )
    {
        JsonNode? seen = null;
        var events = EventsAsync(
            $"/api/runs/{Uri.EscapeDataString(run)}/changes?lanes={lanes}",
            // A connection begins with a whole view: what was seen before is of no use to it.
            () => null,
            lost,
            ct
        );
        await foreach (var item in events)
        {
            seen =
                item.EventType == "view"
                    ? JsonNode.Parse(item.Data)
                    : JsonDelta.Apply(
                        seen,
                        JsonSerializer.Deserialize<List<JsonOperation>>(item.Data, Json.Options) ?? []
                    );
            yield return seen.Deserialize<RunView>(Json.Options)!;
        }
    }

    // Server-sent events, over and over again; each time from the last one that is known, where that is said.
    private async IAsyncEnumerable<SseItem<string>> EventsAsync(
        string path,
        Func<long?> last,
        Action<bool> lost,
        [EnumeratorCancellation] CancellationToken ct
    )
    {
        var away = false;
        while (!ct.IsCancellationRequested)
        {
            using var response = await OpenStreamAsync(path, last(), ct);
            if (response is not null)
            {
                if (away)
                    lost(away = false);
                var stream = await response.Content.ReadAsStreamAsync(ct);
                await using var events = SseParser.Create(stream).EnumerateAsync(ct).GetAsyncEnumerator(ct);
                while (await MovedAsync(events))
                    yield return events.Current;
            }
            if (!away)
                lost(away = true);
            await Task.Delay(500, ct);
        }
    }

    private async Task<HttpResponseMessage?> OpenStreamAsync(string path, long? last, CancellationToken ct)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, path);
        if (last is { } known)
            request.Headers.Add("Last-Event-ID", known.ToString(System.Globalization.CultureInfo.InvariantCulture));
        HttpResponseMessage? response = null;
        try
        {
            response = await _http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, ct);
            await ThrowIfRefused(response, ct);
            return response;
        }
        catch (HttpRequestException)
        {
            response?.Dispose();
            return null;
        }
    }

    private static async Task<bool> MovedAsync(IAsyncEnumerator<SseItem<string>> events)
    {
        try
        {
            return await events.MoveNextAsync();
        }
        catch (Exception e) when (e is IOException or HttpRequestException)
        {
            return false;
        }
    }

    public void Dispose() => _http.Dispose();
}
