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

    /// <summary>All names, or null where a bracket is not understood or the names are too many.</summary>
    public static ImmutableArray<string>? Expand(string pattern)
    {
        var names = new List<string> { "" };
        var at = 0;
        foreach (Match match in Bracket().Matches(pattern))
        {
            if (Choices(match.Groups[1].Value) is not { } choices || (long)names.Count * choices.Count > Limit)
                return null;
            var before = pattern[at..match.Index];
            names = [.. names.SelectMany(n => choices.Select(c => n + before + c))];
            at = match.Index + match.Length;
        }
        var rest = pattern[at..];
        return rest.Contains('[') || rest.Contains(']') ? null : [.. names.Select(n => n + rest)];
    }

    private static List<string>? Choices(string inside)
    {
        var found = new List<string>();
        foreach (var piece in inside.Split(',', StringSplitOptions.TrimEntries))
        {
            if (Span().Match(piece) is not { Success: true } span)
            {
                found.Add(piece);
                continue;
            }
            var (first, last) = (
                int.Parse(span.Groups[1].Value, CultureInfo.InvariantCulture),
                int.Parse(span.Groups[2].Value, CultureInfo.InvariantCulture)
            );
            if (last < first || last - first >= Limit)
                return null;
            var width = span.Groups[1].Value.Length;
            for (var i = first; i <= last; i++)
                found.Add(i.ToString(CultureInfo.InvariantCulture).PadLeft(width, '0'));
        }
        return found.Count == 0 || found.Any(f => f.Length == 0) ? null : found;
    }

    [GeneratedRegex(@"\[([^\[\]]*)\]")]
    private static partial Regex Bracket();

    [GeneratedRegex(@"^(\d{1,9})-(\d{1,9})$")]
    private static partial Regex Span();
}
