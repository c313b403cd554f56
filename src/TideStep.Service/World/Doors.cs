using System.Net;

namespace TideStep.Service.World;

/// <summary>Where the service can be called besides loopback, by which names, and through whom (11-access, The service
/// towards the world).</summary>
/// <param name="Listen">Addresses besides the loopback port.</param>
/// <param name="Certificate">The PEM file of the certificate and what leads to its authority; null without TLS.</param>
/// <param name="CertificateKey">The PEM file of the certificate's key; the certificate's own file where null.</param>
/// <param name="Proxies">Who may pass on calls of others, and is believed from where they came.</param>
/// <param name="NameHeader">The header by which those proxies say who was signed in there, or null.</param>
/// <param name="Names">The host names that it answers to, besides its addresses.</param>
/// <param name="Url">The address that people call it by, for links that are sent to them.</param>
public sealed record Doors(
    IReadOnlyList<IPEndPoint> Listen,
    string? Certificate,
    string? CertificateKey,
    IReadOnlyList<IPAddress> Proxies,
    string? NameHeader,
    IReadOnlyList<string> Names,
    Uri? Url
)
{
    /// <summary>No door but loopback.</summary>
    public static Doors None { get; } = new([], null, null, [], null, [], null);

    /// <exception cref="FormatException">One of them is none, or they leave the service open, in words.</exception>
    public static Doors From(IConfiguration configuration)
    {
        var url = configuration["url"] is { } address ? UrlOf(address) : null;
        var doors = new Doors(
            [.. Each(configuration["listen"]).Select(EndPointOf)],
            FileOf(configuration, "certificate"),
            FileOf(configuration, "certificate-key"),
            [.. Each(configuration["trusted-proxy"]).Select(ProxyOf)],
            configuration["proxy-name-header"],
            [.. Each(configuration["hosts"]), .. url is null ? [] : new[] { url.IdnHost }],
            url
        );
        if (doors.Listen.FirstOrDefault(l => !IPAddress.IsLoopback(l.Address)) is { } open)
            if (doors is { Certificate: null, Proxies.Count: 0 })
                throw new FormatException(
                    $"{open} can be reached from other machines, and what is said there could be read: give a "
                        + "--certificate, or name the proxy that has one with --trusted-proxy"
                );
        if (doors is { NameHeader: not null, Proxies.Count: 0 })
            throw new FormatException(
                "who says who was signed in has to be known: name the proxy with --trusted-proxy, or leave "
                    + "--proxy-name-header away"
            );
        return doors is { Certificate: null, CertificateKey: not null }
            ? throw new FormatException("there is a --certificate-key and no --certificate")
            : doors;
    }

    /// <summary>Whether somebody passes on calls of others.</summary>
    public bool IsProxy(IPAddress? from) => from is not null && Proxies.Contains(Plain(from));

    /// <summary>An IPv4 address that came in by an IPv6 door, as what it is.</summary>
    public static IPAddress Plain(IPAddress address) => address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address;

    /// <summary>Whether the service answers to a host name: names that anybody could point at it are none of its
    /// own.</summary>
    /// <param name="host">The name or address in the Host header, without a port.</param>
    /// <param name="local">The address that was called.</param>
    public bool Answers(string host, IPAddress? local)
    {
        if (host is "localhost" or "127.0.0.1" or "[::1]")
            return true;
        return IPAddress.TryParse(host.Trim('[', ']'), out var address)
            ? local is not null && address.Equals(Plain(local))
            : Names.Contains(host, StringComparer.OrdinalIgnoreCase);
    }

    private static string[] Each(string? text) =>
        text?.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries) ?? [];

    private static IPEndPoint EndPointOf(string text) =>
        (text.Contains("]:", StringComparison.Ordinal) || text.Count(c => c == ':') == 1)
        && IPEndPoint.TryParse(text, out var place)
            ? place
            : throw new FormatException(
                $"'{text}' is no address and port: give one like 0.0.0.0:7443 or [::]:7443 with --listen"
            );

    private static IPAddress ProxyOf(string text) =>
        IPAddress.TryParse(text, out var address)
            ? address
            : throw new FormatException($"'{text}' is no address of a proxy: give one like 10.0.0.7");

    private static Uri UrlOf(string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var url) && url.Scheme is "http" or "https" && url.AbsolutePath == "/"
            ? url
            : throw new FormatException(
                $"'{text}' is no address that people could call: give one like https://tide.marram.example"
            );

    private static string? FileOf(IConfiguration configuration, string option) =>
        configuration[option] is not { } file ? null
        : File.Exists(file) ? Path.GetFullPath(file)
        : throw new FormatException($"there is no file {file}: name another with --{option}");
}
