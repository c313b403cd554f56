using System.Net;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace TideStep.Connectors;

/// <summary>As what a far side may print a secret: as it is, whole or line by line, in JSON, in an address, in a page,
/// in base64 (also as part of a longer text, and broken into lines), in hexadecimal.</summary>
internal static class SecretForms
{
    // A shorter text would take half of any output with it.
    private const int ShortestMasked = 4;
    private const int ShortestEncoded = 5;

    // From so many characters on, tools break base64 into lines.
    private const int Broken = 40;
    private const string Near = "[A-Za-z0-9+/=_-]{0,3}";

    /// <summary>Finds all of them; null where a value is too short to be told from other text.</summary>
    public static Regex? Of(string value)
    {
        var parts = value
            .Split('\n')
            .Append(value)
            .Select(p => p.Trim())
            .Where(p => p.Length >= ShortestMasked)
            .ToHashSet();
        var forms = parts.SelectMany(Written).ToHashSet();
        var coded = parts.SelectMany(Coded).ToHashSet();
        return forms.Count == 0
            ? null
            : new Regex(
                string.Join('|', coded.Concat(forms.OrderByDescending(f => f.Length).Select(Regex.Escape))),
                RegexOptions.NonBacktracking | RegexOptions.CultureInvariant
            );
    }

    private static IEnumerable<string> Written(string text)
    {
        var address = Uri.EscapeDataString(text);
        var bytes = Encoding.UTF8.GetBytes(text);
        return
        [
            text,
            JsonSerializer.Serialize(text)[1..^1],
            JavaScriptEncoder.UnsafeRelaxedJsonEscaping.Encode(text),
            address,
            Regex.Replace(address, "%[0-9A-F]{2}", m => m.Value.ToLowerInvariant()),
            WebUtility.UrlEncode(text),
            WebUtility.HtmlEncode(text),
            Convert.ToHexString(bytes),
            Convert.ToHexStringLower(bytes),
        ];
    }

    // RFC 4648, both alphabets: what of it does not depend on what stands before and behind, at each of the three
    // places in a group that it may begin at; with what may hang on to it.
    private static IEnumerable<string> Coded(string text)
    {
        var value = Encoding.UTF8.GetBytes(text);
        for (var before = 0; before < 3; before++)
        {
            var whole = Convert.ToBase64String([.. new byte[before], .. value]);
            var own = whole[(before == 0 ? 0 : before + 1)..((before + value.Length) * 8 / 6)];
            if (own.Length < ShortestEncoded)
                continue;
            yield return Near + Lines(own) + Near;
            if (own.AsSpan().IndexOfAny('+', '/') >= 0)
                yield return Near + Lines(own.Replace('+', '-').Replace('/', '_')) + Near;
        }
    }

    private static string Lines(string coded) =>
        coded.Length < Broken
            ? Regex.Escape(coded)
            : string.Join("[\\r\\n]{0,2}", coded.Select(c => Regex.Escape(c.ToString())));
}
