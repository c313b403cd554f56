using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace TideStep.Core.Documents;

/// <summary>One operation of a JSON Patch (RFC 6902).</summary>
/// <param name="Op">add, remove or replace.</param>
/// <param name="Path">Where, as a JSON Pointer (RFC 6901).</param>
/// <param name="Value">What is put there; nothing where it is removed.</param>
public sealed record JsonOperation(string Op, string Path, JsonElement? Value = null)
{
    public const string Add = "add";
    public const string Remove = "remove";
    public const string Replace = "replace";
}

/// <summary>What changed from one JSON document to another, as a JSON Patch (RFC 6902). Lists are compared place by
/// place: what grows or shrinks does so at its end.</summary>
public static class JsonDelta
{
    /// <summary>The operations that make the one of the other; none where they are equal.</summary>
    public static IReadOnlyList<JsonOperation> Between(JsonElement was, JsonElement now)
    {
        var found = new List<JsonOperation>();
        Compare(was, now, "", found);
        return found;
    }

    private static void Compare(JsonElement was, JsonElement now, string path, List<JsonOperation> found)
    {
        if (was.ValueKind != now.ValueKind)
            found.Add(new JsonOperation(JsonOperation.Replace, path, now));
        else if (now.ValueKind == JsonValueKind.Object)
            CompareObjects(was, now, path, found);
        else if (now.ValueKind == JsonValueKind.Array)
            CompareLists(was, now, path, found);
        else if (!JsonElement.DeepEquals(was, now))
            found.Add(new JsonOperation(JsonOperation.Replace, path, now));
    }

    private static void CompareObjects(JsonElement was, JsonElement now, string path, List<JsonOperation> found)
    {
        foreach (var property in was.EnumerateObject())
            if (!now.TryGetProperty(property.Name, out _))
                found.Add(new JsonOperation(JsonOperation.Remove, Below(path, property.Name)));
        foreach (var property in now.EnumerateObject())
            if (was.TryGetProperty(property.Name, out var before))
                Compare(before, property.Value, Below(path, property.Name), found);
            else
                found.Add(new JsonOperation(JsonOperation.Add, Below(path, property.Name), property.Value));
    }

    private static void CompareLists(JsonElement was, JsonElement now, string path, List<JsonOperation> found)
    {
        var (before, after) = (was.GetArrayLength(), now.GetArrayLength());
        foreach (var (i, (old, item)) in was.EnumerateArray().Zip(now.EnumerateArray()).Index())
            Compare(old, item, Below(path, i), found);
        for (var i = before - 1; i >= after; i--)
            found.Add(new JsonOperation(JsonOperation.Remove, Below(path, i)));
        foreach (var item in now.EnumerateArray().Skip(before))
            found.Add(new JsonOperation(JsonOperation.Add, $"{path}/-", item));
    }

    private static string Below(string path, int index) =>
        string.Create(CultureInfo.InvariantCulture, $"{path}/{index}");

    private static string Below(string path, string name) =>
        $"{path}/{name.Replace("~", "~0", StringComparison.Ordinal).Replace("/", "~1", StringComparison.Ordinal)}";

    /// <summary>Carries operations out on a document, which is changed by it.</summary>
    /// <returns>The document; another one where the whole of it was replaced.</returns>
    /// <exception cref="FormatException">An operation does not fit the document.</exception>
    public static JsonNode? Apply(JsonNode? document, IEnumerable<JsonOperation> operations)
    {
        foreach (var operation in operations)
            if (operation.Path.Length == 0)
                document = NodeOf(operation);
            else
                Apply(ParentOf(document, operation.Path), NameIn(operation.Path), operation);
        return document;
    }

    private static void Apply(JsonNode? parent, string name, JsonOperation operation)
    {
        switch (parent, operation.Op)
        {
            case (JsonObject its, JsonOperation.Remove):
                its.Remove(name);
                break;
            case (JsonObject its, JsonOperation.Add or JsonOperation.Replace):
                its[name] = NodeOf(operation);
                break;
            case (JsonArray its, JsonOperation.Remove):
                its.RemoveAt(IndexIn(its, name, operation));
                break;
            case (JsonArray its, JsonOperation.Add) when name == "-":
                its.Add(NodeOf(operation));
                break;
            case (JsonArray its, JsonOperation.Add):
                its.Insert(name == $"{its.Count}" ? its.Count : IndexIn(its, name, operation), NodeOf(operation));
                break;
            case (JsonArray its, JsonOperation.Replace):
                its[IndexIn(its, name, operation)] = NodeOf(operation);
                break;
            default:
                throw Misfit(operation.Path);
        }
    }

    private static JsonNode? ParentOf(JsonNode? document, string path)
    {
        var at = document;
        foreach (var name in path.Split('/')[1..^1].Select(Plain))
            at = at switch
            {
                JsonObject its => its[name],
                JsonArray its when int.TryParse(name, CultureInfo.InvariantCulture, out var i) && i < its.Count => its[
                    i
                ],
                _ => throw Misfit(path),
            };
        return at;
    }

    private static JsonNode? NodeOf(JsonOperation operation) =>
        operation.Value is { ValueKind: not JsonValueKind.Null } value ? JsonNode.Parse(value.GetRawText()) : null;

    private static int IndexIn(JsonArray list, string name, JsonOperation operation) =>
        int.TryParse(name, CultureInfo.InvariantCulture, out var i) && i >= 0 && i < list.Count
            ? i
            : throw Misfit(operation.Path);

    private static string NameIn(string path) => Plain(path[(path.LastIndexOf('/') + 1)..]);

    private static string Plain(string name) =>
        name.Replace("~1", "/", StringComparison.Ordinal).Replace("~0", "~", StringComparison.Ordinal);

    private static FormatException Misfit(string path) => new($"nothing in the document fits {path}");
}
