using System.Numerics;

namespace TideStep.Core.Versions;

/// <summary>How a product orders its version labels.</summary>
public enum SchemeKind
{
    Dotted,
    Semver,
    Deb,
    Rpm,
    Date,
    Listed,
}

/// <summary>One version: the label as written, parsed once by its product's scheme. Ordered and equal by the scheme,
/// not by the text.</summary>
public sealed class Version : IComparable<Version>, IEquatable<Version>
{
    internal Version(string label, VersionScheme scheme, IVersionKey key) =>
        (Label, Scheme, Key) = (label, scheme, key);

    /// <summary>The label exactly as written; always kept and shown.</summary>
    public string Label { get; }

    /// <summary>The scheme that parsed the label.</summary>
    public VersionScheme Scheme { get; }

    internal IVersionKey Key { get; }

    /// <summary>The label's numbers and words by the dotted split, for major, minor and prefix questions under every
    /// scheme.</summary>
    internal DottedKey Split =>
        _split ??= Key as DottedKey ?? DottedKey.Parse(Scheme.WithoutEpoch(Label), Scheme.EarlyWords);
    private DottedKey? _split;

    /// <summary>The first number of the label, words before it passed over; null where the label has no
    /// number.</summary>
    public BigInteger? Major => _major ??= Split.Major;
    private BigInteger? _major;

    /// <summary>The part after the major if that is a number, else 0; null where the label has no number.</summary>
    public BigInteger? Minor => _minor ??= Split.Minor;
    private BigInteger? _minor;

    public int CompareTo(Version? other) => other is null ? 1 : Key.CompareTo(other.Key);

    public bool Equals(Version? other) => other is not null && CompareTo(other) == 0;

    public override bool Equals(object? obj) => Equals(obj as Version);

    public override int GetHashCode() => Key.GetHashCode();

    public override string ToString() => Label;

    public static bool operator <(Version a, Version b) => a.CompareTo(b) < 0;

    public static bool operator >(Version a, Version b) => a.CompareTo(b) > 0;

    public static bool operator <=(Version a, Version b) => a.CompareTo(b) <= 0;

    public static bool operator >=(Version a, Version b) => a.CompareTo(b) >= 0;
}

/// <summary>The parsed, comparable form of a label; hash codes agree with equality.</summary>
internal interface IVersionKey
{
    int CompareTo(IVersionKey other);
}
