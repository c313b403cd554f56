using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace TideStep.Storage;

/// <summary>Digests over what is kept (SHA-256, in hexadecimal). They tell damage and changes by hand from what the
/// service wrote; they are no signature, and who knows how may make new ones.</summary>
public static class Seal
{
    /// <summary>The seal of a row: over all of its fields, each with its length before it, so that nothing can move
    /// from one into the next.</summary>
    public static string Of(params ReadOnlySpan<string?> fields)
    {
        var text = new StringBuilder();
        foreach (var field in fields)
            if (field is null)
                text.Append("- ");
            else
                text.Append(field.Length.ToString(CultureInfo.InvariantCulture)).Append(' ').Append(field);
        return Hash(text.ToString());
    }

    /// <summary>The digest of a journal's entry: over that of the entry before it and all of its own fields.</summary>
    /// <param name="previous">The digest of the entry before; empty before the first.</param>
    /// <param name="at">The time as it is kept.</param>
    /// <param name="body">The event as it is kept; it comes last, and what stands before it holds no line
    /// break.</param>
    public static string Entry(string previous, string run, long sequence, long epoch, string at, string body) =>
        Hash(string.Create(CultureInfo.InvariantCulture, $"{previous}\n{run}\n{sequence}\n{epoch}\n{at}\n{body}"));

    private static string Hash(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));
}
