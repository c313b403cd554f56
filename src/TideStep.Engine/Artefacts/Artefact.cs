using System.Collections.Immutable;

namespace TideStep.Engine.Artefacts;

/// <summary>A file of the library, as it was when it came in.</summary>
/// <param name="Name">Its name, under which catalogue and steps know it.</param>
/// <param name="Sha256">Its checksum, in hexadecimal.</param>
/// <param name="Origin">Where it came from: an address, a folder, or who uploaded it.</param>
/// <param name="Changed">When the file was last written; a file written later is looked at anew.</param>
public sealed record Artefact(
    string Name,
    long Bytes,
    string Sha256,
    string Origin,
    string Kind,
    DateTimeOffset Added,
    string By,
    DateTimeOffset Changed
)
{
    /// <summary>The version that it brings, where somebody said.</summary>
    public string? Version { get; init; }

    /// <summary>The host variant that it is for, where somebody said.</summary>
    public string? Variant { get; init; }

    /// <summary>Its maker's signature, where one came with it; kept beside it and shown, not judged.</summary>
    public string? Signature { get; init; }

    /// <summary>Nodes on which it lies ready, verified there, and when.</summary>
    public ImmutableSortedDictionary<string, DateTimeOffset> Staged { get; init; } =
        ImmutableSortedDictionary<string, DateTimeOffset>.Empty;

    /// <summary>What kind of file a name tells of.</summary>
    public static string KindOf(string name) =>
        Path.GetExtension(name).ToLowerInvariant() switch
        {
            ".deb" or ".rpm" => "package",
            ".iso" or ".img" or ".qcow2" or ".raw" => "image",
            ".patch" or ".diff" => "patch",
            ".lic" or ".key" => "licence",
            ".tar" or ".gz" or ".tgz" or ".zip" or ".xz" or ".zst" => "archive",
            _ => "file",
        };
}

/// <summary>What comes with a file: where from, by whom, and what it must be.</summary>
/// <param name="Sha256">What its checksum must be; null where nobody said.</param>
public sealed record Incoming(string Name, string Origin, string By, string? Sha256)
{
    public string? Version { get; init; }
    public string? Variant { get; init; }
    public string? Signature { get; init; }
}
