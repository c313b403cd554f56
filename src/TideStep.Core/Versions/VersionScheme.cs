using System.Collections.Immutable;

namespace TideStep.Core.Versions;

/// <summary>A product's way of reading and ordering version labels (3-planning, Versions).</summary>
public sealed class VersionScheme
{
    /// <summary>The words that make a dotted version an early one, unless the product lists its own; in their
    /// order.</summary>
    public static readonly ImmutableArray<string> DefaultEarlyWords =
    [
        "dev",
        "snapshot",
        "nightly",
        "alpha",
        "beta",
        "milestone",
        "pre",
        "preview",
        "ea",
        "rc",
    ];

    /// <summary>The default scheme with the default early words.</summary>
    public static readonly VersionScheme Dotted = new(SchemeKind.Dotted);

    private readonly Dictionary<string, int> _listed = [];

    public VersionScheme(
        SchemeKind kind,
        ImmutableArray<string> earlyWords = default,
        IEnumerable<string>? listed = null
    )
    {
        Kind = kind;
        EarlyWords = earlyWords.IsDefaultOrEmpty
            ? DefaultEarlyWords
            : [.. earlyWords.Select(w => w.ToLowerInvariant())];
        foreach (var label in listed ?? [])
            _listed.TryAdd(label.Trim(), _listed.Count);
    }

    public SchemeKind Kind { get; }

    public ImmutableArray<string> EarlyWords { get; }

    /// <summary>Reads a label; null where the scheme can't (a semver label with letters in its core, an empty
    /// text).</summary>
    public Version? TryParse(string label)
    {
        if (string.IsNullOrWhiteSpace(label))
            return null;
        label = label.Trim();
        IVersionKey? key = Kind switch
        {
            SchemeKind.Semver => SemverKey.Parse(label),
            SchemeKind.Deb => DebKey.Parse(label),
            SchemeKind.Rpm => RpmKey.Parse(label),
            SchemeKind.Listed => new ListedKey(_listed.GetValueOrDefault(label, int.MaxValue), label),
            _ => DottedKey.Parse(label, EarlyWords) is { Parts.Length: > 0 } dotted ? dotted : null,
        };
        return key is null ? null : new Version(label, this, key);
    }

    internal string WithoutEpoch(string label) =>
        Kind is SchemeKind.Deb or SchemeKind.Rpm ? Epoch.Split(label).Label : label;

    /// <summary>Whether <paramref name="version"/> is an early version of <paramref name="bound"/> (a release candidate
    /// of 7 for the bound 7).</summary>
    internal bool IsEarlyOf(Version version, Version bound) =>
        (version.Key, bound.Key) switch
        {
            (DottedKey v, DottedKey b) => v.IsEarlyOf(b),
            (SemverKey v, SemverKey b) => v.IsEarlyOf(b),
            (DebKey or RpmKey, DebKey or RpmKey) => version.Label.StartsWith(
                bound.Label + "~",
                StringComparison.Ordinal
            ),
            _ => false,
        };

    internal bool IsEarly(Version version) =>
        version.Key switch
        {
            DottedKey v => v.HasEarlyWord,
            SemverKey v => v.IsEarly,
            DebKey or RpmKey => version.Label.Contains('~'),
            _ => false,
        };
}
