using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Tests;

namespace TideStep.Connectors.Tests;

/// <summary>An appliance with an HTTP interface of its own, behind TLS with a certificate that it signed
/// itself.</summary>
public sealed class Appliance : IAsyncDisposable, IAsyncLifetime
{
    public const string Token = "quiet-token-8141";

    private WebApplication? _app;
    public string Folder { get; } = Directory.CreateTempSubdirectory("tidestep-appliance").FullName;
    public int Port { get; } = SshServer.FreePort();
    public List<string> Asked { get; } = [];

    public async ValueTask InitializeAsync()
    {
        using var key = RSA.Create(2048);
        var request = new CertificateRequest("CN=localhost", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        var names = new SubjectAlternativeNameBuilder();
        names.AddIpAddress(IPAddress.Loopback);
        request.CertificateExtensions.Add(names.Build());
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        using var made = request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(30));
        File.WriteAllText(Path.Combine(Folder, "authority.pem"), made.ExportCertificatePem());
        using var other = RSA.Create(2048);
        using var stranger = new CertificateRequest(
            "CN=stranger",
            other,
            HashAlgorithmName.SHA256,
            RSASignaturePadding.Pkcs1
        ).CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(30));
        File.WriteAllText(Path.Combine(Folder, "stranger.pem"), stranger.ExportCertificatePem());
        Directory.CreateDirectory(Path.Combine(Folder, "secrets"));
        File.WriteAllText(Path.Combine(Folder, "secrets", "token"), Token + "\n");
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(
                Path.Combine(Folder, "secrets", "token"),
                UnixFileMode.UserRead | UnixFileMode.UserWrite
            );
        var served = X509CertificateLoader.LoadPkcs12(made.Export(X509ContentType.Pkcs12), null);
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseKestrelHttpsConfiguration();
        builder.WebHost.ConfigureKestrel(k => k.Listen(IPAddress.Loopback, Port, l => l.UseHttps(served)));
        _app = builder.Build();
        _app.Use(
            async (http, next) =>
            {
                if (http.Request.Headers.Authorization != $"Bearer {Token}")
                {
                    http.Response.StatusCode = 401;
                    return;
                }
                lock (Asked)
                    Asked.Add($"{http.Request.Method} {http.Request.Path}");
                await next(http);
            }
        );
        _app.MapGet("/status", () => new { load = new[] { new { jobs = 42 } }, words = "many" });
        _app.MapGet("/broken", () => Results.Text("<html>not json"));
        _app.MapPost(
            "/slots/switch",
            (Delegate)(
                async (HttpContext http) =>
                    Results.Text("switched to " + await new StreamReader(http.Request.Body).ReadToEndAsync())
            )
        );
        _app.MapPost("/slots/none", () => Results.Problem("there is no such slot", statusCode: 404));
        _app.MapPost("/hang", async (HttpContext http) =>
        {
            http.Abort();
            await Task.CompletedTask;
        });
        await _app.StartAsync();
    }

    public async ValueTask DisposeAsync()
    {
        if (_app is not null)
            await _app.DisposeAsync();
        Folders.Remove(Folder);
    }
}

/// <summary>The HTTP connector on an appliance.</summary>
public sealed class HttpTests(Appliance appliance) : ReadingContract, IClassFixture<Appliance>, IDisposable
{
    private readonly HttpConnector _connector = new(
        new Secrets(Path.Combine(appliance.Folder, "secrets")),
        appliance.Folder
    );

    protected override string Readings =>
        """
              good: {by: http, url: /status, path: load.0.jobs, unit: count}
              wrong: {by: http, url: /status, path: words, unit: count}
              failing: {by: http, url: /broken, path: x, unit: count}
            """;

    private EstateNode At(int port, string authority = "authority.pem", string token = "secret:token") =>
        Node("http", ("address", $"https://127.0.0.1:{port}"), ("authority", authority), ("token", token));

    protected override Task<(IConnector, EstateNode)?> OpenAsync() =>
        Task.FromResult<(IConnector, EstateNode)?>((_connector, At(appliance.Port)));

    protected override EstateNode Absent(EstateNode node) => At(SshServer.FreePort());

    private Task<Begun> AskAsync(string id, params string[] request) =>
        _connector.BeginAsync(
            At(appliance.Port),
            new FencedAttempt("t1", id, 1, 1, TimeSpan.FromMinutes(1), "app", new FarAction("request", [.. request])),
            TimeSpan.FromSeconds(20),
            CancellationToken.None
        );

    [Fact]
    public async Task A_request_ends_with_what_was_answered()
    {
        var done = (await AskAsync("a1", "POST", "/slots/switch", "{\"slot\": 2}")).Reading!;
        Assert.Equal((AttemptPhase.Ended, 0), (done.Phase, done.ExitCode));
        Assert.Contains("switched to {\"slot\": 2}", done.Output);
        var refused = (await AskAsync("a2", "POST", "/slots/none", "")).Reading!;
        Assert.Equal((AttemptPhase.Ended, 404), (refused.Phase, refused.ExitCode));
    }

    [Fact]
    public async Task A_request_whose_answer_is_lost_is_never_told_as_ended() =>
        Assert.Equal(AttemptPhase.Lost, (await AskAsync("a3", "POST", "/hang", "")).Reading!.Phase);

    [Fact]
    public async Task A_certificate_of_another_authority_is_not_spoken_to()
    {
        var before = appliance.Asked.Count;
        await Assert.ThrowsAsync<ConnectorException>(() =>
            _connector.ReadAsync(
                At(appliance.Port, "stranger.pem"),
                Member,
                Product(Readings),
                [Reading("good")],
                CancellationToken.None
            )
        );
        Assert.Equal(before, appliance.Asked.Count);
    }

    [Fact]
    public async Task Its_token_goes_nowhere_else()
    {
        var e = await Assert.ThrowsAsync<ConnectorException>(() =>
            AskAsync("a4", "POST", $"https://127.0.0.1:{SshServer.FreePort()}/take", "")
        );
        Assert.True(e.Lasting);
        Assert.Contains("leads elsewhere", e.Problem.What);
    }

    [Fact]
    public async Task A_token_that_was_renewed_counts_from_the_next_call_on()
    {
        var (path, whole) = (Path.Combine(appliance.Folder, "secrets", "renewed"), Appliance.Token);
        void Keep(string text)
        {
            File.WriteAllText(path, text);
            if (OperatingSystem.IsLinux())
                File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        }
        Task<Taken> Read() =>
            _connector.ReadAsync(
                At(appliance.Port, token: "secret:renewed"),
                Member,
                Product(Readings),
                [Reading("good")],
                CancellationToken.None
            );
        Keep("an old one");
        Assert.Contains("401", (await Read()).Missed[Reading("good")]);
        Keep(whole);
        Assert.Equal(42, (await Read()).Values[Reading("good")].Number);
    }

    [Fact]
    public async Task Its_token_stands_in_no_message()
    {
        var (_, missed) = await _connector.ReadAsync(
            At(appliance.Port),
            Member,
            Product(Readings),
            [Reading("wrong"), Reading("failing")],
            CancellationToken.None
        );
        Assert.All(missed.Values, why => Assert.DoesNotContain(Appliance.Token, why));
        var e = await Assert.ThrowsAsync<ConnectorException>(() =>
            _connector.ReadAsync(
                At(SshServer.FreePort()),
                Member,
                Product(Readings),
                [Reading("good")],
                CancellationToken.None
            )
        );
        Assert.DoesNotContain(Appliance.Token, e.ToString());
    }

    public void Dispose() => _connector.Dispose();
}
