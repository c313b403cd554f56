using System.Collections.Concurrent;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors;

/// <summary>Reaches appliances by their own HTTP interface, with a token or a client certificate and, where one is
/// named, a pinned authority. They keep no record of what they are asked.</summary>
public sealed class HttpConnector(Secrets secrets, string installationFolder) : RecordlessConnector, IDisposable
{
    private const int MostOutput = 64 * 1024;
    private static readonly TimeSpan Longest = TimeSpan.FromMinutes(10);

    private readonly ConcurrentDictionary<string, (string Marks, HttpClient Client)> _clients = new();

    public override string By => "http";

    public override Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct)
    {
        if (attempt.Action is not { Verb: "request", Arguments: [var method, var url, var body] })
            throw CallsUnderWay.CanNot(node.Id, attempt.Action.Verb, By, "request");
        var (client, address) = (ClientOf(node), Address(node, url));
        return Calls.BeginAsync(
            attempt.Id,
            async stop =>
            {
                using var request = new HttpRequestMessage(new HttpMethod(method), address)
                {
                    Content = body.Length == 0 ? null : new StringContent(body, Encoding.UTF8, "application/json"),
                };
                using var limit = CancellationTokenSource.CreateLinkedTokenSource(stop);
                limit.CancelAfter(Longest);
                try
                {
                    using var response = await client.SendAsync(
                        request,
                        HttpCompletionOption.ResponseHeadersRead,
                        limit.Token
                    );
                    var said = await BoundedAsync(response, limit.Token);
                    return new AttemptReading(
                        AttemptPhase.Ended,
                        response.IsSuccessStatusCode ? 0 : (int)response.StatusCode,
                        $"{(int)response.StatusCode} {response.ReasonPhrase}\n{said}"
                    );
                }
                // Whether the far side took it is not known: that is never told as an end.
                catch (Exception e) when (e is HttpRequestException or IOException or OperationCanceledException)
                {
                    return new AttemptReading(AttemptPhase.Lost, null, e.Message);
                }
            },
            wait,
            ct
        );
    }

    public override async Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        var (found, missed) = (new Dictionary<Reference, Value>(), new Dictionary<Reference, string>());
        var reader = new HttpReader(ClientOf(node));
        var answered = false;
        foreach (var reference in wanted)
        {
            if (!product.Readings.TryGetValue(reference.Key, out var collector) || collector.By != "http")
            {
                missed[reference] = "nothing tells how it is read over HTTP";
                continue;
            }
            var (value, why, silent) = await reader.ReadAsync(
                node,
                member,
                collector with
                {
                    Url = Address(node, collector.Url!).ToString(),
                },
                product.Scheme,
                ct
            );
            answered |= !silent;
            if (value is not null)
                found[reference] = value;
            else
                missed[reference] = why!;
        }
        if (
            !answered
            && missed.Count > 0
            && wanted.Any(r => product.Readings.TryGetValue(r.Key, out var c) && c.By == "http")
        )
            throw new ConnectorException(
                new Problem(
                    $"{node.Id} does not answer at {node.Reach["address"]}",
                    missed.First(m => product.Readings.ContainsKey(m.Key.Key)).Value,
                    "Wait, or look at the node by another way."
                ),
                lasting: false
            );
        var reachable = new Reference("reachable", [], null);
        if (missed.Remove(reachable))
            found[reachable] = Value.True;
        return new Taken(found, missed);
    }

    // Only the node itself is spoken to: its token goes nowhere else, whatever a catalogue says.
    private static Uri Address(EstateNode node, string url)
    {
        var own = new Uri(node.Reach["address"]!.TrimEnd('/') + "/");
        var whole = new Uri(own, url.Replace("{node.address}", node.Reach["address"]).TrimStart('/'));
        return whole.GetLeftPart(UriPartial.Authority) == own.GetLeftPart(UriPartial.Authority)
            ? whole
            : throw new ConnectorException(
                new Problem(
                    $"'{url}' leads elsewhere than to {node.Id}",
                    $"it is reached at {own}",
                    "Write the path alone, as in /status."
                ),
                lasting: true
            );
    }

    // A secret that was renewed counts from the next call on; calls under way end with the old one.
    private HttpClient ClientOf(EstateNode node)
    {
        var marks = secrets.MarkOf(node.Reach["client-certificate"]) + secrets.MarkOf(node.Reach["token"]);
        return _clients
            .AddOrUpdate(
                string.Join(' ', node.Reach.Settings.OrderBy(s => s.Key)),
                _ => (marks, Made(node)),
                (_, known) => known.Marks == marks ? known : (marks, Made(node))
            )
            .Client;
    }

    private HttpClient Made(EstateNode node)
    {
        var options = new SslClientAuthenticationOptions();
        if (node.Reach["client-certificate"] is { } own)
        {
            var pem = secrets.TextOf(own);
            using var read = X509Certificate2.CreateFromPem(pem, pem);
            options.ClientCertificates = [X509CertificateLoader.LoadPkcs12(read.Export(X509ContentType.Pkcs12), null)];
        }
        if (node.Reach["authority"] is { } authority)
        {
            var pinned = new X509Certificate2Collection();
            try
            {
                pinned.ImportFromPemFile(Path.Combine(installationFolder, authority));
            }
            catch (Exception e) when (e is IOException or System.Security.Cryptography.CryptographicException)
            {
                throw new ConnectorException(
                    new Problem(
                        $"the authority of {node.Id} can't be read",
                        e.Message,
                        $"Put the certificate that signs its own into "
                            + $"{Path.Combine(installationFolder, authority)}, as PEM."
                    ),
                    lasting: true,
                    e
                );
            }
            options.CertificateChainPolicy = new X509ChainPolicy
            {
                TrustMode = X509ChainTrustMode.CustomRootTrust,
                RevocationMode = X509RevocationMode.NoCheck,
            };
            options.CertificateChainPolicy.CustomTrustStore.AddRange(pinned);
        }
        var client = new HttpClient(
            new SocketsHttpHandler
            {
                SslOptions = options,
                AllowAutoRedirect = false,
                PooledConnectionLifetime = TimeSpan.FromMinutes(5),
                ConnectTimeout = TimeSpan.FromSeconds(5),
            }
        )
        {
            Timeout = Timeout.InfiniteTimeSpan,
        };
        if (node.Reach["token"] is { } token)
            client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue(
                "Bearer",
                secrets.TextOf(token).Trim()
            );
        return client;
    }

    private static async Task<string> BoundedAsync(HttpResponseMessage response, CancellationToken ct)
    {
        await using var stream = await response.Content.ReadAsStreamAsync(ct);
        return Encoding.UTF8.GetString(await HttpReader.BoundedAsync(stream, MostOutput, ct));
    }

    public void Dispose()
    {
        foreach (var (_, client) in _clients.Values)
            client.Dispose();
    }
}
