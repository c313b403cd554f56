using System.Net;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Service.Tests;

/// <summary>Rules out of tables by the API: shown, confirmed, and refused with the place of what is wrong.</summary>
public sealed class TableTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private const string Markdown =
        "| to do | by |\n|---|---|\n| call the desk | Wren |\n\nand\n"
        + "\n| Curlew | 3.1 | 3.2 |\n|---|---|---|\n| 7.0 | no | |\n| 7.2 | | yes |\n";

    private static object File(string name, string text) => new { name, content = Encoding.UTF8.GetBytes(text) };

    private static object Asked(
        int table = 2,
        string text = Markdown,
        string product = "curlew",
        bool confirm = false,
        long? revision = null
    ) =>
        new
        {
            file = File("desk.md", text),
            table,
            product,
            relation = "depends-on",
            other = "phalarope",
            confirm,
            revision,
        };

    private async Task<(HttpStatusCode Status, JsonNode Body)> PostAsync(string path, object body)
    {
        var response = await fixture.Stack.Service.PostAsJsonAsync($"/api/catalogue/{path}", body);
        return (response.StatusCode, (await response.Content.ReadFromJsonAsync<JsonNode>())!);
    }

    [Fact]
    public async Task Every_table_of_a_file_is_shown_with_its_heading()
    {
        var (status, tables) = await PostAsync("tables", File("desk.md", Markdown));
        Assert.Equal(HttpStatusCode.OK, status);
        Assert.Equal(["to do", "by"], tables[0]!["heading"]!.AsArray().Select(h => (string)h!));
        Assert.Equal(
            (2, 3, "7.0"),
            ((int)tables[1]!["number"]!, (int)tables[1]!["rows"]!, (string)tables[1]!["first"]![0]![0]!)
        );
    }

    [Theory]
    [InlineData("desk.pages", "x", "is no kind of table")]
    [InlineData("desk.html", "<p>none</p>", "holds no table")]
    [InlineData("desk.xlsx", "this is no workbook", "can't be read")]
    public async Task A_file_without_a_table_that_can_be_read_is_refused(string name, string text, string why)
    {
        var (status, problem) = await PostAsync("tables", File(name, text));
        Assert.Equal(HttpStatusCode.UnprocessableEntity, status);
        Assert.Contains(why, (string)problem["problems"]![0]!["what"]!);
    }

    [Fact]
    public async Task What_a_table_says_wrongly_is_named_with_its_row_and_column()
    {
        var (status, problem) = await PostAsync(
            "rules",
            Asked(text: Markdown.Replace("| 7.2 | | yes |", "| 7.2 | | perhaps |"))
        );
        Assert.Equal(HttpStatusCode.UnprocessableEntity, status);
        Assert.Equal("'perhaps' is no verdict", (string)problem["problems"]![0]!["what"]!);
        Assert.Equal(
            (3, 3),
            ((int)problem["problems"]![0]!["at"]!["line"]!, (int)problem["problems"]![0]!["at"]!["column"]!)
        );
        Assert.Contains(
            "the file holds 2",
            (string)(await PostAsync("rules", Asked(table: 3))).Body["problems"]![0]!["what"]!
        );
        Assert.Contains(
            "no product 'curlev'",
            (string)(await PostAsync("rules", Asked(product: "curlev"))).Body["problems"]![0]!["what"]!
        );
    }

    [Fact]
    public async Task Rules_shown_for_a_document_that_was_changed_since_are_not_written()
    {
        var shown = (await PostAsync("rules", Asked())).Body;
        var revision = (long)shown["revision"]!;
        Assert.False((bool)shown["written"]!);
        Assert.Equal(2, shown["draft"]!["lines"]!.AsArray().Count);
        var written = (await PostAsync("rules", Asked(confirm: true, revision: revision))).Body;
        Assert.Equal((true, revision + 1), ((bool)written["written"]!, (long)written["revision"]!));
        var (status, problem) = await PostAsync("rules", Asked(confirm: true, revision: revision));
        Assert.Equal(HttpStatusCode.Conflict, status);
        Assert.Contains("was changed since", (string)problem["title"]!);
        var body = (string)
            (await fixture.Stack.Service.GetFromJsonAsync<JsonNode>("/api/documents/product/curlew"))!["body"]!;
        Assert.Single(body.Split('\n'), l =>
            l.Contains("this: \"7.0\", depends-on: phalarope, at: \"3.1\", verdict: unsupported")
        );
    }
}
