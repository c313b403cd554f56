using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace TideStep.Tests;

/// <summary>A system that takes webhooks on loopback; it can be told to refuse some first.</summary>
internal sealed class WebhookReceiver : IAsyncDisposable
{
    public sealed record Taken(string Path, IReadOnlyDictionary<string, string> Headers, byte[] Body);

    private readonly HttpListener _listener = new();
    private readonly Task _serving;

    public WebhookReceiver()
    {
        using (var free = new TcpListener(IPAddress.Loopback, 0))
        {
            free.Start();
            Address = new Uri($"http://127.0.0.1:{((IPEndPoint)free.LocalEndpoint).Port}/tide");
        }
        _listener.Prefixes.Add($"http://127.0.0.1:{Address.Port}/");
        _listener.Start();
        _serving = ServeAsync();
    }

    public Uri Address { get; }

    /// <summary>How many are refused before one is taken.</summary>
    public int Refuses { get; set; }
    public int Refused { get; private set; }
    public ConcurrentQueue<Taken> Took { get; } = new();
    private readonly SemaphoreSlim _more = new(0);

    private async Task ServeAsync()
    {
        while (true)
        {
            HttpListenerContext context;
            try
            {
                context = await _listener.GetContextAsync();
            }
            catch (Exception e) when (e is HttpListenerException or InvalidOperationException)
            {
                return;
            } // it was stopped
            using var body = new MemoryStream();
            await context.Request.InputStream.CopyToAsync(body);
            var refuse = Refused < Refuses;
            if (refuse)
                Refused++;
            else
                Took.Enqueue(
                    new Taken(
                        context.Request.Url!.AbsolutePath,
                        context.Request.Headers.AllKeys.ToDictionary(
                            k => k!.ToLowerInvariant(),
                            k => context.Request.Headers[k]!
                        ),
                        body.ToArray()
                    )
                );
            context.Response.StatusCode = refuse ? 503 : 202;
            context.Response.Close();
            _more.Release();
        }
    }

    /// <summary>Waits until so many were taken that fulfil a condition.</summary>
    public async Task UntilAsync(Func<IReadOnlyCollection<Taken>, bool> enough)
    {
        while (!enough([.. Took]))
            Assert.True(
                await _more.WaitAsync(TimeSpan.FromSeconds(60)),
                $"only {Took.Count} were sent: {string.Join(" ", Took.Select(t => Encoding.UTF8.GetString(t.Body)))}"
            );
    }

    public async ValueTask DisposeAsync()
    {
        _listener.Stop();
        await _serving;
        _listener.Close();
        _more.Dispose();
    }
}

/// <summary>A mail server on loopback that takes everything (RFC 5321, the few commands that a sender needs).</summary>
internal sealed class MailReceiver : IAsyncDisposable
{
    private readonly TcpListener _listener = new(IPAddress.Loopback, 0);
    private readonly Task _serving;

    public MailReceiver()
    {
        _listener.Start();
        _serving = ServeAsync();
    }

    public int Port => ((IPEndPoint)_listener.LocalEndpoint).Port;

    /// <summary>Who is refused, with the status 550.</summary>
    public string? Refuses { get; set; }
    public ConcurrentQueue<(string[] To, string Text)> Took { get; } = new();
    private readonly SemaphoreSlim _more = new(0);

    private async Task ServeAsync()
    {
        while (true)
        {
            TcpClient client;
            try
            {
                client = await _listener.AcceptTcpClientAsync();
            }
            catch (Exception e) when (e is SocketException or InvalidOperationException)
            {
                return;
            } // it was stopped
            using (client)
                try
                {
                    await TalkAsync(client);
                }
                catch (IOException)
                { /* the sender left */
                }
        }
    }

    private async Task TalkAsync(TcpClient client)
    {
        using var reader = new StreamReader(client.GetStream(), Encoding.UTF8);
        await using var writer = new StreamWriter(client.GetStream(), new UTF8Encoding(false))
        {
            NewLine = "\r\n",
            AutoFlush = true,
        };
        await writer.WriteLineAsync("220 harbour ready");
        var to = new List<string>();
        while (await reader.ReadLineAsync() is { } line)
        {
            switch (line.Split(' ', ':')[0].ToUpperInvariant())
            {
                case "EHLO" or "HELO":
                    await writer.WriteLineAsync("250 harbour");
                    break;
                case "RCPT":
                    var person = line[(line.IndexOf('<') + 1)..line.IndexOf('>')];
                    if (person == Refuses)
                    {
                        await writer.WriteLineAsync("550 nobody of that name");
                        break;
                    }
                    to.Add(person);
                    await writer.WriteLineAsync("250 ok");
                    break;
                case "DATA":
                    await writer.WriteLineAsync("354 go on");
                    var text = new StringBuilder();
                    while (await reader.ReadLineAsync() is { } part && part != ".")
                        text.AppendLine(part);
                    Took.Enqueue(([.. to], text.ToString()));
                    to.Clear();
                    await writer.WriteLineAsync("250 taken");
                    _more.Release();
                    break;
                case "QUIT":
                    await writer.WriteLineAsync("221 bye");
                    return;
                default:
                    await writer.WriteLineAsync("250 ok");
                    break;
            }
        }
    }

    public async Task UntilAsync(int count)
    {
        while (Took.Count < count)
            Assert.True(await _more.WaitAsync(TimeSpan.FromSeconds(60)), $"only {Took.Count} mails were sent");
    }

    public async ValueTask DisposeAsync()
    {
        _listener.Stop();
        await _serving;
        _more.Dispose();
    }
}
