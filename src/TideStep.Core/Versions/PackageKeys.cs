using System.Numerics;

namespace TideStep.Core.Versions;

/// <summary>Semantic Versioning 2.0.0 precedence (section 11), with build metadata as the last comparison so that equal
/// labels alone are equal.</summary>
internal sealed class SemverKey : IVersionKey
{
    private readonly BigInteger[] _core;
    private readonly string[] _early;
    private readonly string _build;

    private SemverKey(BigInteger[] core, string[] early, string build) =>
        (_core, _early, _build) = (core, early, build);

    public bool IsEarly => _early.Length > 0;

    public static SemverKey? Parse(string label)
    {
        var text = label.StartsWith('v') ? label[1..] : label;
        var plus = text.IndexOf('+');
        var build = plus < 0 ? "" : text[(plus + 1)..];
        if (plus >= 0)
            text = text[..plus];
        var dash = text.IndexOf('-');
        var early = dash < 0 ? [] : text[(dash + 1)..].Split('.');
        var numbers = (dash < 0 ? text : text[..dash]).Split('.');
        if (numbers.Length is 0 or > 3 || early.Any(e => e.Length == 0))
            return null;
        var core = new BigInteger[3];
        for (var i = 0; i < numbers.Length; i++)
        {
            if (numbers[i].Length == 0 || !numbers[i].All(char.IsAsciiDigit))
                return null;
            core[i] = BigInteger.Parse(numbers[i], System.Globalization.CultureInfo.InvariantCulture);
        }
        return new SemverKey(core, early, build);
    }

    public bool IsEarlyOf(SemverKey bound) => IsEarly && _core.AsSpan().SequenceEqual(bound._core);

    public int CompareTo(IVersionKey other)
    {
        var that = (SemverKey)other;
        for (var i = 0; i < 3; i++)
        {
            var order = _core[i].CompareTo(that._core[i]);
            if (order != 0)
                return order;
        }
        if (IsEarly != that.IsEarly)
            return IsEarly ? -1 : 1;
        for (var i = 0; i < Math.Max(_early.Length, that._early.Length); i++)
        {
            if (i >= _early.Length)
                return -1;
            if (i >= that._early.Length)
                return 1;
            var order = CompareIdentifier(_early[i], that._early[i]);
            if (order != 0)
                return order;
        }
        return VersionPart.CompareCodePoints(_build, that._build);
    }

    private static int CompareIdentifier(string a, string b)
    {
        var (x, y) = (a.All(char.IsAsciiDigit), b.All(char.IsAsciiDigit));
        if (x && y)
            return BigInteger
                .Parse(a, System.Globalization.CultureInfo.InvariantCulture)
                .CompareTo(BigInteger.Parse(b, System.Globalization.CultureInfo.InvariantCulture));
        return x == y ? VersionPart.CompareCodePoints(a, b)
            : x ? -1
            : 1;
    }

    public override int GetHashCode() =>
        HashCode.Combine(
            _core[0],
            _core[1],
            _core[2],
            string.Join('.', _early.Select(e => e.All(char.IsAsciiDigit) ? e.TrimStart('0') : e))
        );
}

/// <summary>Debian version order: epoch, upstream version, revision (deb-version(7)).</summary>
internal sealed class DebKey : IVersionKey
{
    private readonly BigInteger _epoch;

    private DebKey(BigInteger epoch, string upstream, string revision) =>
        (_epoch, Upstream, Revision) = (epoch, upstream, revision);

    public string Upstream { get; }
    public string Revision { get; }

    public static DebKey? Parse(string label)
    {
        var (epoch, rest) = Epoch.Split(label);
        var dash = rest.LastIndexOf('-');
        var upstream = dash < 0 ? rest : rest[..dash];
        return upstream.Length == 0 ? null : new DebKey(epoch, upstream, dash < 0 ? "" : rest[(dash + 1)..]);
    }

    public int CompareTo(IVersionKey other)
    {
        var that = (DebKey)other;
        var order = _epoch.CompareTo(that._epoch);
        if (order == 0)
            order = ComparePiece(Upstream, that.Upstream);
        return order != 0 ? order : ComparePiece(Revision, that.Revision);
    }

    private static int ComparePiece(string a, string b)
    {
        int i = 0,
            j = 0;
        while (i < a.Length || j < b.Length)
        {
            while ((i < a.Length && !char.IsAsciiDigit(a[i])) || (j < b.Length && !char.IsAsciiDigit(b[j])))
            {
                var order = Weight(a, i).CompareTo(Weight(b, j));
                if (order != 0)
                    return order;
                i++;
                j++;
            }
            var (x, y) = (Number(a, ref i), Number(b, ref j));
            if (x != y)
                return x.CompareTo(y);
        }
        return 0;
    }

    // A tilde sorts before the end of the text, the end before letters, letters before everything else.
    private static int Weight(string text, int at)
    {
        if (at >= text.Length || char.IsAsciiDigit(text[at]))
            return 0;
        var c = text[at];
        return c == '~' ? -1
            : char.IsAsciiLetter(c) ? c
            : c + 0x10000;
    }

    private static BigInteger Number(string text, ref int at)
    {
        var start = at;
        while (at < text.Length && char.IsAsciiDigit(text[at]))
            at++;
        return start == at
            ? BigInteger.Zero
            : BigInteger.Parse(
                text.AsSpan(start, at - start),
                provider: System.Globalization.CultureInfo.InvariantCulture
            );
    }

    // labels such as 1.0 and 1.00 are equal, so only the epoch may be hashed
    public override int GetHashCode() => _epoch.GetHashCode();
}

/// <summary>RPM version order: epoch, version, release, each by segments (rpm-version(7)).</summary>
internal sealed class RpmKey : IVersionKey
{
    private readonly BigInteger _epoch;
    private readonly string _version;
    private readonly string _release;

    private RpmKey(BigInteger epoch, string version, string release) =>
        (_epoch, _version, _release) = (epoch, version, release);

    public static RpmKey? Parse(string label)
    {
        var (epoch, rest) = Epoch.Split(label);
        var dash = rest.LastIndexOf('-');
        var version = dash < 0 ? rest : rest[..dash];
        return version.Length == 0 ? null : new RpmKey(epoch, version, dash < 0 ? "" : rest[(dash + 1)..]);
    }

    public int CompareTo(IVersionKey other)
    {
        var that = (RpmKey)other;
        var order = _epoch.CompareTo(that._epoch);
        if (order == 0)
            order = ComparePiece(_version, that._version);
        return order != 0 || _release.Length == 0 || that._release.Length == 0
            ? order != 0
                ? order
                : _release.Length.CompareTo(that._release.Length)
            : ComparePiece(_release, that._release);
    }

    private static int ComparePiece(string a, string b)
    {
        int i = 0,
            j = 0;
        while (true)
        {
            while (i < a.Length && !char.IsAsciiLetterOrDigit(a[i]) && a[i] is not ('~' or '^'))
                i++;
            while (j < b.Length && !char.IsAsciiLetterOrDigit(b[j]) && b[j] is not ('~' or '^'))
                j++;
            var (x, y) = (i < a.Length ? a[i] : '\0', j < b.Length ? b[j] : '\0');
            if (x == '~' || y == '~')
            {
                if (x != y)
                    return x == '~' ? -1 : 1;
                i++;
                j++;
                continue;
            }
            if (x == '^' || y == '^')
            {
                if (x == y)
                {
                    i++;
                    j++;
                    continue;
                }
                if (x == '^')
                    return y == '\0' ? 1 : -1;
                return x == '\0' ? -1 : 1;
            }
            if (x == '\0' || y == '\0')
                return x == y ? 0
                    : x == '\0' ? -1
                    : 1;
            var digits = char.IsAsciiDigit(x);
            if (digits != char.IsAsciiDigit(y))
                return digits ? 1 : -1;
            var (p, q) = (Segment(a, ref i, digits), Segment(b, ref j, digits));
            var order = digits ? Longer(p.TrimStart('0'), q.TrimStart('0')) : string.CompareOrdinal(p, q);
            if (order != 0)
                return order;
        }
    }

    private static int Longer(string p, string q) =>
        p.Length != q.Length ? p.Length.CompareTo(q.Length) : string.CompareOrdinal(p, q);

    private static string Segment(string text, ref int at, bool digits)
    {
        var start = at;
        while (at < text.Length && char.IsAsciiLetterOrDigit(text[at]) && char.IsAsciiDigit(text[at]) == digits)
            at++;
        return text[start..at];
    }

    public override int GetHashCode() => _epoch.GetHashCode();
}

/// <summary>The order in which a product's document lists its releases; labels outside the list come after all of them,
/// by text.</summary>
internal sealed class ListedKey(int place, string text) : IVersionKey
{
    public int Place { get; } = place;

    public int CompareTo(IVersionKey other)
    {
        var that = (ListedKey)other;
        var order = Place.CompareTo(that.Place);
        return order != 0 || Place != int.MaxValue ? order : VersionPart.CompareCodePoints(Label, that.Label);
    }

    public string Label { get; } = text;

    public override int GetHashCode() => Place == int.MaxValue ? Label.GetHashCode() : Place;
}

internal static class Epoch
{
    public static (BigInteger Number, string Label) Split(string label)
    {
        var colon = label.IndexOf(':');
        return colon > 0 && label[..colon].All(char.IsAsciiDigit)
            ? (
                BigInteger.Parse(label[..colon], System.Globalization.CultureInfo.InvariantCulture),
                label[(colon + 1)..]
            )
            : (BigInteger.Zero, label);
    }
}
