using System.Net;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Service.Tests;

/// <summary>Documents over the API: looked at, checked without being kept, changed by two people.</summary>
public sealed class DocumentRoutesTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private static readonly CancellationToken Ct = TestContext.Current.CancellationToken;

    private HttpClient Service => fixture.Stack.Service;

    private async Task<JsonNode> KeptAsync() =>
        (await Service.GetFromJsonAsync<JsonNode>("/api/documents/product/phalarope", Ct))!;

    private Task<HttpResponseMessage> SendAsync(string path, string text, long? after = null) =>
        Service.PostAsJsonAsync(path, new { documents = new[] { new { name = "phalarope", text } }, after }, Ct);

    [Fact]
    public async Task What_is_checked_is_not_kept_and_every_problem_has_its_place()
    {
        var before = await KeptAsync();
        var text = (string)before["body"]!;
        var good = await (await SendAsync("/api/documents/check", text + "\n")).Content.ReadFromJsonAsync<JsonNode>(Ct);
        Assert.Empty(good!["problems"]!.AsArray());
        var wrong = text.Replace("releases:", "relaeses:") + "\nsurprise: 1\n";
        var answer = await (await SendAsync("/api/documents/check", wrong)).Content.ReadFromJsonAsync<JsonNode>(Ct);
        var problems = answer!["problems"]!.AsArray();
        Assert.True(problems.Count >= 2, answer.ToJsonString());
        Assert.All(problems, p => Assert.True((int)p!["at"]!["line"]! > 0));
        Assert.Equal((long)before["revision"]!, (long)(await KeptAsync())["revision"]!);
    }

    [Fact]
    public async Task Of_two_who_change_the_same_revision_the_second_is_told()
    {
        var before = await KeptAsync();
        var (text, revision) = ((string)before["body"]!, (long)before["revision"]!);
        var first = await SendAsync("/api/documents", text + "\n# one\n", revision);
        Assert.Equal(HttpStatusCode.OK, first.StatusCode);
        var second = await SendAsync("/api/documents", text + "\n# two\n", revision);
        Assert.Equal(HttpStatusCode.Conflict, second.StatusCode);
        var kept = await KeptAsync();
        Assert.Equal((revision + 1, text + "\n# one\n"), ((long)kept["revision"]!, (string)kept["body"]!));
        var revisions = (
            await Service.GetFromJsonAsync<JsonArray>("/api/documents/product/phalarope/revisions", Ct)
        )!.Select(r => (long)r!["revision"]!);
        Assert.Equal(Enumerable.Range(1, (int)revision + 1).Select(r => (long)r).Reverse(), revisions);
        var line = (await Service.GetFromJsonAsync<JsonArray>("/api/documents", Ct))!.Single(d =>
            (string)d!["id"]! == "phalarope"
        );
        Assert.Equal(revision + 1, (long)line!["revision"]!);
    }
}
