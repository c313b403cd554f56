using System.Reflection;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization.Metadata;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using TideStep.Core.Access;
using TideStep.Service.Access;

namespace TideStep.Service;

/// <summary>Has the OpenAPI document say what answers are: what may be missing is optional and never null, numbers are
/// numbers, spans of time are ISO 8601 durations.</summary>
internal static class OpenApiShapes
{
    private const JsonSchemaType Numbers = JsonSchemaType.Integer | JsonSchemaType.Number;

    // Which of these roles a call takes; known where anybody will do who is signed in.
    private const string Takes = "x-takes";

    // That a call takes a person's own word: no program's, and not that of whoever has the local key.
    private const string Own = "x-own-word";

    // Of what comes in only that must be there which has no other value.
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
        if (schema.Properties is { Count: > 0 })
        {
            var always = context.JsonTypeInfo.Properties.Where(AlwaysThere).Select(p => p.Name).ToHashSet();
            if (type.Name.EndsWith(Incoming, StringComparison.Ordinal))
                always.IntersectWith(schema.Required ?? new HashSet<string>());
            schema.Required = always;
        }
        return Task.CompletedTask;
    }

    /// <summary>The same for what is written only once all schemas are there: references that may be missing, and
    /// enumerations.</summary>
    public static Task FinishAsync(OpenApiDocument document, OpenApiDocumentTransformerContext _, CancellationToken ct)
    {
        foreach (var schema in document.Components?.Schemas?.Values.OfType<OpenApiSchema>() ?? [])
        {
            NeverNull(schema);
            foreach (var (name, property) in schema.Properties?.ToList() ?? [])
            {
                if (property.OneOf is [{ Type: JsonSchemaType.Null }, var only])
                    schema.Properties![name] = only;
                else if (property is OpenApiSchema own)
                    NeverNull(own);
            }
        }
        foreach (var (path, item) in document.Paths)
        foreach (var (method, operation) in item.Operations ?? [])
            if (Permissions.Of(method.Method, path) is { } permission)
            {
                operation.AddExtension(Takes, new JsonNodeExtension(WordsOf(permission)));
                if (permission.Own)
                    operation.AddExtension(Own, new JsonNodeExtension(true));
            }
        return Task.CompletedTask;
    }

    private static JsonArray WordsOf(Permission permission) =>
        permission.Anonymous ? ["anonymous"]
        : permission.Any.Count == 0 ? ["known"]
        : [.. permission.Any.Select(r => (JsonNode)r.Word())];

    private static void NeverNull(OpenApiSchema schema)
    {
        if (schema.Type is { } type && (type & JsonSchemaType.Null) != 0 && type != JsonSchemaType.Null)
            schema.Type = type & ~JsonSchemaType.Null;
        if (schema.Type is { } kind && (kind & Numbers) != 0)
            (schema.Type, schema.Pattern) = (kind & ~JsonSchemaType.String, null);
        if (schema.Enum is { } values && values.Any(v => v is null))
            schema.Enum = [.. values.Where(v => v is not null)];
    }

    private static bool AlwaysThere(JsonPropertyInfo property) =>
        property.PropertyType.IsValueType
            ? Nullable.GetUnderlyingType(property.PropertyType) is null
            : property.AttributeProvider is not PropertyInfo own
                || new NullabilityInfoContext().Create(own).ReadState != NullabilityState.Nullable;
}
