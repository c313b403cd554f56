using System.Collections.Immutable;
using System.Numerics;
using System.Text.RegularExpressions;

namespace TideStep.Core.Versions;

/// <summary>One part of a dotted label: a number of any length, or a lower-case word.</summary>
internal readonly record struct VersionPart(BigInteger? Number, string Word, int EarlyRank)
{
    public bool IsNumber => Number is not null;
    public bool IsEarly => EarlyRank >= 0;
    public bool IsZero => Number is { IsZero: true };

    // At one place: early words, then a missing part, then other words, then numbers.
    private int Kind => IsEarly ? 0 : IsNumber ? 3 : 2;

    public static int Compare(VersionPart? a, VersionPart? b)
    {
        var kinds = (a?.Kind ?? 1).CompareTo(b?.Kind ?? 1);
        if (kinds != 0 || a is null || b is null) return kinds;
        if (a.Value.IsNumber) return a.Value.Number!.Value.CompareTo(b.Value.Number!.Value);
        return a.Value.IsEarly ? a.Value.EarlyRank.CompareTo(b.Value.EarlyRank) : CompareCodePoints(a.Value.Word, b.Value.Word);
    }

    /// <summary>Compares by code point; ordinal UTF-16 order would put surrogate pairs before some single units.</summary>
    public static int CompareCodePoints(string a, string b)
    {
        using var x = a.EnumerateRunes().GetEnumerator();
        using var y = b.EnumerateRunes().GetEnumerator();
        while (true)
        {
            var more = x.MoveNext();
            if (!y.MoveNext()) return more ? 1 : 0;
            if (!more) return -1;
            var order = x.Current.Value.CompareTo(y.Current.Value);
            if (order != 0) return order;
        }
    }
}

/// <summary>The dotted form of a label: its main parts, and the parts after a plus sign, which serve for comparing only.</summary>
internal sealed partial class DottedKey(ImmutableArray<VersionPart> parts, ImmutableArray<VersionPart> after) : IVersionKey
{
    public ImmutableArray<VersionPart> Parts { get; } = parts;
    public ImmutableArray<VersionPart> After { get; } = after;

    public static DottedKey Parse(string label, ImmutableArray<string> earlyWords)
    {
        var text = LeadingMark().Replace(label.Trim(), "");
        var plus = text.IndexOf('+');
        return new DottedKey(Split(plus < 0 ? text : text[..plus], earlyWords), plus < 0 ? [] : Split(text[(plus + 1)..], earlyWords));
    }

    private static ImmutableArray<VersionPart> Split(string text, ImmutableArray<string> earlyWords)
    {
        var parts = ImmutableArray.CreateBuilder<VersionPart>();
        var at = 0;
        while (at < text.Length)
        {
            var c = text[at];
            if (!char.IsLetterOrDigit(c)) { at++; continue; }
            var start = at;
            var digits = char.IsAsciiDigit(c);
            while (at < text.Length && char.IsLetterOrDigit(text[at]) && char.IsAsciiDigit(text[at]) == digits) at++;
            var piece = text[start..at];
            if (digits) parts.Add(new VersionPart(BigInteger.Parse(piece, System.Globalization.CultureInfo.InvariantCulture), "", -1));
            else
            {
                var word = piece.ToLowerInvariant();
                parts.Add(new VersionPart(null, word, earlyWords.IndexOf(word)));
            }
        }
        return parts.ToImmutable();
    }

    public int CompareTo(IVersionKey other)
    {
        var that = (DottedKey)other;
        var main = Compare(Parts, that.Parts);
        return main != 0 ? main : Compare(After, that.After);
    }

    private static int Compare(ImmutableArray<VersionPart> a, ImmutableArray<VersionPart> b)
    {
        for (var i = 0; i < Math.Max(a.Length, b.Length); i++)
        {
            var order = VersionPart.Compare(i < a.Length ? a[i] : null, i < b.Length ? b[i] : null);
            if (order != 0) return order;
        }
        return 0;
    }

    public BigInteger? Major => MajorAt is { } at ? Parts[at].Number : null;

    public BigInteger? Minor => MajorAt is { } at ? at + 1 < Parts.Length && Parts[at + 1].IsNumber ? Parts[at + 1].Number : 0 : null;

    private int? MajorAt
    {
        get
        {
            for (var i = 0; i < Parts.Length; i++) if (Parts[i].IsNumber) return i;
            return null;
        }
    }

    public bool StartsWith(ImmutableArray<VersionPart> prefix)
    {
        if (Parts.Length < prefix.Length) return false;
        for (var i = 0; i < prefix.Length; i++) if (VersionPart.Compare(Parts[i], prefix[i]) != 0) return false;
        return true;
    }

    public ImmutableArray<VersionPart> WithoutTrailingZeros
    {
        get
        {
            var length = Parts.Length;
            while (length > 0 && Parts[length - 1].IsZero) length--;
            return Parts[..length];
        }
    }

    /// <summary>Whether this is an early version of <paramref name="bound"/>: its parts, trailing zeros aside, then zeros, then an early word.</summary>
    public bool IsEarlyOf(DottedKey bound)
    {
        var stem = bound.WithoutTrailingZeros;
        if (!StartsWith(stem)) return false;
        var at = stem.Length;
        while (at < Parts.Length && Parts[at].IsZero) at++;
        return at < Parts.Length && Parts[at].IsEarly;
    }

    public bool HasEarlyWord => Parts.Any(p => p.IsEarly);

    public override int GetHashCode()
    {
        var hash = new HashCode();
        foreach (var part in Parts) { hash.Add(part.Number); hash.Add(part.Word); }
        foreach (var part in After) { hash.Add(part.Number); hash.Add(part.Word); }
        return hash.ToHashCode();
    }

    [GeneratedRegex(@"^(?:release|v|r)[^\p{L}\p{Nd}]*(?=\d)", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex LeadingMark();
}
