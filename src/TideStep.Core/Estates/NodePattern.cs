using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;

namespace TideStep.Core.Estates;

/// <summary>Names many nodes at once: <c>ns-led-[1-3]</c>, <c>gate-[01-12]-[a,b]</c>. The order is that of the ranges,
/// the last turning fastest.</summary>
public static partial class NodePattern
{
    /// <summary>The most names that one pattern may stand for.</summary>
    public const int Limit = 100_000;

    /// <summary>How many names it stands for, counted before any is made; null where a bracket is not understood or
    /// they are more than <see cref="Limit"/>.</summary>
    public static int? CountOf(string pattern)
    {
        long count = 1;
        foreach (Match match in Bracket().Matches(pattern))
            if (CountIn(match.Groups[1].Value) is not { } choices || (count *= choices) > Limit)
                return null;
        return Bracket().Replace(pattern, "") is var outside && (outside.Contains('[') || outside.Contains(']'))
            ? null
            : (int)count;
    }

    /// <summary>All names, or null where a bracket is not understood or the names are too many.</summary>
    public static ImmutableArray<string>? Expand(string pattern)
    {
        if (CountOf(pattern) is null)
            return null;
        var names = new List<string> { "" };
        var at = 0;
        foreach (Match match in Bracket().Matches(pattern))
        {
            var before = pattern[at..match.Index];
            var choices = Choices(match.Groups[1].Value);
            names = [.. names.SelectMany(n => choices.Select(c => n + before + c))];
            at = match.Index + match.Length;
        }
        var rest = pattern[at..];
        return [.. names.Select(n => n + rest)];
    }

    private static (int First, int Last, int Width)? SpanOf(string piece) =>
        Span().Match(piece) is { Success: true } span
            ? (
                int.Parse(span.Groups[1].Value, CultureInfo.InvariantCulture),
                int.Parse(span.Groups[2].Value, CultureInfo.InvariantCulture),
                span.Groups[1].Value.Length
            )
            : null;

    private static long? CountIn(string inside)
    {
        long count = 0;
        foreach (var piece in inside.Split(',', StringSplitOptions.TrimEntries))
        {
            if (piece.Length == 0 || SpanOf(piece) is var (first, last, _) && last < first)
                return null;
            count += SpanOf(piece) is var (from, to, _) ? (long)to - from + 1 : 1;
            if (count > Limit)
                return null;
        }
        return count;
    }

    private static List<string> Choices(string inside)
    {
        var found = new List<string>();
        foreach (var piece in inside.Split(',', StringSplitOptions.TrimEntries))
            if (SpanOf(piece) is var (first, last, width))
                for (var i = first; i <= last; i++)
                    found.Add(i.ToString(CultureInfo.InvariantCulture).PadLeft(width, '0'));
            else
                found.Add(piece);
        return found;
    }

    [GeneratedRegex(@"\[([^\[\]]*)\]")]
    private static partial Regex Bracket();

    [GeneratedRegex(@"^(\d{1,9})-(\d{1,9})$")]
    private static partial Regex Span();
}
