namespace TideStep.Core.Estates;

/// <summary>The identifier of a member, written <c>component/node</c>; neither part holds a slash (10-formats,
/// identifiers).</summary>
public readonly record struct MemberId(string Component, string Node)
{
    /// <summary>Reads an identifier.</summary>
    /// <exception cref="FormatException">The text is no member's identifier.</exception>
    public static MemberId Of(string text) =>
        TryParse(text) ?? throw new FormatException($"'{text}' is no member's identifier");

    /// <summary>The identifier, or null where the text is none.</summary>
    public static MemberId? TryParse(string text) =>
        text.IndexOf('/') is > 0 and var slash && slash < text.Length - 1
            ? new MemberId(text[..slash], text[(slash + 1)..])
            : null;

    public override string ToString() => $"{Component}/{Node}";
}
