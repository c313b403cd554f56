using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace TideStep.Tests;

/// <summary>An authority of our own that vouches for certificates, in PEM files of a folder.</summary>
public sealed class Vouching : IDisposable
{
    private readonly string _folder;
    private readonly X509Certificate2 _root;

    public Vouching(string folder)
    {
        _folder = folder;
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=Marram test authority", key, HashAlgorithmName.SHA256);
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        var now = DateTimeOffset.UtcNow;
        _root = request.CreateSelfSigned(now.AddYears(-1), now.AddYears(20));
        File.WriteAllText(At("authority.pem"), _root.ExportCertificatePem());
    }

    /// <summary>The PEM file of the authority.</summary>
    public string Authority => At("authority.pem");

    /// <summary>The authority itself.</summary>
    public X509Certificate2 Root => _root;

    /// <summary>Writes a certificate with its key into one PEM file; the same name again takes the place of the one
    /// before.</summary>
    /// <param name="name">The file's name.</param>
    /// <param name="ended">Whether it counted until yesterday.</param>
    /// <param name="names">Host names and addresses that it is for.</param>
    public string Certificate(string name, bool ended, params string[] names)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest($"CN={names[0]}", key, HashAlgorithmName.SHA256);
        var alternative = new SubjectAlternativeNameBuilder();
        foreach (var one in names)
            if (IPAddress.TryParse(one, out var address))
                alternative.AddIpAddress(address);
            else
                alternative.AddDnsName(one);
        request.CertificateExtensions.Add(alternative.Build());
        var now = DateTimeOffset.UtcNow;
        using var made = request.Create(
            _root,
            now.AddMonths(-2),
            ended ? now.AddDays(-1) : now.AddYears(15),
            RandomNumberGenerator.GetBytes(8)
        );
        var next = At($"{name}.next");
        File.WriteAllText(next, made.ExportCertificatePem() + "\n" + key.ExportPkcs8PrivateKeyPem());
        File.Move(next, At(name), overwrite: true);
        return At(name);
    }

    private string At(string name) => Path.Combine(_folder, name);

    public void Dispose() => _root.Dispose();
}
