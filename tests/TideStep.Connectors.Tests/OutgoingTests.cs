using System.Net;
using TideStep.Connectors.Notices;
using TideStep.Tests;

namespace TideStep.Connectors.Tests;

/// <summary>Calls to addresses that somebody names: where they never go.</summary>
public sealed class OutgoingTests
{
    [Theory]
    [InlineData("http://169.254.169.254/latest", "own link")]
    [InlineData("http://[fe80::1]/", "own link")]
    [InlineData("http://[::ffff:169.254.169.254]/", "own link")]
    [InlineData("http://[fd00:ec2::254]/", "own host")]
    [InlineData("http://0.0.0.0/", "no address")]
    [InlineData("http://127.0.0.1:7470/api/secrets", "this service")]
    [InlineData("http://[::1]:7470/", "this service")]
    public async Task What_is_never_called_is_refused_before_anything_is_sent(string address, string why)
    {
        using var http = new HttpClient(Outgoing.Handler([7470]));
        var refused = await Assert.ThrowsAnyAsync<HttpRequestException>(() => http.GetAsync(new Uri(address)));
        Assert.Contains(why, $"{refused.Message} {refused.InnerException?.Message}");
    }

    [Fact]
    public async Task A_name_that_leads_there_is_refused_and_one_that_changes_is_called_where_it_was_looked_at()
    {
        await using var receiver = new WebhookReceiver();
        var asked = 0;
        Task<IPAddress[]> Resolve(string name, CancellationToken ct) =>
            Task.FromResult(
                name == "metadata.marram.example" || asked++ > 0
                    ? new[] { IPAddress.Parse("169.254.169.254") }
                    : [IPAddress.Loopback]
            );
        using var http = new HttpClient(Outgoing.Handler([7470], Resolve));
        await Assert.ThrowsAnyAsync<HttpRequestException>(() =>
            http.GetAsync(new Uri("http://metadata.marram.example/"))
        );
        var there = new Uri($"http://desk.marram.example:{receiver.Address.Port}/tide");
        using var call = new HttpRequestMessage(HttpMethod.Post, there) { Content = new StringContent("x") };
        call.Headers.Host = receiver.Address.Authority; // the receiver answers to no other name
        Assert.True((await http.SendAsync(call)).IsSuccessStatusCode);
        Assert.Single(receiver.Took);
        Assert.Equal(1, asked);
    }

    [Fact]
    public async Task A_signed_body_goes_where_it_was_meant_to_and_no_further()
    {
        await using var receiver = new WebhookReceiver();
        using var listener = new HttpListener();
        var port = receiver.Address.Port;
        var leading = FreePort();
        listener.Prefixes.Add($"http://127.0.0.1:{leading}/");
        listener.Start();
        var serving = Task.Run(async () =>
        {
            var context = await listener.GetContextAsync();
            context.Response.StatusCode = 307;
            context.Response.RedirectLocation = $"http://127.0.0.1:{port}/tide";
            context.Response.Close();
        });
        using var http = new HttpClient(Outgoing.Handler([7470]));
        var folder = Directory.CreateTempSubdirectory("tidestep-outgoing").FullName;
        var said = await new WebhookSender(http, new Secrets(folder), TimeProvider.System).SendAsync(
            new Uri($"http://127.0.0.1:{leading}/"),
            null,
            "{}",
            default
        );
        await serving;
        Assert.Equal("127.0.0.1 answered 307", said);
        Assert.Empty(receiver.Took);
        Directory.Delete(folder, true);
    }

    private static int FreePort()
    {
        using var free = new System.Net.Sockets.TcpListener(IPAddress.Loopback, 0);
        free.Start();
        return ((IPEndPoint)free.LocalEndpoint).Port;
    }
}
