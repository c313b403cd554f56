using System.Collections.Immutable;
using System.Net;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace TideStep.Connectors;

/// <summary>As what a far side may print a secret: as it is, whole or line by line, in JSON, in an address, in a page,
/// in base64 (also as part of a longer text, and broken into lines), in hexadecimal.</summary>
internal sealed class SecretForms
{
    private const string Hidden = "•••";

    // A shorter text would take half of any output with it.
    private const int ShortestMasked = 4;
    private const int ShortestEncoded = 5;

    // What may hang on to base64 at either end, of which a part is the secret's.
    private const int Near = 3;

    private readonly ImmutableArray<string> _written;
    private readonly ImmutableArray<string> _coded;

    /// <param name="value">What the secret holds; one that is too short to be told from other text is not
    /// found.</param>
    public SecretForms(string value)
    {
        var parts = value
            .Split('\n')
            .Append(value)
            .Select(p => p.Trim())
            .Where(p => p.Length >= ShortestMasked)
            .ToHashSet();
        _written = [.. parts.SelectMany(Written).Distinct().OrderByDescending(f => f.Length)];
        _coded = [.. parts.SelectMany(Coded).Distinct().OrderByDescending(f => f.Length)];
    }

    /// <summary>A text without any of them.</summary>
    public string HideIn(string text)
    {
        foreach (var form in _written)
            text = text.Replace(form, Hidden, StringComparison.Ordinal);
        foreach (var form in _coded)
            text = HideCoded(text, form);
        return text;
    }

    // Tools break base64 into lines wherever they like.
    private static string HideCoded(string text, string coded)
    {
        StringBuilder? shown = null;
        var done = 0;
        for (var at = text.IndexOf(coded[0]); at >= 0; at = text.IndexOf(coded[0], at))
        {
            if (EndOf(text, at, coded) is not { } end)
            {
                at++;
                continue;
            }
            var from = at;
            while (from > done && at - from < Near && IsCoded(text[from - 1]))
                from--;
            var to = end;
            while (to < text.Length && to - end < Near && IsCoded(text[to]))
                to++;
            (shown ??= new StringBuilder()).Append(text, done, from - done).Append(Hidden);
            (done, at) = (to, to);
        }
        return shown is null ? text : shown.Append(text, done, text.Length - done).ToString();
    }

    private static int? EndOf(string text, int at, string coded)
    {
        foreach (var sign in coded)
        {
            while (at < text.Length && text[at] is '\r' or '\n')
                at++;
            if (at >= text.Length || text[at] != sign)
                return null;
            at++;
        }
        return at;
    }

    private static bool IsCoded(char sign) =>
        char.IsAsciiLetterOrDigit(sign) || sign is '+' or '/' or '-' or '_' or '=';

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
    // places in a group that it may begin at.
    private static IEnumerable<string> Coded(string text)
    {
        var value = Encoding.UTF8.GetBytes(text);
        for (var before = 0; before < 3; before++)
        {
            var whole = Convert.ToBase64String([.. new byte[before], .. value]);
            var own = whole[(before == 0 ? 0 : before + 1)..((before + value.Length) * 8 / 6)];
            if (own.Length < ShortestEncoded)
                continue;
            yield return own;
            yield return own.Replace('+', '-').Replace('/', '_');
        }
    }
}
