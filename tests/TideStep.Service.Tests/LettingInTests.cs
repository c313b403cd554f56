using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using TideStep.Tests;
using Xunit;

namespace TideStep.Service.Tests;

/// <summary>A command line is let in by whoever is signed in to the console; against the real service.</summary>
public sealed class LettingInTests : IAsyncLifetime
{
    private const string Verifier = "what the command line alone knows";
    private DemoStack _stack = null!;
    private HttpClient _unknown = null!;

    public async ValueTask InitializeAsync()
    {
        _stack = await DemoStack.StartAsync(tiny: true);
        _unknown = new HttpClient { BaseAddress = _stack.Service.BaseAddress };
    }

    public ValueTask DisposeAsync()
    {
        _unknown.Dispose();
        return _stack.DisposeAsync();
    }

    private async Task<string> AskAsync(bool here)
    {
        var challenge = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(Verifier)));
        var asked = await _unknown.PostAsJsonAsync(
            "/api/entries",
            new
            {
                challenge,
                program = "tidestep on gull\u202e",
                here,
            }
        );
        Assert.Equal(HttpStatusCode.Created, asked.StatusCode);
        var view = (await asked.Content.ReadFromJsonAsync<JsonObject>())!;
        Assert.EndsWith($"/let-in?code={view["code"]}", (string)view["address"]!);
        return (string)view["code"]!;
    }

    private async Task<(HttpStatusCode Status, string? Key)> TakeAsync(
        string code,
        string? piece = null,
        string verifier = Verifier
    )
    {
        var answer = await _unknown.PostAsJsonAsync($"/api/entries/{code}/key", new { verifier, piece });
        var text = await answer.Content.ReadAsStringAsync();
        return (
            answer.StatusCode,
            answer.StatusCode == HttpStatusCode.OK ? (string?)JsonNode.Parse(text)!["key"] : null
        );
    }

    private async Task<string> LetAsync(string code, bool let = true)
    {
        var said = await _stack.Service.PostAsJsonAsync($"/api/entries/{code}", new { let });
        Assert.Equal(HttpStatusCode.OK, said.StatusCode);
        return (string)(await said.Content.ReadFromJsonAsync<JsonObject>())!["piece"]!;
    }

    [Fact]
    public async Task It_is_let_in_once_by_whoever_is_signed_in_and_nobody_else_takes_what_it_gets()
    {
        var code = await AskAsync(here: false);
        Assert.Equal(HttpStatusCode.Accepted, (await TakeAsync(code)).Status);
        // Whoever is unknown neither sees it nor lets it in.
        Assert.Equal(HttpStatusCode.Unauthorized, (await _unknown.GetAsync($"/api/entries/{code}")).StatusCode);
        Assert.Equal(
            HttpStatusCode.Unauthorized,
            (await _unknown.PostAsJsonAsync($"/api/entries/{code}", new { let = true })).StatusCode
        );
        Assert.Equal("", await LetAsync(code.ToLowerInvariant()));
        // The code alone, which stands on a screen, is not enough.
        Assert.Equal(HttpStatusCode.Gone, (await TakeAsync(code, verifier: "a guess")).Status);
        var (status, key) = await TakeAsync(code);
        Assert.Equal(HttpStatusCode.OK, status);
        using var let = new HttpClient { BaseAddress = _stack.Service.BaseAddress };
        let.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", key);
        Assert.Equal(HttpStatusCode.OK, (await let.GetAsync("/api/estate")).StatusCode);
        Assert.Equal(HttpStatusCode.Gone, (await TakeAsync(code)).Status);
        Assert.Equal(
            HttpStatusCode.NotFound,
            (await _stack.Service.PostAsJsonAsync($"/api/entries/{code}", new { let = true })).StatusCode
        );
    }

    [Fact]
    public async Task One_beside_the_browser_needs_the_piece_that_the_browser_hands_over()
    {
        var code = await AskAsync(here: true);
        var piece = await LetAsync(code);
        Assert.Equal(32, piece.Length);
        // Somebody elsewhere who began it, and has its code and what it alone knows, waits for ever.
        Assert.Equal(HttpStatusCode.Accepted, (await TakeAsync(code)).Status);
        Assert.Equal(HttpStatusCode.OK, (await TakeAsync(code, piece)).Status);

        var guessed = await AskAsync(here: true);
        piece = await LetAsync(guessed);
        Assert.Equal(HttpStatusCode.Gone, (await TakeAsync(guessed, new string('0', 32))).Status);
        Assert.Equal(HttpStatusCode.Gone, (await TakeAsync(guessed, piece)).Status);
    }

    [Fact]
    public async Task Who_is_not_let_in_is_told_and_too_many_that_wait_are_refused()
    {
        var code = await AskAsync(here: false);
        await LetAsync(code, let: false);
        Assert.Equal(HttpStatusCode.Forbidden, (await TakeAsync(code)).Status);
        Assert.Equal(HttpStatusCode.Gone, (await TakeAsync("BBBB-BBBB")).Status);
        var record = await _stack.Service.GetStringAsync("/api/record");
        Assert.Contains("/api/entries/{code}", record);
        Assert.DoesNotContain(code, record);
        var last = HttpStatusCode.OK;
        for (var i = 0; i < 25 && last != HttpStatusCode.TooManyRequests; i++)
        {
            using var asked = await _unknown.PostAsJsonAsync(
                "/api/entries",
                new { challenge = new string('a', 64), program = "x" }
            );
            last = asked.StatusCode;
        }
        Assert.Equal(HttpStatusCode.TooManyRequests, last);
        var odd = await _unknown.PostAsJsonAsync("/api/entries", new { challenge = "short", program = "x" });
        Assert.Equal(HttpStatusCode.UnprocessableEntity, odd.StatusCode);
    }
}
