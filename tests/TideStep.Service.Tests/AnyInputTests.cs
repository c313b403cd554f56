using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Service.Tests;

/// <summary>Every call that the service's own description names, with what nobody means: empty, missing, wrong, huge,
/// in odd charsets. None of it is an error of the service.</summary>
public sealed class AnyInputTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private readonly DemoStack _stack = fixture.Stack;

    // What stands in a path or a query; none is a folder or an address that anything could be taken from.
    private static readonly string[] Texts =
    [
        "x",
        "0",
        "-1",
        "99999999999999999999",
        "NaN",
        "%00",
        "%F0%9F%90%A6",
        "..%2F..%2Fx",
        "%25",
        "a%0Ab",
        "true",
        "2026-13-45T99:99:99Z",
        new string('y', 3000),
    ];

    private sealed record Call(string Method, string Path, List<string> Query, JsonNode? Body)
    {
        public override string ToString() => $"{Method} {Path}";
    }

    private JsonNode _document = new JsonObject();

    private JsonNode? Resolved(JsonNode? schema)
    {
        while ((string?)schema?["$ref"] is { } reference)
            schema = reference.Split('/').Skip(1).Aggregate(_document, (at, key) => at[key]!);
        return schema;
    }

    private IEnumerable<Call> Calls() =>
        from path in _document["paths"]!.AsObject()
        from operation in path.Value!.AsObject()
        let parameters = operation.Value!["parameters"]?.AsArray() ?? []
        let content = operation.Value["requestBody"]?["content"]?.AsObject()
        select new Call(
            operation.Key.ToUpperInvariant(),
            path.Key,
            [.. parameters.Where(p => (string?)p!["in"] == "query").Select(p => (string)p!["name"]!)],
            content?.FirstOrDefault().Value?["schema"]
        );

    // A value that the schema allows, as far as it says.
    private JsonNode? Example(JsonNode? schema, int depth = 0)
    {
        schema = Resolved(schema);
        if (schema is null || depth > 6)
            return null;
        foreach (var of in new[] { "oneOf", "anyOf", "allOf" })
            if (schema[of] is JsonArray { Count: > 0 } some)
                return Example(some.FirstOrDefault(s => (string?)s!["type"] != "null"), depth + 1);
        if (schema["enum"] is JsonArray { Count: > 0 } words)
            return words[0]?.DeepClone();
        var type = schema["type"] is JsonArray types
            ? types.Select(t => (string)t!).First(t => t != "null")
            : (string?)schema["type"];
        return type switch
        {
            "object" => new JsonObject(
                (schema["properties"]?.AsObject() ?? []).Select(p =>
                    KeyValuePair.Create(p.Key, Example(p.Value, depth + 1))
                )
            ),
            "array" => new JsonArray(Example(schema["items"], depth + 1)),
            "integer" or "number" => 1,
            "boolean" => true,
            _ => "x",
        };
    }

    // The same with one thing in it that is otherwise.
    private static IEnumerable<JsonNode?> Otherwise(JsonNode? good)
    {
        JsonNode?[] values =
        [
            null,
            "",
            "x",
            -1,
            1e300,
            true,
            new JsonArray(),
            new JsonObject(),
            new JsonArray(new JsonArray(), null),
            new string('z', 100_000),
            "\u0000\ud7ff\ufffe",
        ];
        foreach (var value in values)
            yield return value?.DeepClone();
        if (good is not JsonObject map)
            yield break;
        foreach (var (key, _) in map)
        {
            var without = map.DeepClone().AsObject();
            without.Remove(key);
            yield return without;
            foreach (var value in values)
            {
                var changed = map.DeepClone().AsObject();
                changed[key] = value?.DeepClone();
                yield return changed;
            }
        }
    }

    private static IEnumerable<HttpContent?> Bodies(JsonNode? good)
    {
        foreach (var body in Otherwise(good))
            yield return JsonContent.Create(body);
        yield return null;
        foreach (
            var text in new[]
            {
                "",
                "{",
                "]",
                "{\"x\":1e999}",
                "not json",
                new string('[', 20_000),
                "{\"\":{\"\":" + new string('{', 100),
            }
        )
            yield return new StringContent(text, Encoding.UTF8, "application/json");
        yield return new ByteArrayContent([0xff, 0xfe, 0x00, 0xd8, 0x80])
        {
            Headers = { ContentType = new MediaTypeHeaderValue("application/json") },
        };
        foreach (var type in new[] { "application/json; charset=utf-16", "application/json; charset=nonsense" })
            yield return new ByteArrayContent(Encoding.UTF8.GetBytes("{}"))
            {
                Headers = { ContentType = MediaTypeHeaderValue.Parse(type) },
            };
        yield return new StringContent("a=b", Encoding.UTF8, "application/x-www-form-urlencoded");
        yield return new StringContent("<x/>", Encoding.UTF8, "text/xml");
        yield return new ByteArrayContent([1, 2, 3]);
    }

    private static string Filled(string path, string value) =>
        System.Text.RegularExpressions.Regex.Replace(path, @"\{[^}]*\}", value.Replace("$", "$$"));

    private IEnumerable<(string Path, HttpContent? Body)> Requests(Call call)
    {
        var good = call.Body is null ? null : Example(call.Body);
        foreach (var text in call.Path.Contains('{', StringComparison.Ordinal) ? Texts : ["x"])
            yield return (Filled(call.Path, text), good is null ? null : JsonContent.Create(good));
        foreach (var name in call.Query)
        foreach (var text in Texts)
            yield return ($"{Filled(call.Path, "x")}?{name}={text}", good is null ? null : JsonContent.Create(good));
        if (call.Method is "POST" or "PUT" or "PATCH" or "DELETE")
            foreach (var body in Bodies(good))
                yield return (Filled(call.Path, "x"), body);
    }

    private static bool SaysWhy(HttpResponseMessage answer, string said) =>
        answer.Content.Headers.ContentType?.MediaType == "application/problem+json"
        && !string.IsNullOrWhiteSpace((string?)JsonNode.Parse(said)!["title"]);

    [Fact]
    public async Task Whatever_is_sent_the_answer_says_what_is_wrong_with_it()
    {
        _document = (await _stack.Service.GetFromJsonAsync<JsonNode>("/openapi/v1.json"))!;
        var calls = Calls().ToList();
        Assert.True(calls.Count > 80, $"{calls.Count} calls are described");
        var (asked, refused, wrong) = (0, 0, new List<string>());
        foreach (var call in calls)
        foreach (var (path, body) in Requests(call))
        {
            using var request = new HttpRequestMessage(new HttpMethod(call.Method), path) { Content = body };
            request.Headers.Add("Idempotency-Key", $"any-{asked++}");
            // Feeds do not end: what they begin with is looked at.
            using var answer = await _stack.Service.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
            var sent = body is null ? "" : Encoding.Latin1.GetString(await body.ReadAsByteArrayAsync());
            var what = $"{call} as {path[..Math.Min(path.Length, 120)]} {sent[..Math.Min(sent.Length, 200)]}";
            if ((int)answer.StatusCode >= 500)
                wrong.Add($"{(int)answer.StatusCode} {what}");
            if ((int)answer.StatusCode is < 400 or >= 500)
                continue;
            refused++;
            var said = await answer.Content.ReadAsStringAsync();
            // Nought in a path is refused by the server itself, before any of ours.
            if (
                call.Method != "HEAD"
                && !path.Contains("%00", StringComparison.Ordinal)
                && (said.Length == 0 || !SaysWhy(answer, said))
            )
                wrong.Add($"{(int)answer.StatusCode} without a problem: {what}: {said}");
        }
        Assert.True(wrong.Count == 0, $"{wrong.Count} of {asked}:\n{string.Join("\n", wrong.Take(60))}");
        Assert.True(refused > asked / 3, $"{refused} of {asked} were refused");
        Assert.True((await _stack.Service.GetAsync("/health/ready")).IsSuccessStatusCode);
    }

    [Fact]
    public async Task A_body_that_is_no_request_is_refused_with_the_place_in_it()
    {
        foreach (
            var (body, at) in new[]
            {
                ("{\"goal\": 7}", "$.goal"),
                ("{\"goal\": \"x\", \"name\": []}", "$.name"),
                ("{}", "goal"),
                ("{\"goal\": null}", "$.goal"),
            }
        )
        {
            var answer = await _stack.Service.PostAsync(
                "/api/plans",
                new StringContent(body, Encoding.UTF8, "application/json")
            );
            Assert.Equal(400, (int)answer.StatusCode);
            Assert.Contains(at, await answer.Content.ReadAsStringAsync());
        }
    }
}
