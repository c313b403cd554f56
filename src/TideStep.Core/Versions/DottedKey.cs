using System.Collections.Immutable;
using System.Globalization;
using System.Numerics;
using System.Text.RegularExpressions;

namespace TideStep.Core.Versions;

/// <summary>One part of a dotted label: a number of any length, or a lower-case word.</summary>
/// <param name="Small">The number where it is short enough, else -1: comparing these is what most of the work comes
/// to.</param>
/// <param name="Long">The number where it is too long for <paramref name="Small"/>.</param>
internal sealed record VersionPart(long Small, BigInteger? Long, string Word, int EarlyRank)
{
    private const int MostDigits = 18;

    public static VersionPart OfDigits(string digits) =>
        digits.Length <= MostDigits ? new VersionPart(long.Parse(digits, CultureInfo.InvariantCulture), null, "", -1)
        : BigInteger.Parse(digits, CultureInfo.InvariantCulture) is var number && number <= long.MaxValue
            ? new VersionPart((long)number, null, "", -1)
        : new VersionPart(-1, number, "", -1);

    public static VersionPart OfWord(string word, int earlyRank) => new(-1, null, word, earlyRank);

    public bool IsNumber => Small >= 0 || Long is not null;
    public bool IsEarly => EarlyRank >= 0;
    public bool IsZero => Small == 0;
    public BigInteger? Number => Small >= 0 ? Small : Long;

    // At one place: early words, then a missing part, then other words, then numbers.
    private int Kind =>
        IsEarly ? 0
        : IsNumber ? 3
        : 2;

    public static int Compare(VersionPart? a, VersionPart? b)
    {
        var kinds = (a?.Kind ?? 1).CompareTo(b?.Kind ?? 1);
        if (kinds != 0 || a is null || b is null)
            return kinds;
        if (a.Small >= 0 && b.Small >= 0)
            return a.Small.CompareTo(b.Small);
        if (a.IsNumber)
            return a.Number!.Value.CompareTo(b.Number!.Value);
        return a.IsEarly ? a.EarlyRank.CompareTo(b.EarlyRank) : CompareCodePoints(a.Word, b.Word);
    }

    /// <summary>Compares by code point; ordinal UTF-16 order would put surrogate pairs before some single
    /// units.</summary>
    public static int CompareCodePoints(string a, string b)
    {
        using var x = a.EnumerateRunes().GetEnumerator();
        using var y = b.EnumerateRunes().GetEnumerator();
        while (true)
        {
            var more = x.MoveNext();
            if (!y.MoveNext())
                return more ? 1 : 0;
            if (!more)
                return -1;
            var order = x.Current.Value.CompareTo(y.Current.Value);
            if (order != 0)
                return order;
        }
    }
}

/// <summary>The dotted form of a label: its main parts, and the parts after a plus sign, which serve for comparing
/// only.</summary>
internal sealed partial class DottedKey(ImmutableArray<VersionPart> parts, ImmutableArray<VersionPart> after)
    : IVersionKey
{
    public ImmutableArray<VersionPart> Parts { get; } = parts;
    public ImmutableArray<VersionPart> After { get; } = after;

    public static DottedKey Parse(string label, ImmutableArray<string> earlyWords)
    {
        var text = LeadingMark().Replace(label.Trim(), "");
        var plus = text.IndexOf('+');
        return new DottedKey(
            Split(plus < 0 ? text : text[..plus], earlyWords),
            plus < 0 ? [] : Split(text[(plus + 1)..], earlyWords)
        );
    }

    private static ImmutableArray<VersionPart> Split(string text, ImmutableArray<string> earlyWords)
    {
        var parts = ImmutableArray.CreateBuilder<VersionPart>();
        var at = 0;
        while (at < text.Length)
        {
            var c = text[at];
            if (!char.IsLetterOrDigit(c))
            {
                at++;
                continue;
            }
            var start = at;
            var digits = char.IsAsciiDigit(c);
            while (at < text.Length && char.IsLetterOrDigit(text[at]) && char.IsAsciiDigit(text[at]) == digits)
                at++;
            var piece = text[start..at];
            if (digits)
                parts.Add(VersionPart.OfDigits(piece));
            else
            {
                var word = piece.ToLowerInvariant();
                parts.Add(VersionPart.OfWord(word, earlyWords.IndexOf(word)));
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
            if (order != 0)
                return order;
        }
        return 0;
    }

    public BigInteger? Major => MajorAt is { } at ? Parts[at].Number : null;

    public BigInteger? Minor =>
        MajorAt is { } at
            ? at + 1 < Parts.Length && Parts[at + 1].IsNumber
                ? Parts[at + 1].Number
                : 0
            : null;

    private int? MajorAt
    {
        get
        {
            for (var i = 0; i < Parts.Length; i++)
                if (Parts[i].IsNumber)
                    return i;
            return null;
        }
    }

    public bool StartsWith(ImmutableArray<VersionPart> prefix)
    {
        if (Parts.Length < prefix.Length)
            return false;
        for (var i = 0; i < prefix.Length; i++)
            if (VersionPart.Compare(Parts[i], prefix[i]) != 0)
                return false;
        return true;
    }

    public ImmutableArray<VersionPart> WithoutTrailingZeros { get; } = Stem(parts);

    private static ImmutableArray<VersionPart> Stem(ImmutableArray<VersionPart> parts)
    {
        var length = parts.Length;
        while (length > 0 && parts[length - 1].IsZero)
            length--;
        return parts[..length];
    }

    /// <summary>Whether this is an early version of <paramref name="bound"/>: its parts, trailing zeros aside, then
    /// zeros, then an early word.</summary>
    public bool IsEarlyOf(DottedKey bound)
    {
        var stem = bound.WithoutTrailingZeros;
        if (!StartsWith(stem))
            return false;
        var at = stem.Length;
        while (at < Parts.Length && Parts[at].IsZero)
            at++;
        return at < Parts.Length && Parts[at].IsEarly;
    }

    public bool HasEarlyWord { get; } = parts.Any(p => p.IsEarly);

    public override int GetHashCode()
    {
        var hash = new HashCode();
        foreach (var part in Parts)
        {
            hash.Add(part);
        }
        foreach (var part in After)
        {
            hash.Add(part);
        }
        return hash.ToHashCode();
    }

    [GeneratedRegex(@"^(?:release|v|r)[^\p{L}\p{Nd}]*(?=\d)", RegexOptions.IgnoreCase | RegexOptions.CultureInvariant)]
    private static partial Regex LeadingMark();
}
