using System.Security.Cryptography;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Engine.People;

/// <summary>Keeps the files that people sign with, each once by its checksum.</summary>
public sealed class EvidenceFiles(IDocumentStore store, TimeProvider time)
{
    private const string Kind = "evidence";

    /// <summary>The largest file that is kept, in bytes.</summary>
    public const int Most = 5 * 1024 * 1024;

    /// <summary>Keeps a file; refused where it is larger than <see cref="Most"/>.</summary>
    /// <param name="name">Its name; folders before it are left out.</param>
    /// <param name="content">Its bytes.</param>
    /// <param name="by">Who signs with it.</param>
    public async Task<Checked<EvidenceFile>> KeepAsync(string name, byte[] content, string by, CancellationToken ct)
    {
        if (content.Length > Most)
            return new Checked<EvidenceFile>(
                null,
                [
                    new Problem(
                        $"{name} is larger than {Core.Expressions.Units.WriteBytes(Most)}",
                        null,
                        "Keep the part that shows it."
                    ),
                ]
            );
        var kept = new EvidenceFile(
            Path.GetFileName(name.Replace('\\', '/')),
            content.Length,
            Convert.ToHexStringLower(SHA256.HashData(content))
        );
        await store.SaveAsync(
            [
                new StoredDocument(
                    Kind,
                    kept.Sha256,
                    0,
                    kept.Sha256,
                    Convert.ToBase64String(content),
                    time.GetUtcNow(),
                    by
                ),
            ],
            ct
        );
        return new Checked<EvidenceFile>(kept, []);
    }

    /// <summary>A file by its checksum; null where there is none.</summary>
    public async Task<byte[]?> FindAsync(string sha256, CancellationToken ct) =>
        await store.FindAsync(Kind, sha256, ct) is { } kept ? Convert.FromBase64String(kept.Body) : null;
}
