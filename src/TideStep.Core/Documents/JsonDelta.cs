using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace TideStep.Core.Documents;

/// <summary>One operation of a JSON Patch (RFC 6902).</summary>
/// <param name="Op">add, remove, replace or move.</param>
/// <param name="Path">Where, as a JSON Pointer (RFC 6901).</param>
/// <param name="Value">What is put there; nothing where it is removed or moved.</param>
public sealed record JsonOperation(string Op, string Path, JsonElement? Value = null)
{
    /// <summary>Where what is moved was; null for every other operation.</summary>
    public string? From { get; init; }

    public const string Move = "move";

    public const string Add = "add";
    public const string Remove = "remove";
    public const string Replace = "replace";
}

/// <summary>What changed from one JSON document to another, as a JSON Patch (RFC 6902). Lists of things with a name of
/// their own are compared thing by thing, so that one that changes its place is moved; others place by place: what
/// grows or shrinks does so at its end.</summary>
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

    // By what things in lists are told apart, the first that all of a list have.
    private static readonly string[] Identities = ["subject", "id", "number", "run"];

    // Places are looked for one by one: longer lists than this are compared place by place.
    private const int LongestByName = 2000;

    private static void CompareLists(JsonElement was, JsonElement now, string path, List<JsonOperation> found)
    {
        foreach (var identity in Identities)
            if (NamesOf(was, identity) is { } names && NamesOf(now, identity) is { } wanted)
            {
                CompareByName(was, now, names, wanted, path, found);
                return;
            }
        var (before, after) = (was.GetArrayLength(), now.GetArrayLength());
        foreach (var (i, (old, item)) in was.EnumerateArray().Zip(now.EnumerateArray()).Index())
            Compare(old, item, Below(path, i), found);
        for (var i = before - 1; i >= after; i--)
            found.Add(new JsonOperation(JsonOperation.Remove, Below(path, i)));
        foreach (var item in now.EnumerateArray().Skip(before))
            found.Add(new JsonOperation(JsonOperation.Add, $"{path}/-", item));
    }

    // The names of all things of a list; nothing where one has none, or two have the same.
    private static List<string>? NamesOf(JsonElement list, string identity)
    {
        var names = new List<string>();
        if (list.GetArrayLength() > LongestByName)
            return null;
        foreach (var item in list.EnumerateArray())
            if (
                item.ValueKind == JsonValueKind.Object
                && item.TryGetProperty(identity, out var name)
                && name.ValueKind is JsonValueKind.String or JsonValueKind.Number
            )
                names.Add(name.GetRawText());
            else
                return null;
        return names.Distinct().Count() == names.Count ? names : null;
    }

    private static void CompareByName(
        JsonElement was,
        JsonElement now,
        List<string> names,
        List<string> wanted,
        string path,
        List<JsonOperation> found
    )
    {
        var before = names.Zip(was.EnumerateArray()).ToDictionary(n => n.First, n => n.Second);
        var stays = wanted.ToHashSet();
        for (var i = names.Count - 1; i >= 0; i--)
            if (!stays.Contains(names[i]))
            {
                found.Add(new JsonOperation(JsonOperation.Remove, Below(path, i)));
                names.RemoveAt(i);
            }
        foreach (var (i, (name, item)) in wanted.Zip(now.EnumerateArray()).Index())
        {
            if (!before.ContainsKey(name))
            {
                found.Add(new JsonOperation(JsonOperation.Add, Below(path, i), item));
                names.Insert(i, name);
            }
            else if (names[i] != name)
            {
                var at = names.IndexOf(name, i);
                found.Add(new JsonOperation(JsonOperation.Move, Below(path, i)) { From = Below(path, at) });
                names.RemoveAt(at);
                names.Insert(i, name);
            }
        }
        foreach (var (i, (name, item)) in wanted.Zip(now.EnumerateArray()).Index())
            if (before.TryGetValue(name, out var old))
                Compare(old, item, Below(path, i), found);
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
            else if (operation is { Op: JsonOperation.Move, From: { Length: > 0 } from })
                Put(ParentOf(document, operation.Path), NameIn(operation.Path), Taken(document, from), operation);
            else
                Apply(ParentOf(document, operation.Path), NameIn(operation.Path), operation);
        return document;
    }

    // What stands at a place, which has it no more.
    private static JsonNode? Taken(JsonNode? document, string path)
    {
        var name = NameIn(path);
        switch (ParentOf(document, path))
        {
            case JsonArray its:
                var at = IndexIn(its, name, path);
                var item = its[at];
                its.RemoveAt(at);
                return item;
            case JsonObject its when its.TryGetPropertyValue(name, out var value):
                its.Remove(name);
                return value;
            default:
                throw Misfit(path);
        }
    }

    private static void Put(JsonNode? parent, string name, JsonNode? value, JsonOperation operation)
    {
        switch (parent)
        {
            case JsonObject its:
                its[name] = value;
                break;
            case JsonArray its when name == "-" || name == $"{its.Count}":
                its.Add(value);
                break;
            case JsonArray its:
                its.Insert(IndexIn(its, name, operation.Path), value);
                break;
            default:
                throw Misfit(operation.Path);
        }
    }

    private static void Apply(JsonNode? parent, string name, JsonOperation operation)
    {
        switch (parent, operation.Op)
        {
            case (JsonObject its, JsonOperation.Remove):
                its.Remove(name);
                break;
            case (JsonObject its, JsonOperation.Replace):
                its[name] = NodeOf(operation);
                break;
            case (JsonArray its, JsonOperation.Remove):
                its.RemoveAt(IndexIn(its, name, operation.Path));
                break;
            case (_, JsonOperation.Add):
                Put(parent, name, NodeOf(operation), operation);
                break;
            case (JsonArray its, JsonOperation.Replace):
                its[IndexIn(its, name, operation.Path)] = NodeOf(operation);
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

    private static int IndexIn(JsonArray list, string name, string path) =>
        int.TryParse(name, CultureInfo.InvariantCulture, out var i) && i >= 0 && i < list.Count
            ? i
            : throw Misfit(path);

    private static string NameIn(string path) => Plain(path[(path.LastIndexOf('/') + 1)..]);

    private static string Plain(string name) =>
        name.Replace("~1", "/", StringComparison.Ordinal).Replace("~0", "~", StringComparison.Ordinal);

    private static FormatException Misfit(string path) => new($"nothing in the document fits {path}");
}
