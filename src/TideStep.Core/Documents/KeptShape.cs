using System.Collections.Immutable;
using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace TideStep.Core.Documents;

/// <summary>In which shapes a kind of thing is kept as JSON. What says nothing is in the first shape; older ones are
/// raised to this program's; one of a newer program is refused (2-architecture, What is written stays
/// readable).</summary>
/// <param name="raises">From the first shape to the second, from that to the third, and so on.</param>
public sealed class KeptShape(params ImmutableArray<Func<JsonObject, JsonObject>> raises)
{
    private const string Property = "shape";
    private static readonly string Said = $"\"{Property}\":";

    /// <summary>A kind that has had one shape so far.</summary>
    public static KeptShape First { get; } = new([]);

    /// <summary>The number of this program's shape.</summary>
    public int Newest => raises.Length + 1;

    /// <summary>The value of a kept text, of whichever shape.</summary>
    /// <exception cref="JsonException">It is no JSON, or holds something else.</exception>
    /// <exception cref="FormatException">It was written by a newer program.</exception>
    public T? Read<T>(string text)
    {
        // Most say nothing and have had one shape: they are read as they are.
        if (raises.IsEmpty && !text.Contains(Said, StringComparison.Ordinal))
            return JsonSerializer.Deserialize<T>(text, Json.Options);
        return JsonNode.Parse(text) is JsonObject kept
            ? Raised(kept).Deserialize<T>(Json.Options)
            : JsonSerializer.Deserialize<T>(text, Json.Options);
    }

    /// <summary>A value as it is kept.</summary>
    public string Write<T>(T value)
    {
        if (raises.IsEmpty)
            return JsonSerializer.Serialize(value, Json.Options);
        var kept = JsonSerializer.SerializeToNode(value, Json.Options)!.AsObject();
        kept[Property] = Newest;
        return kept.ToJsonString(Json.Options);
    }

    private JsonObject Raised(JsonObject kept)
    {
        var shape = kept[Property] is JsonValue said && said.TryGetValue<int>(out var number) ? number : 1;
        if (shape > Newest)
            throw new FormatException(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"it is in shape {shape}, which a newer Tide Step has written; this one knows {Newest}"
                )
            );
        foreach (var raise in raises.Skip(Math.Max(1, shape) - 1))
            kept = raise(kept);
        kept.Remove(Property);
        return kept;
    }
}
