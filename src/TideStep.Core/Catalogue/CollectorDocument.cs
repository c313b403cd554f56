using System.Collections.Immutable;
using System.Text.RegularExpressions;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Core.Catalogue;

/// <summary>Reads how a product's readings are collected.</summary>
internal static class CollectorDocument
{
    private static readonly string[] Units = ["text", "count", "bytes", "time", "share", "version", "date", "flag"];

    public static ImmutableDictionary<string, Collector> Read(Form document, Findings findings)
    {
        var found = ImmutableDictionary.CreateBuilder<string, Collector>();
        foreach (var (name, node, at) in document.Map("readings"))
        {
            var form = Form.Open(node, $"reading {name}", findings);
            var by = form.Word("by", "field", "command", "http") ?? "field";
            var unit = form.Word("unit", Units) ?? "text";
            var pattern = form.Text("pattern");
            if (pattern is not null && !Compiles(pattern)) findings.Add($"reading {name}: the pattern is no regular expression", form.PlaceOf("pattern"));
            var collector = new Collector(name, by, [.. form.Words("command").Select(w => w.Text)], pattern, form.Text("url"), form.Text("path"), form.Text("field") ?? name, Kind(unit), form.Flag("from-outside"));
            if (by == "command" && collector.Command.IsEmpty) findings.Add($"reading {name}: 'command' is missing", at, "Write it as a list of arguments.");
            if (by == "http" && collector.Url is null) findings.Add($"reading {name}: 'url' is missing", at);
            form.Close();
            found[name] = collector;
        }
        return found.ToImmutable();
    }

    private static bool Compiles(string pattern)
    {
        try { _ = new Regex(pattern, RegexOptions.NonBacktracking); return true; }
        catch (Exception e) when (e is ArgumentException or NotSupportedException) { return false; }
    }

    private static ValueKind Kind(string unit) => unit switch
    {
        "count" => ValueKind.Count,
        "bytes" => ValueKind.Bytes,
        "time" => ValueKind.Time,
        "share" => ValueKind.Share,
        "version" => ValueKind.Version,
        "date" => ValueKind.Date,
        "flag" => ValueKind.Flag,
        _ => ValueKind.Text,
    };
}

/// <summary>The readings every expression may use besides the product's own.</summary>
public static class KnownReadings
{
    private static readonly Dictionary<string, ValueKind> BuiltIn = new()
    {
        ["running"] = ValueKind.Version,
        ["installed"] = ValueKind.Version,
        ["staged"] = ValueKind.Version,
        ["role"] = ValueKind.Text,
        ["in-service"] = ValueKind.Flag,
        ["reachable"] = ValueKind.Flag,
        ["today"] = ValueKind.Date,
        ["jump.to"] = ValueKind.Version,
        ["jump.from"] = ValueKind.Version,
    };

    private static readonly Dictionary<(string Name, string? Field), ValueKind> Calls = new()
    {
        [("free", null)] = ValueKind.Bytes,
        [("size", null)] = ValueKind.Bytes,
        [("package", "version")] = ValueKind.Version,
        [("package", "whole")] = ValueKind.Flag,
        [("service", "active")] = ValueKind.Flag,
        [("file", "exists")] = ValueKind.Flag,
    };

    /// <summary>The kind of a reading, or null where nothing declares it.</summary>
    public static ValueKind? KindOf(Reference reference, ImmutableDictionary<string, Collector> own)
    {
        if (reference.Arguments.IsDefaultOrEmpty)
        {
            if (reference.Field is null && own.TryGetValue(reference.Name, out var collector)) return collector.Kind;
            return BuiltIn.TryGetValue(reference.Key, out var kind) ? kind : null;
        }
        return Calls.TryGetValue((reference.Name, reference.Field), out var call) ? call : null;
    }

    public static IEnumerable<string> Names(ImmutableDictionary<string, Collector> own) => own.Keys.Concat(BuiltIn.Keys).Concat(Calls.Keys.Select(c => c.Name));
}
