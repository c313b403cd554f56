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
            var by = form.Word("by", "field", "command", "http", "sql", "file") ?? "field";
            var unit = form.Word("unit", Units) ?? "text";
            var pattern = form.Text("pattern");
            if (pattern is not null && !Compiles(pattern))
                findings.Add($"reading {name}: the pattern is no regular expression", form.PlaceOf("pattern"));
            var collector = new Collector(
                name,
                by,
                [.. form.Words("command").Select(w => w.Text)],
                pattern,
                form.Text("url"),
                form.Text("path"),
                form.Text("field") ?? name,
                Kind(unit),
                form.Flag("from-outside")
            )
            {
                Query = form.Text("query"),
                On = form.Node("on") is { } place
                    ? RelatedPlace.Read(place, $"reading {name}, on", first: true, findings)
                    : null,
            };
            if (by == "command" && collector.Command.IsEmpty)
                findings.Add($"reading {name}: 'command' is missing", at, "Write it as a list of arguments.");
            if (by == "http" && collector.Url is null)
                findings.Add($"reading {name}: 'url' is missing", at);
            if (by == "sql" && collector.Query is null)
                findings.Add(
                    $"reading {name}: 'query' is missing",
                    at,
                    "Write the query whose first column of the first row is the value."
                );
            if (by == "file" && collector.Path is null)
                findings.Add($"reading {name}: 'path' is missing", at, "Name the file.");
            form.Close();
            found[name] = collector;
        }
        return found.ToImmutable();
    }

    private static bool Compiles(string pattern) => GroupsOf(pattern) is not null;

    /// <summary>How many groups a pattern has besides the whole; null where it is no regular expression.</summary>
    internal static int? GroupsOf(string pattern)
    {
        try
        {
            return new Regex(pattern, RegexOptions.NonBacktracking).GetGroupNumbers().Length - 1;
        }
        catch (Exception e) when (e is ArgumentException or NotSupportedException)
        {
            return null;
        }
    }

    private static ValueKind Kind(string unit) =>
        unit switch
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
        ["window.start"] = ValueKind.Date,
        ["window.end"] = ValueKind.Date,
        ["window.length"] = ValueKind.Time,
        ["os.name"] = ValueKind.Text,
        ["os.release"] = ValueKind.Version,
        ["kernel"] = ValueKind.Version,
        ["cpu.count"] = ValueKind.Count,
        ["cpu.load"] = ValueKind.Count,
        ["memory.total"] = ValueKind.Bytes,
        ["memory.free"] = ValueKind.Bytes,
        ["disk.fullest"] = ValueKind.Share,
        ["disk.mount"] = ValueKind.Text,
        ["clock.off"] = ValueKind.Time,
        ["uptime"] = ValueKind.Time,
        ["units.failed"] = ValueKind.Text,
        ["ports"] = ValueKind.Text,
        ["packages.held"] = ValueKind.Text,
        ["package-lock.free"] = ValueKind.Flag,
        ["sources.closed"] = ValueKind.Text,
        ["updates.next"] = ValueKind.Time,
        ["restart.due"] = ValueKind.Flag,
        ["administrator"] = ValueKind.Flag,
    };

    /// <summary>What a survey reads of every Linux host without anybody's writing: system, processors, memory, disks,
    /// clock, units, ports, packages, and what is due.</summary>
    public static readonly ImmutableArray<string> OfHost =
    [
        "os.name",
        "os.release",
        "kernel",
        "cpu.count",
        "cpu.load",
        "memory.total",
        "memory.free",
        "disk.fullest",
        "disk.mount",
        "clock.off",
        "uptime",
        "units.failed",
        "ports",
        "packages.held",
        "package-lock.free",
        "sources.closed",
        "updates.next",
        "restart.due",
        "administrator",
    ];

    private static readonly Dictionary<(string Name, string? Field), ValueKind> Calls = new()
    {
        [("free", null)] = ValueKind.Bytes,
        [("size", null)] = ValueKind.Bytes,
        [("package", "version")] = ValueKind.Version,
        [("total", null)] = ValueKind.Bytes,
        [("package", "whole")] = ValueKind.Flag,
        [("package", "candidate")] = ValueKind.Version,
        [("package", "held")] = ValueKind.Flag,
        [("service", "active")] = ValueKind.Flag,
        [("service", "enabled")] = ValueKind.Flag,
        [("file", "exists")] = ValueKind.Flag,
        [("port", "open")] = ValueKind.Flag,
        [("reach", "open")] = ValueKind.Flag,
        [("name", "resolves")] = ValueKind.Flag,
        [("account", "exists")] = ValueKind.Flag,
        [("certificate", "until")] = ValueKind.Date,
        [("processes", null)] = ValueKind.Count,
        [("related", null)] = ValueKind.Version,
    };

    /// <summary>The kind of a reading, or null where nothing declares it.</summary>
    public static ValueKind? KindOf(Reference reference, ImmutableDictionary<string, Collector> own)
    {
        if (reference.Arguments.IsDefaultOrEmpty)
        {
            if (own.TryGetValue(reference.Key, out var collector))
                return collector.Kind;
            return BuiltIn.TryGetValue(reference.Key, out var kind) ? kind : null;
        }
        // Of what kind another product's reading is, is known once the catalogue is put together.
        if (reference.OfRelated is not null)
            return ValueKind.Missing;
        return Calls.TryGetValue((reference.Name, reference.Field), out var call) ? call : null;
    }

    /// <summary>What is known without asking a member: the jump, the window, the day, and what is related.</summary>
    public static bool IsGiven(Reference reference) =>
        reference.Key is "today" || reference.Name is "jump" or "window" or "related";

    public static IEnumerable<string> Names(ImmutableDictionary<string, Collector> own) =>
        own.Keys.Concat(BuiltIn.Keys).Concat(Calls.Keys.Select(c => c.Name));
}
