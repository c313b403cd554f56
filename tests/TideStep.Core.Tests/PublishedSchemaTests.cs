using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Schema;
using System.Text.Json.Serialization.Metadata;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Tests;

/// <summary>The schemas of what Tide Step itself writes are those of its types. With TIDESTEP_SCHEMAS set they are
/// written anew.</summary>
public sealed class PublishedSchemaTests
{
    private static string Folder()
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "TideStep.slnx")))
            root = Path.GetDirectoryName(root)!;
        return Path.Combine(root, "docs", "formats");
    }

    [Theory]
    [InlineData(
        "plan",
        typeof(Plan),
        "A plan: what a run of it does, step for step; canonical (RFC 8785) before its digest is taken"
    )]
    [InlineData("report", typeof(RunReport), "The closing report of a run")]
    public void The_published_schema_is_that_of_what_is_written(string name, Type type, string title)
    {
        var options = new JsonSerializerOptions(Json.Options) { TypeInfoResolver = new DefaultJsonTypeInfoResolver() };
        var exported = (JsonObject)
            options.GetJsonSchemaAsNode(
                type,
                new JsonSchemaExporterOptions
                {
                    TreatNullObliviousAsNonNullable = true,
                    TransformSchemaNode = (context, schema) =>
                        context.TypeInfo.Type switch
                        {
                            var t when t == typeof(TimeSpan) || t == typeof(TimeSpan?) => new JsonObject
                            {
                                ["type"] = Text(context),
                                ["format"] = "duration",
                            },
                            var t when t == typeof(Expression) || t == typeof(Versions.Version) => new JsonObject
                            {
                                ["type"] = Text(context),
                            },
                            _ => schema,
                        },
                }
            );
        var whole = new JsonObject
        {
            ["$schema"] = "https://json-schema.org/draft/2020-12/schema",
            ["$id"] = $"tidestep:{name}/1",
            ["title"] = title,
        };
        foreach (var (key, value) in exported)
            whole[key] = value?.DeepClone();
        Relax(whole);
        var text = whole.ToJsonString(new JsonSerializerOptions(Json.Options) { WriteIndented = true }) + "\n";
        var path = Path.Combine(Folder(), name + ".schema.json");
        if (Environment.GetEnvironmentVariable("TIDESTEP_SCHEMAS") is not null)
            File.WriteAllText(path, text);
        Assert.Equal(File.ReadAllText(path), text);
    }

    private static JsonNode Text(JsonSchemaExporterContext context) =>
        context.PropertyInfo?.IsGetNullable == true ? new JsonArray("string", "null") : "string";

    // What is null is left out of what is written, so it can't be demanded.
    private static void Relax(JsonNode? node)
    {
        if (node is JsonArray list)
            foreach (var item in list)
                Relax(item);
        if (node is not JsonObject map)
            return;
        if (map["required"] is JsonArray required && map["properties"] is JsonObject properties)
            foreach (var name in required.ToList())
                if (
                    properties[(string)name!] is JsonObject its
                    && !its.ContainsKey("$ref")
                    && (
                        its["type"] is JsonArray types
                            ? types.Any(t => (string?)t == "null")
                            : its["type"] is null && its["enum"]?.AsArray().Contains(null) != false
                    )
                )
                    required.Remove(name);
        foreach (var (_, value) in map)
            Relax(value);
    }

    [Fact]
    public void A_plan_of_the_demo_has_every_property_that_its_schema_demands()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .With("app", "engine", "1", "\"a[1-2]\"")
            .Product(
                "engine",
                "releases: {\"1\": {}, \"2\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", methods: "
                    + "{rolling: {member: 1 min}}, change: [put, look]}\nsteps:\n"
                    + "  put: {do: {install: x, version: \"{jump.to}\"}}\n"
                    + "  look: {do: {command: [look]}, already: running = jump.to, undo: {command: [away]}}\n"
            );
        var plan = Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 2}]"), "e", "c"));
        Demanded(
            JsonNode.Parse(File.ReadAllText(Path.Combine(Folder(), "plan.schema.json")))!.AsObject(),
            JsonSerializer.SerializeToNode(plan, Json.Options)!,
            "plan"
        );
    }

    private static void Demanded(JsonObject schema, JsonNode value, string at)
    {
        if (value is JsonArray list && schema["items"] is JsonObject items)
            foreach (var item in list)
                Demanded(items, item!, at + "[]");
        if (value is not JsonObject map || schema["properties"] is not JsonObject properties)
            return;
        foreach (var name in schema["required"]?.AsArray() ?? [])
            Assert.True(map.ContainsKey((string)name!), $"{at}.{name}");
        foreach (var (name, its) in map)
            if (properties[name] is JsonObject inner)
                Demanded(inner, its!, $"{at}.{name}");
    }
}
