using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;

namespace TideStep.Connectors;

/// <summary>Calls to addresses that people and documents name (11-access): no answer leads further, and neither this
/// service itself nor what only a machine's own link can reach is called, by whatever name.</summary>
public static class Outgoing
{
    // Some hosts tell their keys to whoever asks there (an address of the unique local range).
    private static readonly IPAddress HostsOwn = IPAddress.Parse("fd00:ec2::254");

    /// <summary>Makes connections to addresses that were looked at: what a name stands for is asked once, and that is
    /// what is called.</summary>
    /// <param name="own">The ports that this service listens on.</param>
    /// <param name="resolve">What a name stands for; the machine's resolver where null.</param>
    public static SocketsHttpHandler Handler(
        IReadOnlyCollection<int> own,
        Func<string, CancellationToken, Task<IPAddress[]>>? resolve = null
    ) =>
        new()
        {
            AllowAutoRedirect = false,
            UseCookies = false,
            UseProxy = false,
            PooledConnectionLifetime = TimeSpan.FromMinutes(5),
            ConnectTimeout = TimeSpan.FromSeconds(20),
            ConnectCallback = (context, ct) =>
                ConnectAsync(context.DnsEndPoint, own, resolve ?? Dns.GetHostAddressesAsync, ct),
        };

    private static async ValueTask<Stream> ConnectAsync(
        DnsEndPoint place,
        IReadOnlyCollection<int> own,
        Func<string, CancellationToken, Task<IPAddress[]>> resolve,
        CancellationToken ct
    )
    {
        var addresses = IPAddress.TryParse(place.Host, out var one) ? [one] : await resolve(place.Host, ct);
        var open = addresses.Where(a => WhyNever(a, place.Port, own) is null).ToArray();
        if (open.Length == 0)
            throw new ForbiddenAddressException(
                addresses.Length == 0
                    ? $"{place.Host} stands for no address"
                    : $"{place.Host} is never called: it stands for {WhyNever(addresses[0], place.Port, own)}"
            );
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(open, place.Port, ct);
            return new NetworkStream(socket, ownsSocket: true);
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    private static string? WhyNever(IPAddress address, int port, IReadOnlyCollection<int> own)
    {
        var plain = address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address;
        return plain.IsIPv6LinkLocal || plain.AddressFamily == AddressFamily.InterNetwork && IsLinkLocal(plain)
                ? $"{plain}, an address of the machine's own link"
            : plain.Equals(HostsOwn) ? $"{plain}, an address of the machine's own host"
            : plain.Equals(IPAddress.Any) || plain.Equals(IPAddress.IPv6Any) ? $"{plain}, which is no address"
            : own.Contains(port) && IsOwn(plain) ? $"{plain}:{port}, which is this service"
            : null;
    }

    // RFC 3927.
    private static bool IsLinkLocal(IPAddress address) => address.GetAddressBytes() is [169, 254, ..];

    private static bool IsOwn(IPAddress address) =>
        IPAddress.IsLoopback(address)
        || NetworkInterface
            .GetAllNetworkInterfaces()
            .SelectMany(i => i.GetIPProperties().UnicastAddresses)
            .Any(a => a.Address.Equals(address));
}

/// <summary>An address that is never called, whoever names it.</summary>
public sealed class ForbiddenAddressException(string message) : HttpRequestException(message);
