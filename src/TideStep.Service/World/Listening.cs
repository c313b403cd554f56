using Microsoft.AspNetCore.Server.Kestrel.Core;
using Microsoft.AspNetCore.Server.Kestrel.Https;

namespace TideStep.Service.World;

/// <summary>What the service listens on: loopback, and the doors to the network.</summary>
public static class Listening
{
    // Whoever takes longer to say what they want gives their place to others.
    private static readonly TimeSpan HeadersLimit = TimeSpan.FromSeconds(15);

    public static void Configure(KestrelServerOptions kestrel, ServiceSettings settings, ServedCertificate? certificate)
    {
        (kestrel.Limits.MaxRequestBodySize, kestrel.AddServerHeader) = (64L * 1024 * 1024, false);
        kestrel.Limits.RequestHeadersTimeout = HeadersLimit;
        kestrel.Limits.MaxConcurrentConnections = 10_000;
        kestrel.ListenLocalhostOnly(settings.Port);
        foreach (var place in settings.Doors.Listen)
            kestrel.Listen(place, listen =>
            {
                if (certificate is not null)
                    listen.UseHttps(
                        new TlsHandshakeCallbackOptions
                        {
                            OnConnection = _ => ValueTask.FromResult(certificate.Current()),
                            HandshakeTimeout = HeadersLimit,
                        }
                    );
            });
    }

    private static void ListenLocalhostOnly(this KestrelServerOptions kestrel, int port) =>
        kestrel.Listen(System.Net.IPAddress.Loopback, port);
}
