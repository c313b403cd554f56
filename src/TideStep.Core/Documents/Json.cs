using System.Security.Cryptography;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization;
using System.Xml;
using TideStep.Core.Expressions;

namespace TideStep.Core.Documents;

/// <summary>How our values stand in JSON: camel-case names, words for enumerations, ISO 8601 durations, expressions as
/// their text.</summary>
public static class Json
{
    public static readonly JsonSerializerOptions Options = Create(indented: false);
    public static readonly JsonSerializerOptions Indented = Create(indented: true);

    public static JsonSerializerOptions Create(bool indented) =>
        Configure(new JsonSerializerOptions { WriteIndented = indented });

    /// <summary>Sets options to our ways; for serialisers that others make.</summary>
    public static JsonSerializerOptions Configure(JsonSerializerOptions options)
    {
        options.PropertyNamingPolicy = JsonNamingPolicy.CamelCase;
        options.DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull;
        options.Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping;
        options.PropertyNameCaseInsensitive = true;
        options.Converters.Add(new JsonStringEnumConverter(JsonNamingPolicy.KebabCaseLower));
        options.Converters.Add(new DurationConverter());
        options.Converters.Add(new ExpressionConverter());
        options.Converters.Add(new VersionConverter());
        return options;
    }

    /// <summary>The canonical form of a JSON value (RFC 8785) for values of text, whole numbers and truth
    /// values.</summary>
    public static string Canonical<T>(T value)
    {
        var text = new StringBuilder();
        Write(JsonSerializer.SerializeToNode(value, Options), text);
        return text.ToString();
    }

    /// <summary>The digest of a value: <c>sha256:</c> and the hash of its canonical form in hexadecimal.</summary>
    public static string Digest<T>(T value) => DigestOfText(Canonical(value));

    public static string DigestOfText(string text) =>
        "sha256:" + Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));

    private static void Write(JsonNode? node, StringBuilder text)
    {
        switch (node)
        {
            case JsonObject map:
                text.Append('{');
                var first = true;
                foreach (var (key, value) in map.OrderBy(p => p.Key, StringComparer.Ordinal))
                {
                    if (!first)
                        text.Append(',');
                    first = false;
                    text.Append(JsonSerializer.Serialize(key, Options)).Append(':');
                    Write(value, text);
                }
                text.Append('}');
                break;
            case JsonArray list:
                text.Append('[');
                for (var i = 0; i < list.Count; i++)
                {
                    if (i > 0)
                        text.Append(',');
                    Write(list[i], text);
                }
                text.Append(']');
                break;
            default:
                text.Append(node?.ToJsonString(Options) ?? "null");
                break;
        }
    }

    private sealed class DurationConverter : JsonConverter<TimeSpan>
    {
        public override TimeSpan Read(ref Utf8JsonReader reader, Type type, JsonSerializerOptions options) =>
            XmlConvert.ToTimeSpan(reader.GetString()!);

        public override void Write(Utf8JsonWriter writer, TimeSpan value, JsonSerializerOptions options) =>
            writer.WriteStringValue(XmlConvert.ToString(value));
    }

    private sealed class ExpressionConverter : JsonConverter<Expression>
    {
        public override Expression Read(ref Utf8JsonReader reader, Type type, JsonSerializerOptions options)
        {
            var text = reader.GetString()!;
            return ExpressionParser.TryParse(text, out var reason, out _)
                ?? throw new JsonException($"'{text}' is no expression: {reason}");
        }

        public override void Write(Utf8JsonWriter writer, Expression value, JsonSerializerOptions options) =>
            writer.WriteStringValue(value.Text);
    }

    private sealed class VersionConverter : JsonConverter<Versions.Version>
    {
        // A label alone does not tell its scheme; who needs the order reads it again with the product at hand.
        public override Versions.Version Read(ref Utf8JsonReader reader, Type type, JsonSerializerOptions options) =>
            Versions.VersionScheme.Dotted.TryParse(reader.GetString()!) ?? throw new JsonException("no version");

        public override void Write(Utf8JsonWriter writer, Versions.Version value, JsonSerializerOptions options) =>
            writer.WriteStringValue(value.Label);
    }
}
