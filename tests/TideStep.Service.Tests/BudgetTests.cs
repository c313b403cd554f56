using System.Net;
using System.Net.Http.Json;
using System.Text;
using TideStep.Tests;

namespace TideStep.Service.Tests;

/// <summary>Small requests that stand for very much, and large ones, many at once: each is refused at its place, and
/// the service, which has a heap of 512 MiB here, goes on.</summary>
public sealed class BudgetTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private const int AtOnce = 8;

    private static string Estate(string nodes, string more = "") =>
        $"tidestep: estate/1\nestate: e\nsites: {{s: {{}}}}\nnodes: {{{nodes}}}\ncomponents: {{}}\n{more}";

    private static string Laughs()
    {
        var text = new StringBuilder("tidestep: estate/1\nestate: e\nl0: &l0 [ha, ha, ha, ha, ha, ha, ha, ha, ha]\n");
        for (var i = 1; i < 12; i++)
            text.Append($"l{i}: &l{i} [{string.Join(", ", Enumerable.Repeat($"*l{i - 1}", 9))}]\n");
        return text.ToString();
    }

    public static TheoryData<string, string> Documents =>
        new()
        {
            { "nodes", Estate("\"n[1-2000]-[1-2000]\": {site: s}") },
            {
                "nodes of nodes",
                Estate(string.Join(", ", Enumerable.Range(0, 60).Select(i => $"\"n{i}-[1-70000]\": {{site: s}}")))
            },
            { "aliases of aliases", Laughs() },
            { "a long text", Estate("n1: {site: s}", $"title: \"{new string('x', 8 << 20)}\"\n") },
            { "a deep list", Estate("n1: {site: s}", $"title: {new string('[', 200_000)}") },
            {
                "many keys",
                Estate("n1: {site: s}", string.Concat(Enumerable.Range(0, 300_000).Select(i => $"k{i}: 1\n")))
            },
            {
                "an hour every second",
                Estate("n1: {site: s}", "windows: {w: {every: \"RRULE:FREQ=SECONDLY\", from: \"01:00\", lasts: 1 h}}\n")
            },
        };

    [Theory]
    [MemberData(nameof(Documents))]
    public async Task What_stands_for_too_much_is_refused_and_the_service_goes_on(string what, string text)
    {
        var stack = fixture.Stack;
        var answers = await Task.WhenAll(
            Enumerable
                .Range(0, AtOnce)
                .Select(_ =>
                    stack.Service.PostAsJsonAsync(
                        "/api/documents",
                        new { documents = new[] { new { name = what, text } } }
                    )
                )
        );
        foreach (var answer in answers)
        {
            var said = await answer.Content.ReadAsStringAsync();
            Assert.True(
                answer.StatusCode
                    is HttpStatusCode.UnprocessableEntity
                        or HttpStatusCode.BadRequest
                        or HttpStatusCode.RequestEntityTooLarge,
                $"{answer.StatusCode}: {said[..Math.Min(300, said.Length)]}"
            );
            Assert.Contains("title", said);
            Assert.True(said.Length < 150_000, $"{said.Length} characters are no answer");
        }
        Assert.Equal(HttpStatusCode.OK, (await stack.Service.GetAsync("/api/estate")).StatusCode);
    }
}
