namespace TideStep.Core.Catalogue;

/// <summary>A capture as a step names it that makes its points void: one of its own product, or
/// <c>product/capture</c> of another.</summary>
public readonly record struct CaptureName(string? Product, string Capture)
{
    public static CaptureName Of(string text) =>
        text.IndexOf('/') is >= 0 and var slash
            ? new CaptureName(text[..slash], text[(slash + 1)..])
            : new CaptureName(null, text);
}
