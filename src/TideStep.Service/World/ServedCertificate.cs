using System.Net.Security;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace TideStep.Service.World;

/// <summary>The certificate that is shown to callers, from PEM files; when they change, the new one is shown from the
/// next connection on. Where the new one can't be used, the one before stays.</summary>
/// <param name="file">The certificate, and what leads to its authority.</param>
/// <param name="keyFile">Its key.</param>
/// <param name="log">Told of one that can't be used.</param>
public sealed class ServedCertificate(string file, string keyFile, TimeProvider time, Action<string> log)
{
    private static readonly TimeSpan Looked = TimeSpan.FromSeconds(1);
    private readonly Lock _gate = new();
    private (DateTime, DateTime) _seen;
    private long _lookedAt;
    private SslServerAuthenticationOptions? _current;

    /// <summary>The names that it is for; the service answers to them.</summary>
    public IReadOnlyList<string> Names { get; private set; } = [];

    /// <summary>Reads the files.</summary>
    /// <exception cref="FormatException">They hold no certificate with its key, in words.</exception>
    public void Open()
    {
        _seen = SeenNow();
        _lookedAt = time.GetTimestamp();
        var (options, leaf) = Read();
        if (leaf.NotAfter.ToUniversalTime() < time.GetUtcNow().UtcDateTime)
            log($"the certificate {file} ended at {leaf.NotAfter.ToUniversalTime():u}: callers will refuse it");
        (_current, Names) = (options, NamesOf(leaf));
    }

    /// <summary>What to show to the next caller.</summary>
    public SslServerAuthenticationOptions Current()
    {
        lock (_gate)
        {
            if (time.GetElapsedTime(_lookedAt) < Looked)
                return _current!;
            _lookedAt = time.GetTimestamp();
            if (SeenNow() is var now && now == _seen)
                return _current!;
            // Whoever renews it writes one file after the other: what does not fit yet is looked at again.
            try
            {
                var (options, leaf) = Read();
                (_current, Names, _seen) = (options, NamesOf(leaf), now);
            }
            catch (FormatException e)
            {
                log(e.Message);
            }
            return _current!;
        }
    }

    private (DateTime, DateTime) SeenNow() => (File.GetLastWriteTimeUtc(file), File.GetLastWriteTimeUtc(keyFile));

    private (SslServerAuthenticationOptions, X509Certificate2) Read()
    {
        try
        {
            var leaf = X509Certificate2.CreateFromPemFile(file, keyFile);
            var all = new X509Certificate2Collection();
            all.ImportFromPemFile(file);
            var above = new X509Certificate2Collection(all.Where(c => c.Thumbprint != leaf.Thumbprint).ToArray());
            return (
                new SslServerAuthenticationOptions
                {
                    ServerCertificateContext = SslStreamCertificateContext.Create(leaf, above, offline: true),
                    EnabledSslProtocols = SslProtocols.Tls12 | SslProtocols.Tls13,
                    ApplicationProtocols = [SslApplicationProtocol.Http2, SslApplicationProtocol.Http11],
                },
                leaf
            );
        }
        catch (Exception e) when (e is CryptographicException or ArgumentException or IOException)
        {
            throw new FormatException($"{file} with {keyFile} is no certificate with its key: {e.Message}", e);
        }
        catch (UnauthorizedAccessException e)
        {
            throw new FormatException($"the certificate can't be read: {e.Message}", e);
        }
    }

    private static List<string> NamesOf(X509Certificate2 leaf) =>
        leaf
            .Extensions.OfType<X509SubjectAlternativeNameExtension>()
            .SelectMany(e => e.EnumerateDnsNames())
            .Where(n => !n.Contains('*', StringComparison.Ordinal))
            .ToList();
}
