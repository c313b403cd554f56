using System.Globalization;
using System.Text;

namespace TideStep.Core.Documents;

/// <summary>Text from far sides, documents and people, shown so that it does nothing (11-access): signs that steer a
/// terminal or turn the direction of writing are made visible, markup and formulas are taken as text.</summary>
public static class Harmless
{
    private const char Picture = '\u2400'; // the first of Unicode's pictures of control signs

    /// <summary>One line: line ends become blanks.</summary>
    public static string Line(string text) => Shown(text, lines: false);

    /// <summary>Text of several lines: line ends and tabs stay.</summary>
    public static string Lines(string text) => Shown(text, lines: true);

    /// <summary>One line within a Markdown document: no tag, link, code or cell begins in it.</summary>
    public static string Markdown(string text)
    {
        var shown = new StringBuilder();
        foreach (var c in Line(text))
            shown.Append(
                c switch
                {
                    '&' => "&amp;",
                    '<' => "&lt;",
                    '>' => "&gt;",
                    '|' or '[' or ']' or '`' or '\\' => $"\\{c}",
                    _ => $"{c}",
                }
            );
        return shown.ToString();
    }

    /// <summary>A field of CSV, not yet quoted: what a spreadsheet would take for a formula gets an apostrophe before
    /// it (OWASP, CSV injection). Numbers stay numbers.</summary>
    public static string Field(string text) =>
        text.Length > 0
        && text[0] is '=' or '+' or '@' or '-' or '\t' or '\r'
        && !double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out _)
            ? "'" + text
            : text;

    private static string Shown(string text, bool lines)
    {
        if (!text.AsSpan().ContainsAnyExceptInRange(' ', '~'))
            return text;
        var shown = new StringBuilder(text.Length);
        for (var i = 0; i < text.Length; i++)
        {
            var c = text[i];
            if (c == '\r' && i + 1 < text.Length && text[i + 1] == '\n')
                continue;
            if (c is '\n' or '\t' && lines)
                shown.Append(c);
            else if (c is '\n' or '\t' or '\u2028' or '\u2029')
                shown.Append(' ');
            else if (c < ' ')
                shown.Append((char)(Picture + c));
            else if (c == '\u007f')
                shown.Append('\u2421');
            else if (Steers(c))
                shown.Append(CultureInfo.InvariantCulture, $"<U+{(int)c:X4}>");
            else
                shown.Append(c);
        }
        return shown.ToString();
    }

    // C1 control signs; marks, embeddings, overrides and isolates of direction (Unicode Annex 9); signs without width.
    private static bool Steers(char c) =>
        c
            is >= '\u0080'
                and <= '\u009f'
                or '\u061c'
                or '\u200b'
                or '\u200e'
                or '\u200f'
                or (>= '\u202a' and <= '\u202e')
                or (>= '\u2066' and <= '\u2069')
                or '\ufeff';
}
