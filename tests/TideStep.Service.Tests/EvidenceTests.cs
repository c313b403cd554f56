using System.Net;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Service.Tests;

/// <summary>What people had to do before is signed with words and, where these are not enough, a file that is
/// kept.</summary>
public sealed class EvidenceTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private const string Item = "move the price reports off the old fare table";

    private async Task<(HttpStatusCode Status, JsonNode Body)> SignAsync(object body)
    {
        var http = fixture.Stack.Service;
        var plan = (string)
            (
                await (
                    await http.PostAsJsonAsync(
                        "/api/plans",
                        new { goal = await File.ReadAllTextAsync(fixture.Stack.Demo("goals/season.yaml")) }
                    )
                ).Content.ReadFromJsonAsync<JsonNode>()
            )!["digest"]!;
        var response = await http.PostAsJsonAsync($"/api/plans/{plan}/signatures", body);
        return (response.StatusCode, (await response.Content.ReadFromJsonAsync<JsonNode>())!);
    }

    [Fact]
    public async Task A_file_is_kept_whole_and_found_by_its_checksum()
    {
        byte[] shown = [0, 255, 10, 13, 128];
        var (_, signed) = await SignAsync(
            new
            {
                item = Item,
                evidence = "all reports read the new table",
                file = new { name = "../../etc/reports.png", content = shown },
            }
        );
        Assert.Equal(("reports.png", 5), ((string)signed["file"]!["name"]!, (long)signed["file"]!["bytes"]!));
        Assert.Equal(
            shown,
            await fixture.Stack.Service.GetByteArrayAsync($"/api/evidence/{(string)signed["file"]!["sha256"]!}")
        );
        Assert.Equal(
            HttpStatusCode.NotFound,
            (await fixture.Stack.Service.GetAsync($"/api/evidence/{new string('0', 64)}")).StatusCode
        );
    }

    [Fact]
    public async Task Too_large_a_file_is_refused_and_nothing_is_signed()
    {
        var (status, problem) = await SignAsync(
            new
            {
                item = Item,
                evidence = "see the film",
                file = new { name = "film.bin", content = new byte[(5 * 1024 * 1024) + 1] },
            }
        );
        Assert.Equal(HttpStatusCode.UnprocessableEntity, status);
        Assert.Contains("film.bin is larger than 5 MiB", (string)problem["problems"]![0]!["what"]!);
    }
}
