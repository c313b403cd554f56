using System.Net;
using System.Net.Sockets;
using System.Text;

namespace TideStep.Client.Tests;

/// <summary>Answers requests on loopback one after another as a test scripts it, and keeps what was asked.</summary>
internal sealed class ScriptedService : IDisposable
{
    private readonly HttpListener _listener = new();
    private readonly Queue<Func<HttpListenerContext, Task>> _answers = new();

    public ScriptedService()
    {
        using (var free = new TcpListener(IPAddress.Loopback, 0))
        {
            free.Start();
            Address = new Uri($"http://127.0.0.1:{((IPEndPoint)free.LocalEndpoint).Port}/");
        }
        _listener.Prefixes.Add(Address.ToString());
        _listener.Start();
        Serving = ServeAsync();
    }

    public Uri Address { get; }
    public Task Serving { get; }
    public List<(string Method, string Path, Dictionary<string, string> Headers)> Asked { get; } = [];

    public ScriptedService Then(int status, string body, string type = "application/json") =>
        Then(async http =>
        {
            (http.Response.StatusCode, http.Response.ContentType) = (status, type);
            await http.Response.OutputStream.WriteAsync(Encoding.UTF8.GetBytes(body));
            http.Response.Close();
        });

    /// <summary>The connection breaks in the middle of the answer.</summary>
    public ScriptedService ThenBreak(string begun = "", string type = "text/event-stream") =>
        Then(async http =>
        {
            http.Response.ContentType = type;
            if (type == "text/event-stream")
                http.Response.SendChunked = true;
            else
                http.Response.ContentLength64 = 1000;
            await http.Response.OutputStream.WriteAsync(Encoding.UTF8.GetBytes(begun));
            await http.Response.OutputStream.FlushAsync();
            http.Response.Abort();
        });

    public ScriptedService Then(Func<HttpListenerContext, Task> answer)
    {
        _answers.Enqueue(answer);
        return this;
    }

    private async Task ServeAsync()
    {
        while (true)
        {
            HttpListenerContext http;
            try
            {
                http = await _listener.GetContextAsync();
            }
            catch (Exception e) when (e is HttpListenerException or ObjectDisposedException)
            {
                return;
            }
            Asked.Add(
                (
                    http.Request.HttpMethod,
                    http.Request.RawUrl!,
                    http.Request.Headers.AllKeys.ToDictionary(k => k!, k => http.Request.Headers[k]!)
                )
            );
            if (_answers.TryDequeue(out var answer))
                await answer(http);
            else
            {
                http.Response.StatusCode = 418;
                http.Response.Close();
            }
        }
    }

    public void Dispose() => ((IDisposable)_listener).Dispose();
}
