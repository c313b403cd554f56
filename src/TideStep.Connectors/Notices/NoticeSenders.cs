using System.Text;
using MailKit.Net.Smtp;
using MailKit.Security;
using MimeKit;
using TideStep.Core.Notices;

namespace TideStep.Connectors.Notices;

/// <summary>Sends an event to a system as CloudEvents in structured mode, signed.</summary>
public sealed class WebhookSender(HttpClient http, Secrets secrets, TimeProvider time)
{
    private const string ContentType = "application/cloudevents+json; charset=utf-8";
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    /// <summary>Sends it once; null when it was taken, else why not.</summary>
    /// <param name="body">The event as JSON.</param>
    public async Task<string?> SendAsync(Uri address, string? secret, string body, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            var bytes = Encoding.UTF8.GetBytes(body);
            using var request = new HttpRequestMessage(HttpMethod.Post, address)
            {
                Content = new ByteArrayContent(bytes),
            };
            request.Content.Headers.TryAddWithoutValidation("Content-Type", ContentType);
            if (secret is not null)
                foreach (
                    var (name, value) in MessageSignature.Of(
                        "POST",
                        address,
                        ContentType,
                        bytes,
                        KeyOf(secret),
                        time.GetUtcNow()
                    )
                )
                    if (!request.Headers.TryAddWithoutValidation(name, value))
                        request.Content.Headers.TryAddWithoutValidation(name, value);
            using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, limit.Token);
            return response.IsSuccessStatusCode ? null : $"{address.Host} answered {(int)response.StatusCode}";
        }
        catch (HttpRequestException e)
        {
            return $"{address.Host} does not answer: {e.Message}";
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            return $"{address.Host} did not answer within {Patience.TotalSeconds:0} s";
        }
        catch (ConnectorException e)
        {
            return e.Problem.What;
        }
    }

    // A line's end behind the key is of the file that it was written into, not of the key: the receiver would reckon
    // without it.
    private byte[] KeyOf(string secret) =>
        secrets.BytesOf(secret) is var key && key is [.., (byte)'\n'] ? key[..^1] : key;
}

/// <summary>Sends mail over SMTP.</summary>
public sealed class MailSender(Secrets secrets)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    /// <summary>Sends it once to all; null when the server took it, else why not.</summary>
    /// <param name="id">A name of the message that stays the same when it is sent again.</param>
    /// <param name="invitation">An invitation as iCalendar, or null.</param>
    public async Task<string?> SendAsync(
        MailSettings settings,
        IReadOnlyList<string> people,
        string id,
        string subject,
        string text,
        string? invitation,
        CancellationToken ct
    )
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            using var message = new MimeMessage { Subject = subject, MessageId = $"{id}@tidestep" };
            message.From.Add(MailboxAddress.Parse(settings.From));
            foreach (var person in people)
                message.To.Add(MailboxAddress.Parse(person));
            message.Headers.Add("Auto-Submitted", "auto-generated");
            var body = new TextPart("plain") { Text = text };
            message.Body = invitation is null ? body : new MultipartAlternative { body, Calendar(invitation) };
            using var client = new SmtpClient();
            await client.ConnectAsync(
                settings.Host,
                settings.Port,
                settings.Encryption
                    ? settings.Port == 465
                        ? SecureSocketOptions.SslOnConnect
                        : SecureSocketOptions.StartTls
                    : SecureSocketOptions.None,
                limit.Token
            );
            if (settings is { Account: { } account, Password: { } password })
                await client.AuthenticateAsync(account, secrets.TextOf(password).TrimEnd('\n'), limit.Token);
            await client.SendAsync(message, limit.Token);
            await client.DisconnectAsync(true, limit.Token);
            return null;
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            return $"{settings.Host} did not answer within {Patience.TotalSeconds:0} s";
        }
        catch (ConnectorException e)
        {
            return e.Problem.What;
        }
        catch (Exception e)
            when (e
                    is MailKit.ServiceNotConnectedException
                        or MailKit.CommandException
                        or MailKit.ProtocolException
                        or AuthenticationException
                        or SslHandshakeException
                        or IOException
                        or System.Net.Sockets.SocketException
                        or ParseException
                        or NotSupportedException
            )
        {
            return $"{settings.Host}: {e.Message.Split('\n')[0].Trim()}";
        }
    }

    private static TextPart Calendar(string invitation)
    {
        var part = new TextPart("calendar") { Text = invitation };
        part.ContentType.Parameters.Add("method", "REQUEST");
        return part;
    }
}
