using System.Text.Json;
using System.Text.Json.Nodes;
using CsCheck;
using TideStep.Core.Documents;

namespace TideStep.Core.Tests;

/// <summary>What changed between two documents, put on the first, makes the second; whatever they are.</summary>
public sealed class JsonDeltaTests
{
    private static Gen<T> One<T>(params T[] of) => Gen.Int[0, of.Length - 1].Select(i => of[i]);

    private static readonly Gen<string> Name = One("a", "b", "a/b", "~", "~1", "0", "-", "");

    private static readonly Gen<JsonNode?> Node = Gen.Recursive<JsonNode?>(
        (depth, self) =>
            depth > 3
                ? Leaf
                : Gen.Frequency(
                    (3, Leaf),
                    (2, Gen.Select(Name, self).List[0, 4].Select(Object)),
                    (2, self.List[0, 4].Select(l => (JsonNode?)new JsonArray([.. l.Select(n => n?.DeepClone())])))
                )
    );

    private static Gen<JsonNode?> Leaf =>
        Gen.OneOf(
            Gen.Const((JsonNode?)null),
            Gen.Int[0, 2].Select(i => (JsonNode?)JsonValue.Create(i)),
            One("x", "y").Select(t => (JsonNode?)JsonValue.Create(t)),
            Gen.Bool.Select(b => (JsonNode?)JsonValue.Create(b))
        );

    private static JsonNode? Object(List<(string Name, JsonNode? Value)> properties)
    {
        var made = new JsonObject();
        foreach (var (name, value) in properties)
            made[name] = value?.DeepClone();
        return made;
    }

    [Fact]
    public void Put_on_the_first_it_makes_the_second()
    {
        var (grown, shrunk, removed, deep) = (0, 0, 0, 0);
        Gen.Select(Node, Node)
            .Sample(
                (was, now) =>
                {
                    var delta = JsonDelta.Between(Element(was), Element(now));
                    Assert.Equal(JsonNode.DeepEquals(was, now), delta.Count == 0);
                    // It goes over the line in between.
                    var sent = JsonSerializer.Deserialize<List<JsonOperation>>(
                        JsonSerializer.Serialize(delta, Json.Options),
                        Json.Options
                    )!;
                    var made = JsonDelta.Apply(was?.DeepClone(), sent);
                    Assert.True(JsonNode.DeepEquals(made, now), $"{was} to {now} by {delta.Count} became {made}");
                    grown += delta.Count(o => o.Path.EndsWith("/-", StringComparison.Ordinal));
                    removed += delta.Count(o => o.Op == JsonOperation.Remove);
                    deep += delta.Count(o => o.Path.Count(c => c == '/') > 1);
                    shrunk += delta.Count(o => o is { Op: JsonOperation.Remove } && char.IsDigit(o.Path[^1]));
                },
                iter: 5000,
                threads: 1
            );
        Assert.All([grown, shrunk, removed, deep], n => Assert.True(n > 50, $"{grown} {shrunk} {removed} {deep}"));
    }

    // Things with names of their own, in any order, some of them twice: then no name tells them apart.
    private static readonly Gen<JsonNode?> Named = Gen.Select(One("id", "subject", "number"), Gen.Int[0, 9].List[0, 8])
        .SelectMany(
            (by, names) =>
                Gen.Select(Gen.Const(by), Gen.Const(names), Gen.Int[0, 2].List[names.Count, names.Count], Gen.Bool)
        )
        .Select(
            (by, names, values, twice) =>
                (JsonNode?)
                    new JsonObject
                    {
                        ["list"] = new JsonArray([
                            .. (twice ? names : names.Distinct()).Select(
                                (n, i) => new JsonObject { [by] = $"n{n}", ["value"] = values[i] }
                            ),
                        ]),
                    }
        );

    [Fact]
    public void What_has_a_name_is_moved_with_it()
    {
        var (moved, removed, added, changed) = (0, 0, 0, 0);
        Gen.Select(Named, Named)
            .Sample(
                (was, now) =>
                {
                    var delta = JsonDelta.Between(Element(was), Element(now));
                    var sent = JsonSerializer.Deserialize<List<JsonOperation>>(
                        JsonSerializer.Serialize(delta, Json.Options),
                        Json.Options
                    )!;
                    var made = JsonDelta.Apply(was?.DeepClone(), sent);
                    Assert.True(JsonNode.DeepEquals(made, now), $"{was} to {now} by {delta.Count} became {made}");
                    moved += delta.Count(o => o.Op == JsonOperation.Move);
                    removed += delta.Count(o => o.Op == JsonOperation.Remove);
                    added += delta.Count(o => o.Op == JsonOperation.Add);
                    changed += delta.Count(o => o.Op == JsonOperation.Replace);
                },
                iter: 20_000,
                threads: 1
            );
        Assert.All([moved, removed, added, changed], n => Assert.True(n > 200, $"{moved} {removed} {added} {changed}"));
    }

    [Fact]
    public void Of_a_list_that_is_put_in_another_order_only_the_moves_go()
    {
        JsonNode Of(IEnumerable<int> order) =>
            new JsonArray([
                .. order.Select(i => new JsonObject { ["subject"] = $"m{i}", ["steps"] = new string('x', 500) }),
            ]);
        var delta = JsonDelta.Between(
            Element(Of(Enumerable.Range(0, 100))),
            Element(Of([99, .. Enumerable.Range(0, 99)]))
        );
        var move = Assert.Single(delta);
        Assert.Equal((JsonOperation.Move, "/99", "/0"), (move.Op, move.From, move.Path));
    }

    [Theory]
    [InlineData("/a/b")]
    [InlineData("/list/7")]
    [InlineData("/list/x")]
    [InlineData("/none/b")]
    public void What_does_not_fit_is_refused(string path)
    {
        var document = JsonNode.Parse("{\"a\": 1, \"list\": [1]}");
        var operation = new JsonOperation(JsonOperation.Replace, path, Element(JsonValue.Create(1)));
        Assert.Contains(path, Assert.Throws<FormatException>(() => JsonDelta.Apply(document, [operation])).Message);
    }

    private static JsonElement Element(JsonNode? node) => JsonSerializer.SerializeToElement(node);
}
