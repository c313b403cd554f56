using System.Collections.Frozen;
using System.Text.Json;
using TideStep.Core.Documents;

namespace TideStep.Core.Runs;

/// <summary>Events as journals hold them, of this program's shape and of every older one.</summary>
/// <remarks>A change that older entries would not be read by rightly gets a shape here, with what raises the one before
/// to it, and the entries of before stay among <c>tests/fixtures</c>.</remarks>
public static class RunEventText
{
    /// <summary>By the event's name; one that is not named has had one shape so far.</summary>
    private static readonly FrozenDictionary<string, KeptShape> Shapes = FrozenDictionary<string, KeptShape>.Empty;

    /// <summary>The event that a journal's text holds.</summary>
    /// <exception cref="JsonException">It holds none that this program knows.</exception>
    /// <exception cref="FormatException">It was written by a newer program.</exception>
    public static RunEvent Read(string text) =>
        (Shapes.Count == 0 ? KeptShape.First : ShapeOf(text)).Read<RunEvent>(text)
        ?? throw new JsonException("it is empty");

    /// <summary>The text that holds an event.</summary>
    public static string Write(RunEvent its)
    {
        var text = JsonSerializer.Serialize(its, Json.Options);
        return Shapes.Count == 0 || ShapeOf(text) is var shape && shape == KeptShape.First ? text : shape.Write(its);
    }

    private static KeptShape ShapeOf(string text)
    {
        using var read = JsonDocument.Parse(text);
        return
            read.RootElement.TryGetProperty("event", out var name)
            && Shapes.TryGetValue(name.GetString() ?? "", out var shape)
            ? shape
            : KeptShape.First;
    }
}
