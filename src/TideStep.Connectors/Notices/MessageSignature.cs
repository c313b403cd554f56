using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace TideStep.Connectors.Notices;

/// <summary>Signs an HTTP request with a shared key: HTTP Message Signatures (RFC 9421, hmac-sha256) over method,
/// target, content type and the body's digest (RFC 9530).</summary>
public static class MessageSignature
{
    public const string KeyId = "tidestep";
    private const string Label = "tide";
    private static readonly string[] Covered = ["@method", "@target-uri", "content-type", "content-digest"];

    /// <summary>The headers that a signed request carries.</summary>
    public static IReadOnlyDictionary<string, string> Of(
        string method,
        Uri target,
        string contentType,
        byte[] body,
        byte[] key,
        DateTimeOffset created
    )
    {
        var digest = $"sha-256=:{Convert.ToBase64String(SHA256.HashData(body))}:";
        var parameters =
            $"({string.Join(' ', Covered.Select(c => $"\"{c}\""))});created="
            + $"{created.ToUnixTimeSeconds().ToString(CultureInfo.InvariantCulture)};keyid=\"{KeyId}"
            + $"\";alg=\"hmac-sha256\"";
        var signed = string.Join(
            '\n',
            Covered.Select(c => $"\"{c}\": {Value(c)}").Append($"\"@signature-params\": {parameters}")
        );
        return new Dictionary<string, string>
        {
            ["Content-Digest"] = digest,
            ["Signature-Input"] = $"{Label}={parameters}",
            ["Signature"] =
                $"{Label}=:{Convert.ToBase64String(HMACSHA256.HashData(key, Encoding.UTF8.GetBytes(signed)))}:",
        };

        string Value(string component) =>
            component switch
            {
                "@method" => method,
                "@target-uri" => target.AbsoluteUri,
                "content-type" => contentType,
                _ => digest,
            };
    }
}
