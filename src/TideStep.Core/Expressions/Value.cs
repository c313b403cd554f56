using System.Globalization;
using TideStep.Core.Documents;
using TideStep.Core.Versions;

namespace TideStep.Core.Expressions;

/// <summary>What a value measures; numbers are kept in the base unit (bytes, seconds, a share of 1, a count).</summary>
public enum ValueKind
{
    Missing,
    Flag,
    Text,
    Count,
    Bytes,
    Time,
    Share,
    Version,
    Date,
}

/// <summary>A typed value of an expression or a reading.</summary>
public sealed record Value(ValueKind Kind, double Number = 0, string Text = "", Versions.Version? Version = null)
{
    public static readonly Value Missing = new(ValueKind.Missing);
    public static readonly Value True = new(ValueKind.Flag, 1);
    public static readonly Value False = new(ValueKind.Flag, 0);

    public static Value Of(bool flag) => flag ? True : False;

    public static Value Of(string text) => new(ValueKind.Text, Text: text);

    public static Value Of(double number, ValueKind kind = ValueKind.Count) => new(kind, number);

    public static Value Of(Versions.Version version) => new(ValueKind.Version, Text: version.Label, Version: version);

    public static Value Of(DateOnly date) => new(ValueKind.Date, date.DayNumber);

    public bool IsTrue => Kind == ValueKind.Flag && Number != 0;
    public bool IsNumber => Kind is ValueKind.Count or ValueKind.Bytes or ValueKind.Time or ValueKind.Share;

    /// <summary>Reads a reading's text as a value of a declared kind; null where it is none.</summary>
    public static Value? Read(string text, ValueKind kind, VersionScheme? scheme = null)
    {
        text = text.Trim();
        switch (kind)
        {
            case ValueKind.Flag:
                return text switch
                {
                    "true" or "yes" or "1" => True,
                    "false" or "no" or "0" => False,
                    _ => null,
                };
            case ValueKind.Version:
                return (scheme ?? VersionScheme.Dotted).TryParse(text) is { } version ? Of(version) : null;
            case ValueKind.Date:
                return DateOnly.TryParse(text, CultureInfo.InvariantCulture, out var date) ? Of(date) : null;
            case ValueKind.Time:
                return Durations.TryParse(text.TrimStart('-')) is { } span
                    ? Of(text.StartsWith('-') ? -span.TotalSeconds : span.TotalSeconds, kind)
                    : Plain(text, kind);
            case ValueKind.Bytes:
                return Units.TryBytes(text) is { } bytes ? Of(bytes, kind) : Plain(text, kind);
            case ValueKind.Share:
                return text.EndsWith('%')
                    ? Plain(text[..^1], kind) is { } share
                        ? share with
                        {
                            Number = share.Number / 100,
                        }
                        : null
                    : Plain(text, kind);
            case ValueKind.Count:
                return Plain(text, kind);
            default:
                return Of(text);
        }
    }

    private static Value? Plain(string text, ValueKind kind) =>
        double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
        && double.IsFinite(number)
            ? Of(number, kind)
            : null;

    public override string ToString() =>
        Kind switch
        {
            ValueKind.Missing => "no reading",
            ValueKind.Flag => IsTrue ? "true" : "false",
            ValueKind.Bytes => Units.WriteBytes(Number),
            ValueKind.Time => (Number < 0 ? "-" : "") + Durations.Write(TimeSpan.FromSeconds(Math.Abs(Number))),
            ValueKind.Share => (Number * 100).ToString("0.##", CultureInfo.InvariantCulture) + " %",
            ValueKind.Count => Number.ToString("0.###", CultureInfo.InvariantCulture),
            ValueKind.Date => DateOnly.FromDayNumber((int)Number).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
            _ => Text,
        };
}

/// <summary>Units of size; binary steps (KiB) and decimal ones (kB) are told apart.</summary>
public static class Units
{
    private static readonly (string Name, double Bytes)[] Known =
    [
        ("TiB", 1099511627776),
        ("GiB", 1073741824),
        ("MiB", 1048576),
        ("KiB", 1024),
        ("TB", 1e12),
        ("GB", 1e9),
        ("MB", 1e6),
        ("kB", 1e3),
        ("B", 1),
    ];

    /// <summary>Bytes in one unit, or null for no unit of size.</summary>
    public static double? BytesIn(string unit) =>
        Known.Where(k => k.Name == unit).Select(k => (double?)k.Bytes).FirstOrDefault();

    public static double? TryBytes(string text)
    {
        foreach (var (name, bytes) in Known)
            if (
                text.EndsWith(name, StringComparison.Ordinal)
                && double.TryParse(
                    text[..^name.Length].Trim(),
                    NumberStyles.Float,
                    CultureInfo.InvariantCulture,
                    out var number
                )
            )
                return number * bytes;
        return null;
    }

    public static string WriteBytes(double bytes)
    {
        foreach (var (name, size) in Known[..4])
            if (Math.Abs(bytes) >= size)
                return (bytes / size).ToString("0.#", CultureInfo.InvariantCulture) + " " + name;
        return bytes.ToString("0", CultureInfo.InvariantCulture) + " B";
    }
}
