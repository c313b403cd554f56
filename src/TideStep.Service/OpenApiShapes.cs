using System.Reflection;
using System.Text.Json.Serialization.Metadata;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;

namespace TideStep.Service;

/// <summary>Has the OpenAPI document say what answers are: what may be missing is optional and never null, numbers are
/// numbers, spans of time are ISO 8601 durations.</summary>
internal static class OpenApiShapes
{
    private const JsonSchemaType Numbers = JsonSchemaType.Integer | JsonSchemaType.Number;

    // What comes in is told as it is read: what must be there is what its type asks for.
    private const string Incoming = "Request";

    public static Task ShapeAsync(OpenApiSchema schema, OpenApiSchemaTransformerContext context, CancellationToken ct)
    {
        var type = context.JsonTypeInfo.Type;
        if ((Nullable.GetUnderlyingType(type) ?? type) == typeof(TimeSpan))
            (schema.Type, schema.Format) = (JsonSchemaType.String, "duration");
        if (schema.Type is { } kind && (kind & Numbers) != 0)
            (schema.Type, schema.Pattern) = (kind & ~JsonSchemaType.String, null);
        if (context.JsonPropertyInfo is not null && schema.Type is { } its)
            schema.Type = its & ~JsonSchemaType.Null;
        if (schema.Properties is { Count: > 0 } properties)
        {
            foreach (var (name, property) in properties.ToList())
                if (property.OneOf is [{ Type: JsonSchemaType.Null }, var only])
                    properties[name] = only;
            if (!type.Name.EndsWith(Incoming, StringComparison.Ordinal))
                schema.Required = context.JsonTypeInfo.Properties.Where(AlwaysThere).Select(p => p.Name).ToHashSet();
        }
        return Task.CompletedTask;
    }

    private static bool AlwaysThere(JsonPropertyInfo property) =>
        property.PropertyType.IsValueType
            ? Nullable.GetUnderlyingType(property.PropertyType) is null
            : property.AttributeProvider is not PropertyInfo own
                || new NullabilityInfoContext().Create(own).ReadState != NullabilityState.Nullable;
}
