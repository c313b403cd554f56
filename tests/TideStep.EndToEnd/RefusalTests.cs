using System.Net;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

public sealed class RefusalTests : IAsyncLifetime
{
    private DemoStack _stack = null!;

    public async ValueTask InitializeAsync() => _stack = await DemoStack.StartAsync();

    public ValueTask DisposeAsync() => _stack.DisposeAsync();

    private string Write(string name, string text)
    {
        var path = Path.Combine(_stack.Work, name);
        File.WriteAllText(path, text);
        return path;
    }

    [Fact]
    public async Task A_wrong_document_imports_nothing_and_says_where()
    {
        var bad = Write(
            "curlew.yaml",
            (await File.ReadAllTextAsync(_stack.Demo("catalogue/curlew.yaml")))
                .Replace("to: \"7.2\"", "to: \"7.3\"")
                .Replace("drain, stop]", "drian, stop]")
        );
        var good = Write(
            "relay.yaml",
            (await File.ReadAllTextAsync(_stack.Demo("catalogue/phalarope.yaml"))).Replace(
                "Phalarope message relay",
                "Another title"
            )
        );
        var ran = await _stack.Cli("estate", "import", good, bad);
        Assert.Equal(2, ran.Status);
        Assert.Contains("curlew.yaml:", ran.Error);
        Assert.Contains("'7.3', which is no release", ran.Error);
        Assert.Contains("Did you mean 'drain'?", ran.Error);
        Assert.DoesNotContain("Another title", await _stack.Good("catalogue", "show"));
        await _stack.Good("estate", "import", good);
        Assert.Contains("Another title", await _stack.Good("catalogue", "show"));
        var earlier = await _stack.Service.GetFromJsonAsync<JsonObject>("/api/documents/product/phalarope?revision=1");
        Assert.Contains("Phalarope message relay", (string)earlier!["body"]!);
    }

    [Theory]
    [InlineData("goal: [{component: relay-suoth, to: \"3.2\"}]", 2, "Did you mean 'relay-south'?")]
    [InlineData("goal: [{component: relay-south, to: \"4\"}]", 1, "no release of phalarope")]
    [InlineData("goal: [{component: relay-south, to: \"3.1\"}]", 0, "met already")]
    [InlineData("goal: [{product: curlew, to: \">=7\"}]\npins: [os-south]", 1, "stands on os-south at 11.4: untested")]
    public async Task A_goal_that_can_not_be_planned_says_why(string goal, int status, string says)
    {
        var ran = await _stack.Cli("path", "--goal", Write("goal.yaml", $"tidestep: goal/1\n{goal}\n"));
        Assert.Equal(status, ran.Status);
        Assert.Contains(says, ran.Output + ran.Error);
    }

    [Fact]
    public async Task The_path_on_files_is_the_path_of_the_service()
    {
        string[] goal = ["--goal", _stack.Demo("goals/season.yaml"), "--format", "json"];
        var files = await _stack.Good([
            "path",
            .. goal,
            "--estate",
            _stack.Demo("estate.yaml"),
            "--readings",
            _stack.Demo("readings.yaml"),
            "--catalogue",
            _stack.Demo("catalogue"),
        ]);
        Assert.Equal(
            JsonNode.Parse(files)!["moves"]!.ToJsonString(),
            JsonNode.Parse(await _stack.Good(["path", .. goal]))!["moves"]!.ToJsonString()
        );
        var moves = JsonNode.Parse(files)!["moves"]!.AsArray().Select(m => (string)m!["written"]!).ToList();
        Assert.Equal("gates@7.1", moves[^1]);
        Assert.True(
            moves.IndexOf("tickets-south@6.14") < moves.IndexOf("os-south@12.2")
                && moves.IndexOf("os-south@12.2") < moves.IndexOf("tickets-south@7.2")
        );
        Assert.True(moves.IndexOf("ledger-south@8.4") < moves.IndexOf("ledger-north@8.4"));
    }

    [Fact]
    public async Task A_plan_whose_premises_no_longer_hold_is_refused()
    {
        var (first, second) = (await _stack.OpenAsync(), await _stack.OpenAsync());
        Assert.Equal(0, (await _stack.Cli("run", "start", first, "--follow")).Status);
        var refused = await _stack.Cli("run", "start", second);
        Assert.Equal(1, refused.Status);
        Assert.Contains("ss-rel-1 runs 3.2, the plan expects 3.1", refused.Error);
    }

    [Fact]
    public async Task A_plan_whose_start_is_refused_opens_no_run()
    {
        var plan = await _stack.Good("plan", "make", "--goal", _stack.Demo("goals/relay.yaml"), "--format", "json");
        var digest = (string)JsonNode.Parse(plan)!["digest"]!;
        Assert.Equal(0, (await _stack.Cli("run", "start", digest, "--follow")).Status);
        var refused = await _stack.Cli("run", "start", digest);
        Assert.Equal(1, refused.Status);
        Assert.Contains("ss-rel-1 runs 3.2, the plan expects 3.1", refused.Error);
        Assert.Single(JsonNode.Parse(await _stack.Good("run", "list", "--format", "json"))!.AsArray());
    }

    [Fact]
    public async Task A_second_run_on_the_same_component_is_refused_and_changes_nothing()
    {
        var (first, second) = (await _stack.OpenAsync(), await _stack.OpenAsync());
        await _stack.FaultAsync("ss-rel-1", "command", "fail-once");
        Assert.Equal(4, (await _stack.Cli("run", "start", first, "--follow")).Status);
        var deeds = (await _stack.DeedsAsync()).Count;
        var refused = await _stack.Cli("run", "start", second);
        Assert.Equal(1, refused.Status);
        Assert.Contains($"run {first} works on", refused.Error);
        Assert.Equal(deeds, (await _stack.DeedsAsync()).Count);
    }

    [Fact]
    public async Task A_run_starts_only_when_nothing_stands_in_the_way_or_two_people_bear_it()
    {
        var run = await _stack.OpenAsync("goals/season.yaml", "season");
        var plan = (string)(await _stack.RunAsync(run))["plan"]!;
        var deeds = (await _stack.DeedsAsync()).Count;
        var refused = await _stack.Cli("run", "start", run);
        Assert.Equal(1, refused.Status);
        Assert.Contains("needs at least 30 GiB, has 23.5 GiB: 6.5 GiB short", refused.Error);
        Assert.Equal(deeds, (await _stack.DeedsAsync()).Count);
        Assert.Equal(1, (await _stack.Cli("check", "run", plan)).Status);
        Assert.Contains(
            "blocker, open: manual ask for the licence of Greenshank 4",
            (await _stack.Cli("check", "run", plan)).Output
        );
        Assert.Equal(
            2,
            (await _stack.Cli("check", "sign", plan, "ask for the licence of Greenshank 4", "--evidence", " ")).Status
        );
        await _stack.SignAllAsync(plan);
        const string finding = "to-8.4 room ledger-south/ss-led-3";
        Assert.Contains(
            "a second person has to agree",
            await _stack.Good("check", "waive", plan, finding, "--reason", "old dumps go on Friday")
        );
        Assert.Equal(1, (await _stack.Cli("check", "run", plan)).Status);
        var alone = await _stack.Cli("check", "second", finding);
        Assert.Equal(2, alone.Status);
        Assert.Contains("must be another", alone.Error);
        Assert.Contains(
            "Robin Dale agrees with Wren Hale",
            (await _stack.CliAs("Robin Dale", "check", "second", finding)).Output
        );
        Assert.Contains("accepted by Wren Hale and Robin Dale", await _stack.Good("check", "run", plan));
        // It got worse since: the old word covers it no more, and a third round says so.
        (
            await _stack.Fleet.PutAsJsonAsync(
                "/nodes/ss-led-3/readings",
                new
                {
                    component = "ledger-south",
                    name = "free(\"/data\")",
                    value = "20 GiB",
                }
            )
        ).EnsureSuccessStatusCode();
        var worse = await _stack.Cli("check", "run", plan);
        Assert.Equal(1, worse.Status);
        Assert.Contains("10 GiB short", worse.Output);
        Assert.Contains("round 3", (await _stack.Cli("check", "show", plan, "--round", "3")).Output);
        Assert.Contains("done, says Wren Hale", (await _stack.Cli("check", "show", plan, "--all")).Output);
        await _stack.GrowDiskAsync();
        await _stack.Good("run", "start", run);
        Assert.Contains(
            "| to-8.4 lag | ledger-north/ns-led-3 |",
            await _stack.Good("check", "show", plan, "--report", "markdown")
        );
        await _stack.Good("run", "hold", run);
    }

    [Fact]
    public async Task A_node_that_does_not_answer_is_shown_with_what_was_known_and_stands_in_the_way()
    {
        await _stack.FaultAsync("gate-07-1", "*", "lose-contact", 0);
        var survey = await _stack.Cli("survey", "take");
        Assert.Equal(1, survey.Status);
        Assert.Contains("gates/gate-07-1", survey.Output);
        Assert.Contains("1 not read", await _stack.Good("estate", "show"));
        Assert.Contains("was 6.3", await _stack.Good("estate", "show", "--members"));
        var drift = await _stack.Cli("estate", "drift");
        Assert.Equal(1, drift.Status);
        Assert.Contains("6.3, as on", drift.Output);
        Assert.Contains("runtime-south/ss-tic-1", drift.Output);
        var last = JsonNode.Parse(await _stack.Good("survey", "list", "--format", "json"))!.AsArray();
        Assert.Equal(1, (int)last[0]!["unreached"]!);
        var compared = await _stack.Cli(
            "survey",
            "compare",
            $"{last[1]!["number"]}",
            $"{last[0]!["number"]}",
            "--format",
            "json"
        );
        Assert.Contains(
            "gates/gate-07-1",
            JsonNode.Parse(compared.Output)!.AsArray().Select(d => (string)d!["subject"]!)
        );
        Assert.Equal(1, (await _stack.Cli("path", "--goal", _stack.Demo("goals/season.yaml"))).Status);
    }

    [Fact]
    public async Task Without_the_key_or_under_another_name_nothing_is_answered()
    {
        using var stranger = new HttpClient { BaseAddress = _stack.Service.BaseAddress };
        Assert.Equal(HttpStatusCode.Unauthorized, (await stranger.GetAsync("/api/estate")).StatusCode);
        using var named = new HttpRequestMessage(HttpMethod.Get, "/api/estate")
        {
            Headers = { Host = "tidestep.marram.example" },
        };
        Assert.Equal(HttpStatusCode.MisdirectedRequest, (await _stack.Service.SendAsync(named)).StatusCode);
        using var nameless = new HttpRequestMessage(HttpMethod.Post, "/api/surveys");
        nameless.Headers.Authorization = new("Bearer", _stack.Key);
        Assert.Equal(HttpStatusCode.BadRequest, (await stranger.SendAsync(nameless)).StatusCode);
        if (OperatingSystem.IsLinux())
            Assert.Equal(
                UnixFileMode.UserRead | UnixFileMode.UserWrite,
                File.GetUnixFileMode(Path.Combine(_stack.Work, "data", "access.key"))
            );
    }

    [Fact]
    public async Task The_same_idempotency_key_opens_one_run()
    {
        var digest = (string)(await _stack.RunAsync(await _stack.OpenAsync()))["plan"]!;
        async Task<string> Open(string key)
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, "/api/runs")
            {
                Content = JsonContent.Create(new { plan = digest, label = "once" }),
            };
            request.Headers.Add("Idempotency-Key", key);
            return (string)
                (await (await _stack.Service.SendAsync(request)).Content.ReadFromJsonAsync<JsonObject>())!["run"]!;
        }
        var first = await Open("k1");
        Assert.Equal(first, await Open("k1"));
        Assert.NotEqual(first, await Open("k2"));
    }

    [Fact]
    public async Task The_feed_resumes_after_the_last_event_without_a_gap()
    {
        var run = await _stack.OpenAsync();
        Assert.Equal(0, (await _stack.Cli("run", "start", run, "--follow")).Status);
        var all = (await _stack.JournalAsync(run)).Count;
        using var request = new HttpRequestMessage(HttpMethod.Get, $"/api/runs/{run}/events");
        request.Headers.Add("Last-Event-ID", "5");
        using var response = await _stack.Service.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
        using var lines = new StreamReader(await response.Content.ReadAsStreamAsync());
        var ids = new List<long>();
        while (ids.Count < all - 5 && await lines.ReadLineAsync() is { } line)
            if (line.StartsWith("id: ", StringComparison.Ordinal))
                ids.Add(long.Parse(line[4..]));
        Assert.Equal(Enumerable.Range(6, all - 5).Select(i => (long)i), ids);
    }

    [Fact]
    public async Task A_decision_is_for_the_halt_that_its_giver_saw_and_for_no_other()
    {
        await using var stack = await DemoStack.StartAsync();
        await stack.FaultAsync("ss-rel-1", "install", "fail-always");
        var run = await stack.OpenAsync();
        Assert.Equal(4, (await stack.Cli("run", "start", run, "--follow")).Status);
        var first = (long)(await stack.RunAsync(run))["haltNumber"]!;
        Assert.Equal(4, (await stack.Cli("run", "decide", run, "try-again", "--halt", $"{first}", "--follow")).Status);
        var late = await stack.Cli("run", "decide", run, "skip", "--reason", "it can do without", "--halt", $"{first}");
        Assert.NotEqual(0, late.Status);
        Assert.Contains("the run has halted anew since", late.Error);
        var second = (long)(await stack.RunAsync(run))["haltNumber"]!;
        Assert.True(second > first);
        await stack.Good("run", "decide", run, "stop-here", "--halt", $"{second}");
        await stack.UntilAsync(run, r => (string?)r["status"] == "stopped-here");
        Assert.Contains(
            "that halt was decided already",
            (await stack.Cli("run", "decide", run, "return", "--halt", $"{second}")).Error
        );
    }

    [Fact]
    public async Task A_second_service_on_the_same_data_refuses()
    {
        var start = new System.Diagnostics.ProcessStartInfo(
            DemoStack.Executable("Service", "tidestep-service"),
            ["--port", "0"]
        )
        {
            RedirectStandardError = true,
        };
        start.Environment["TIDESTEP_DATA"] = Path.Combine(_stack.Work, "data");
        using var second = System.Diagnostics.Process.Start(start)!;
        var said = await second.StandardError.ReadToEndAsync();
        await second.WaitForExitAsync();
        Assert.Equal(3, second.ExitCode);
        Assert.Contains("another Tide Step service is using", said);
    }
}
