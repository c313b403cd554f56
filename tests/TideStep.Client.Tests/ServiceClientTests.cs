using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Client.Tests;

public sealed class ServiceClientTests : IDisposable
{
    private readonly ScriptedService _service = new();
    private readonly ServiceClient _client;

    public ServiceClientTests() => _client = new ServiceClient(_service.Address, "the-key", "Wren Hålé");

    private static string Event(long sequence, RunEvent e) =>
        $"id: {sequence}\ndata: "
        + $"{JsonSerializer.Serialize(new JournalEntry("r1", sequence, 1, DateTimeOffset.UnixEpoch, e), Json.Options)}"
        + $"\n\n";

    private async Task<List<JournalEntry>> Follow(long after, Action<bool>? lost = null)
    {
        var seen = new List<JournalEntry>();
        await foreach (var entry in _client.FollowAsync("r1", after, lost ?? (_ => { }), CancellationToken.None))
            seen.Add(entry);
        return seen;
    }

    [Fact]
    public async Task Key_and_name_go_along_with_every_call()
    {
        _service.Then(200, "{\"a\":1}");
        Assert.Equal(1, (await _client.GetAsync<JsonElement>("/api/x", default)).GetProperty("a").GetInt32());
        Assert.Equal("Bearer the-key", _service.Asked[0].Headers["Authorization"]);
        Assert.Equal("Wren Hålé", Uri.UnescapeDataString(_service.Asked[0].Headers["Tide-Step-Name"]));
    }

    [Fact]
    public async Task A_refusal_keeps_every_problem_with_its_place_and_hint()
    {
        _service.Then(
            422,
            """
            {"title":"2 problems","problems":[
              {"what":"no such key","hint":"Did you mean 'guard'?","at":{"file":"e.yaml","line":3,"column":7}},
              {"what":"second"}]}
            """,
            "application/problem+json"
        );
        var refused = await Assert.ThrowsAsync<RefusedException>(() => _client.GetTextAsync("/api/x", default));
        Assert.Equal(422, refused.Status);
        Assert.Equal(["no such key", "second"], refused.Problems.Select(p => p.What));
        Assert.Equal(new Place("e.yaml", 3, 7), refused.Problems[0].At);
        Assert.Equal("Did you mean 'guard'?", refused.Problems[0].Hint);
    }

    [Fact]
    public async Task An_answer_that_is_not_ours_is_still_a_clear_refusal()
    {
        _service.Then(502, "<html>bad gateway</html>", "text/html");
        var refused = await Assert.ThrowsAsync<RefusedException>(() => _client.GetTextAsync("/api/x", default));
        Assert.Equal("the service answered 502", refused.Problems.Single().What);
    }

    [Fact]
    public async Task A_send_whose_answer_was_lost_is_repeated_under_the_same_key()
    {
        _service.ThenBreak("{\"ru", "application/json").Then(200, "{\"run\":\"r1\"}");
        Assert.Equal("r1", (string?)(await _client.PostAsync("/api/runs", new { plan = "p" }, default))!["run"]);
        Assert.Equal(2, _service.Asked.Count);
        Assert.Equal(_service.Asked[0].Headers["Idempotency-Key"], _service.Asked[1].Headers["Idempotency-Key"]);
    }

    [Fact]
    public async Task Two_sends_have_two_keys()
    {
        _service.Then(200, "{}").Then(204, "");
        await _client.PostAsync("/api/runs", null, default);
        Assert.Null(await _client.PostAsync("/api/runs", null, default));
        Assert.NotEqual(_service.Asked[0].Headers["Idempotency-Key"], _service.Asked[1].Headers["Idempotency-Key"]);
    }

    [Fact]
    public async Task Following_goes_on_after_a_broken_connection_from_the_last_entry_seen()
    {
        _service
            .ThenBreak(Event(4, new Held()) + Event(5, new WentOn("Wren")))
            .Then(200, Event(6, new Held()) + Event(7, new Ended(RunEnd.Completed)), "text/event-stream");
        var losses = new List<bool>();
        Assert.Equal([4, 5, 6, 7], (await Follow(3, losses.Add)).Select(e => e.Sequence));
        Assert.Equal(["3", "5"], _service.Asked.Select(a => a.Headers["Last-Event-ID"]));
        Assert.Equal([true, false], losses);
    }

    [Fact]
    public async Task Half_an_entry_is_not_an_entry()
    {
        var whole = Event(2, new WentOn("Wren"));
        _service
            .ThenBreak(Event(1, new Held()) + whole[..^5])
            .Then(200, whole + Event(3, new Ended(RunEnd.Completed)), "text/event-stream");
        Assert.Equal([1, 2, 3], (await Follow(0)).Select(e => e.Sequence));
    }

    [Fact]
    public async Task Following_ends_with_the_run_and_not_with_the_connection()
    {
        _service.Then(200, Event(9, new Ended(RunEnd.StoppedHere)) + Event(10, new Held()), "text/event-stream");
        Assert.Equal(9, Assert.Single(await Follow(8)).Sequence);
    }

    [Fact]
    public async Task A_list_is_read_page_after_page_up_to_as_many_lines_as_are_wanted()
    {
        ScriptedService Pages() =>
            _service
                .Then(http => Page(http, "[1, 2]", "</api/x?limit=2&after=b%20c>; rel=\"next\""))
                .Then(http => Page(http, "[3, 4]", "</api/x?limit=2&after=d>; rel=\"next\""))
                .Then(http => Page(http, "[5]", null));
        Pages();
        var (all, more) = await _client.ListAsync<int>("/api/x?limit=2", null, default);
        Assert.Equal([1, 2, 3, 4, 5], all);
        Assert.False(more);
        Assert.Equal("/api/x?limit=2&after=b%20c", _service.Asked[1].Path);
        Pages();
        var (some, others) = await _client.ListAsync<int>("/api/x?limit=2", 3, default);
        Assert.Equal([1, 2, 3], some);
        Assert.True(others);
    }

    private static async Task Page(System.Net.HttpListenerContext http, string body, string? link)
    {
        http.Response.ContentType = "application/json";
        if (link is not null)
            http.Response.Headers["Link"] = link;
        await http.Response.OutputStream.WriteAsync(System.Text.Encoding.UTF8.GetBytes(body));
        http.Response.Close();
    }

    [Fact]
    public async Task Following_a_run_that_is_not_there_is_refused_at_once()
    {
        _service.Then(404, """{"title":"there is no run r1"}""", "application/problem+json");
        Assert.Equal(404, (await Assert.ThrowsAsync<RefusedException>(() => Follow(0))).Status);
    }

    [Fact]
    public async Task A_service_that_is_not_there_is_an_error_of_the_connection()
    {
        _service.Dispose();
        await Assert.ThrowsAsync<HttpRequestException>(() => _client.GetTextAsync("/api/x", default));
    }

    public void Dispose()
    {
        _client.Dispose();
        _service.Dispose();
    }
}
