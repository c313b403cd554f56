using System.Net;
using System.Net.Http.Json;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json.Nodes;
using TideStep.Tests;
using Xunit;

namespace TideStep.Service.Tests;

/// <summary>The service towards a network: TLS, names, proxies; against the real service.</summary>
public sealed class NetworkTests
{
    private const string Password = "a heron stands on one leg";
    private const string Name = "tide.marram.example";

    // Calls this machine by whatever name, and trusts whom we trust.
    private static HttpClient Http(int port, Vouching? vouching, Action<string?>? shown = null, string host = Name)
    {
        var handler = new SocketsHttpHandler { AllowAutoRedirect = false, UseCookies = false };
        handler.ConnectCallback = async (_, ct) =>
        {
            var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            await socket.ConnectAsync(IPAddress.Loopback, port, ct);
            return new NetworkStream(socket, ownsSocket: true);
        };
        if (vouching is not null)
        {
            var policy = new X509ChainPolicy { TrustMode = X509ChainTrustMode.CustomRootTrust };
            policy.RevocationMode = X509RevocationMode.NoCheck;
            policy.CustomTrustStore.Add(vouching.Root);
            handler.SslOptions.CertificateChainPolicy = policy;
            handler.SslOptions.RemoteCertificateValidationCallback = (_, certificate, _, errors) =>
            {
                shown?.Invoke(certificate?.GetSerialNumberString());
                return errors == System.Net.Security.SslPolicyErrors.None;
            };
        }
        return new HttpClient(handler)
        {
            BaseAddress = new Uri($"{(vouching is null ? "http" : "https")}://{host}:{port}"),
        };
    }

    private static async Task<JsonObject> Good(Task<HttpResponseMessage> answer)
    {
        var response = await answer;
        var text = await response.Content.ReadAsStringAsync();
        Assert.True(response.IsSuccessStatusCode, $"{(int)response.StatusCode} {text}");
        return (JsonObject)JsonNode.Parse(text)!;
    }

    private static async Task<string> InviteAsync(DemoStack stack, string name, params string[] roles) =>
        (string)(await Good(stack.Service.PostAsJsonAsync("/api/people", new { name, roles })))["link"]!;

    [Fact]
    public async Task Under_tls_cookies_and_headers_are_those_of_tls_and_a_renewed_certificate_is_shown()
    {
        Vouching vouching = null!;
        await using var stack = await DemoStack.StartAsync(tiny: true, options: its =>
        {
            vouching = new Vouching(its.Work);
            return
            [
                "--listen",
                $"127.0.0.1:{its.DoorPort}",
                "--certificate",
                vouching.Certificate("service.pem", false, Name),
                "--url",
                $"https://{Name}:{its.DoorPort}",
            ];
        });
        using var _ = vouching;
        var link = await InviteAsync(stack, "Iris Vane", "administer");
        Assert.StartsWith($"https://{Name}:{stack.DoorPort}/join#", link);
        string? first = null,
            next = null;
        using (var http = Http(stack.DoorPort, vouching, s => first = s))
        {
            var joined = await http.PostAsJsonAsync(
                "/api/join",
                new { invitation = link.Split('#')[1], password = Password }
            );
            await Good(Task.FromResult(joined));
            var cookie = Assert.Single(joined.Headers.GetValues("Set-Cookie")).ToLowerInvariant();
            Assert.StartsWith("__host-tidestep-session=", cookie);
            Assert.All(["secure", "httponly", "samesite=strict", "path=/"], part => Assert.Contains(part, cookie));
            Assert.DoesNotContain("domain", cookie);
            Assert.Equal(["max-age=31536000"], joined.Headers.GetValues("Strict-Transport-Security"));
        }

        // One that does not fit its key is not shown: the one before stays.
        var file = Path.Combine(stack.Work, "service.pem");
        var whole = await File.ReadAllTextAsync(file);
        await File.WriteAllTextAsync(file, whole[..(whole.Length / 2)]);
        Assert.Equal(first, await ShownAsync(stack, vouching, s => s is not null));
        vouching.Certificate("service.pem", false, Name);
        next = await ShownAsync(stack, vouching, s => s != first);
        Assert.NotEqual(first, next);

        // Names that are not its own are not answered, under TLS as without.
        using var other = Http(stack.Port, null, host: "rebound.example");
        Assert.Equal(HttpStatusCode.MisdirectedRequest, (await other.GetAsync("/api/estate")).StatusCode);
    }

    private static async Task<string?> ShownAsync(DemoStack stack, Vouching vouching, Func<string?, bool> wanted)
    {
        string? shown = null;
        for (var until = DateTime.UtcNow.AddMinutes(1); ; await Task.Delay(100))
        {
            using var http = Http(stack.DoorPort, vouching, s => shown = s);
            (await http.GetAsync("/health/live")).EnsureSuccessStatusCode();
            if (wanted(shown) || DateTime.UtcNow > until)
                return shown;
        }
    }

    [Theory]
    [InlineData("can be reached from other machines", "--listen", "0.0.0.0:7443")]
    [InlineData("is no address and port", "--listen", "marram")]
    [InlineData("is no address and port", "--listen", "::")]
    [InlineData("there is no file", "--listen", "0.0.0.0:7443", "--certificate", "/nowhere.pem")]
    [InlineData("name the proxy with --trusted-proxy", "--proxy-name-header", "X-Name")]
    [InlineData("is no address of a proxy", "--trusted-proxy", "marram.example")]
    [InlineData("is no address that people could call", "--url", "marram.example")]
    public async Task What_would_leave_it_open_does_not_start(string why, params string[] options)
    {
        await using var stack = await DemoStack.StartAsync(tiny: true, empty: true);
        var folder = Path.Combine(stack.Work, "second");
        var (status, error) = await stack.SecondServiceAsync(["--data", folder, "--port", "0", .. options]);
        Assert.Equal(3, status);
        Assert.Contains(why, error);
    }

    [Fact]
    public async Task A_trusted_proxy_says_where_a_call_came_from_and_who_was_signed_in_and_nobody_else_does()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true, options: _ =>
            ["--trusted-proxy", "127.0.0.1", "--proxy-name-header", "X-Signed-In", "--hosts", Name]
        );
        await InviteAsync(stack, "Iris Vane", "look", "administer");
        using var proxy = Http(stack.Port, null);
        proxy.DefaultRequestHeaders.Add("X-Forwarded-For", "198.51.100.7");
        proxy.DefaultRequestHeaders.Add("X-Forwarded-Proto", "https");

        // Whoever comes from elsewhere does not come in by this machine's key, nor by a name that nobody has.
        proxy.DefaultRequestHeaders.Authorization = new("Bearer", stack.Key);
        Assert.Equal(HttpStatusCode.Unauthorized, (await proxy.GetAsync("/api/me")).StatusCode);
        proxy.DefaultRequestHeaders.Authorization = null;
        Assert.Equal(HttpStatusCode.Unauthorized, (await AsAsync(proxy, "Nobody Known")).StatusCode);

        var me = await Good(AsAsync(proxy, "Iris Vane"));
        Assert.Equal("Iris Vane", (string?)me["name"]);
        // A proxy's sign-in goes along with every call, from whatever page: what changes something needs more.
        using var call = new HttpRequestMessage(HttpMethod.Post, "/api/people")
        {
            Headers = { { "X-Signed-In", "Iris Vane" } },
        };
        call.Content = JsonContent.Create(new { name = "Odo Marsh", roles = new[] { "look" } });
        Assert.Equal(HttpStatusCode.Forbidden, (await proxy.SendAsync(call)).StatusCode);
        using var meant = new HttpRequestMessage(HttpMethod.Post, "/api/people")
        {
            Headers = { { "X-Signed-In", "Iris Vane" } },
        };
        meant.Headers.Add("Tide-Step-Session", (string)me["session"]!);
        meant.Content = JsonContent.Create(new { name = "Odo Marsh", roles = new[] { "look" } });
        await Good(proxy.SendAsync(meant));

        // The record says where it came from; and what somebody says of themselves without a proxy counts nothing.
        using var direct = Http(stack.Port, null, host: "127.0.0.1");
        Assert.Equal(HttpStatusCode.Unauthorized, (await AsAsync(direct, "Iris Vane")).StatusCode);
        var record = await stack.Service.GetStringAsync("/api/record?by=Iris%20Vane");
        Assert.Contains("198.51.100.7", record);
    }

    private static Task<HttpResponseMessage> AsAsync(HttpClient http, string name)
    {
        var call = new HttpRequestMessage(HttpMethod.Get, "/api/me") { Headers = { { "X-Signed-In", name } } };
        return http.SendAsync(call);
    }

    [Fact]
    public async Task Three_hundred_that_never_say_what_they_want_keep_nobody_out()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        var slow = new List<TcpClient>();
        for (var i = 0; i < 300; i++)
        {
            var client = new TcpClient();
            await client.ConnectAsync(IPAddress.Loopback, stack.Port);
            await client.GetStream().WriteAsync("GET /api/estate HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: "u8.ToArray());
            slow.Add(client);
        }
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        Assert.Equal(HttpStatusCode.OK, (await stack.Service.GetAsync("/api/estate", limit.Token)).StatusCode);
        // They are let go by themselves.
        var ended = new byte[512];
        using var patience = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        while (await slow[0].GetStream().ReadAsync(ended, patience.Token) > 0)
            continue;
        foreach (var client in slow)
            client.Dispose();
    }
}
