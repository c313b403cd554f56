using System.Text.Json;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Service.Tests;

/// <summary>The console's client is generated from docs/formats/openapi.json: it is what the service serves. With
/// TIDESTEP_SCHEMAS set it is written anew.</summary>
public sealed class OpenApiDocumentTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    private async Task<JsonObject> ServedAsync()
    {
        var served = JsonNode
            .Parse(
                await fixture.Stack.Service.GetStringAsync("/openapi/v1.json", TestContext.Current.CancellationToken)
            )!
            .AsObject();
        // Where it is reached is this service's own.
        served.Remove("servers");
        return served;
    }

    [Fact]
    public async Task The_kept_document_is_the_one_that_is_served()
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "TideStep.slnx")))
            root = Path.GetDirectoryName(root)!;
        var path = Path.Combine(root, "docs", "formats", "openapi.json");
        var served = (await ServedAsync()).ToJsonString(Indented) + "\n";
        if (Environment.GetEnvironmentVariable("TIDESTEP_SCHEMAS") is not null)
            await File.WriteAllTextAsync(path, served, TestContext.Current.CancellationToken);
        Assert.Equal(await File.ReadAllTextAsync(path, TestContext.Current.CancellationToken), served);
    }

    [Fact]
    public async Task Every_answer_with_a_body_says_its_shape()
    {
        // What a stream sends and what machines ask about health has no shape of one JSON value.
        string[] without = ["/health/live", "/health/ready", "/api/runs/{run}/events", "/api/runs/{run}/changes"];
        var shapeless = (
            from path in (await ServedAsync())["paths"]!.AsObject()
            from operation in path.Value!.AsObject()
            from answer in operation.Value!["responses"]!.AsObject()
            where
                answer.Key == "200"
                && operation.Key != "head"
                && answer.Value!["content"]?.AsObject() is not { Count: > 0 }
            select path.Key
        ).Except(without);
        Assert.Empty(shapeless);
    }
}
