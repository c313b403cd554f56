using System.Diagnostics;
using System.Net;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using TideStep.Client;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli;

/// <summary>Signs in by a browser: the one beside, which hands a last piece over to an address of this machine, or any
/// other, in which a code is said.</summary>
public static class LetIn
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(1);

    /// <summary>Whether there is a browser beside.</summary>
    public static bool HasBrowser =>
        new[] { "DISPLAY", "WAYLAND_DISPLAY" }.Any(v => Environment.GetEnvironmentVariable(v) is { Length: > 0 })
        && OpenerOf() is not null;

    // What opens an address here: as the environment says, or as desktops have it.
    private static string? OpenerOf() =>
        Environment.GetEnvironmentVariable("BROWSER") is { Length: > 0 } named
            ? named
            : (Environment.GetEnvironmentVariable("PATH") ?? "")
                .Split(':')
                .Select(p => Path.Combine(p, "xdg-open"))
                .FirstOrDefault(File.Exists);

    /// <summary>Asks, says where it can be let in, and waits until it was.</summary>
    /// <returns>What is shown to the service from then on.</returns>
    /// <exception cref="RefusedException">It was not let in, or the code is over.</exception>
    public static async Task<string> AskAsync(ServiceClient client, bool beside, CancellationToken ct)
    {
        var verifier = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        var challenge = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(verifier)));
        using var listener = beside ? Listen() : null;
        var asked = (
            await client.PostAsync(
                "/api/entries",
                new
                {
                    challenge,
                    program = $"tidestep on {Environment.MachineName}",
                    here = beside,
                },
                ct
            )
        ).Deserialize<AskedInView>(Json.Options)!;
        var address = listener is null
            ? asked.Address
            : $"{asked.Address}&back={new Uri(listener.Prefixes.First()).Port}";
        Console.Error.WriteLine($"Open {address}\nand let in {asked.Code}. The code counts for ten minutes.");
        string? piece = null;
        if (listener is not null)
        {
            Open(address);
            piece = await PieceAsync(listener, ct);
        }
        while (true)
        {
            var answer = await client.PostAsync($"/api/entries/{asked.Code}/key", new { verifier, piece }, ct);
            if (answer.Deserialize<SignedIn>(Json.Options)?.Key is { } key)
                return key;
            await Task.Delay(Every, ct);
        }
    }

    // A port that nobody has; it is taken by name, for a listener does not choose one itself.
    private static HttpListener Listen()
    {
        for (var tries = 0; ; tries++)
        {
            var listener = new HttpListener();
            listener.Prefixes.Add($"http://127.0.0.1:{RandomNumberGenerator.GetInt32(20_000, 60_000)}/");
            try
            {
                listener.Start();
                return listener;
            }
            catch (HttpListenerException) when (tries < 20)
            {
                listener.Close();
            }
        }
    }

    private static void Open(string address)
    {
        if (OpenerOf() is not { } opener)
            return;
        var start = new ProcessStartInfo(opener, [address])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        try
        {
            using var process = Process.Start(start);
        }
        catch (System.ComponentModel.Win32Exception)
        { /* the address was said above */
        }
    }

    private static async Task<string?> PieceAsync(HttpListener listener, CancellationToken ct)
    {
        while (true)
        {
            var context = await listener.GetContextAsync().WaitAsync(ct);
            var piece = context.Request.QueryString["piece"];
            context.Response.StatusCode = piece is null ? 404 : 200;
            context.Response.ContentType = "text/plain; charset=utf-8";
            var said = Encoding.UTF8.GetBytes("You are signed in: go on in the terminal. This page may be closed.");
            await context.Response.OutputStream.WriteAsync(said, ct);
            context.Response.Close();
            if (piece is not null)
                return piece;
        }
    }
}
