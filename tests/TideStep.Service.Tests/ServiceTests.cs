using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Service.Tests;

public sealed class ServiceTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private readonly DemoStack _stack = fixture.Stack;

    private HttpClient Plain(string? key = null, string? name = null)
    {
        var http = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false, UseCookies = false })
        {
            BaseAddress = _stack.Service.BaseAddress,
        };
        if (key is not null)
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", key);
        if (name is not null)
            http.DefaultRequestHeaders.Add("Tide-Step-Name", name);
        return http;
    }

    private static async Task<JsonNode> ProblemOf(HttpResponseMessage response)
    {
        Assert.Equal("application/problem+json", response.Content.Headers.ContentType!.MediaType);
        return (await response.Content.ReadFromJsonAsync<JsonNode>())!;
    }

    private async Task<string> PlanAsync(string goal = "goals/relay.yaml")
    {
        var made = await _stack.Service.PostAsJsonAsync(
            "/api/plans",
            new { goal = await File.ReadAllTextAsync(_stack.Demo(goal)) }
        );
        Assert.True(made.IsSuccessStatusCode, await made.Content.ReadAsStringAsync());
        return (string)(await made.Content.ReadFromJsonAsync<JsonNode>())!["digest"]!;
    }

    [Fact]
    public async Task Without_the_key_nothing_of_the_api_answers()
    {
        foreach (var key in new[] { null, "", "wrong", _stack.Key + "x" })
        {
            using var http = Plain(key, "Wren");
            foreach (var path in new[] { "/api/estate", "/api/runs", "/api/plans", "/api/service" })
            {
                var response = await http.GetAsync(path);
                Assert.Equal(HttpStatusCode.Unauthorized, response.StatusCode);
                Assert.Contains("nobody is signed in", (string)(await ProblemOf(response))["title"]!);
            }
        }
    }

    [Fact]
    [System.Runtime.Versioning.SupportedOSPlatform("linux")]
    public void The_key_is_for_its_owner_alone() =>
        Assert.Equal(
            UnixFileMode.UserRead | UnixFileMode.UserWrite,
            File.GetUnixFileMode(Path.Combine(_stack.Work, "data", "access.key"))
        );

    [Theory]
    [InlineData("marram.example")]
    [InlineData("127.0.0.1.marram.example")]
    public async Task A_foreign_host_header_is_refused(string host)
    {
        using var http = Plain(_stack.Key);
        using var request = new HttpRequestMessage(HttpMethod.Get, "/api/estate") { Headers = { Host = host } };
        Assert.Equal(HttpStatusCode.MisdirectedRequest, (await http.SendAsync(request)).StatusCode);
    }

    [Fact]
    public async Task A_search_that_has_ended_is_not_there_to_be_looked_at_or_stopped()
    {
        var goal = await File.ReadAllTextAsync(_stack.Demo("goals/relay.yaml"));
        Assert.Equal(
            HttpStatusCode.OK,
            (await _stack.Service.PostAsJsonAsync("/api/paths", new { goal, search = "mine" })).StatusCode
        );
        Assert.Contains(
            "no search is running under the name mine",
            (string)(await ProblemOf(await _stack.Service.GetAsync("/api/searches/mine")))["title"]!
        );
        Assert.Equal(HttpStatusCode.NotFound, (await _stack.Service.DeleteAsync("/api/searches/mine")).StatusCode);
    }

    [Fact]
    public async Task A_round_of_checks_is_kept_and_comes_in_every_form()
    {
        var plan = await PlanAsync();
        Assert.Equal(HttpStatusCode.NotFound, (await _stack.Service.GetAsync($"/api/plans/{plan}/checks")).StatusCode);
        var round = await (
            await _stack.Service.PostAsync($"/api/plans/{plan}/checks?survey=true", null)
        ).Content.ReadFromJsonAsync<JsonNode>();
        Assert.Equal(1, (int)round!["number"]!);
        Assert.Equal(
            round["round"]!.ToJsonString(),
            (await _stack.Service.GetFromJsonAsync<JsonNode>($"/api/plans/{plan}/checks?round=1"))![
                "round"
            ]!.ToJsonString()
        );
        Assert.StartsWith(
            "# Checks of plan",
            await _stack.Service.GetStringAsync($"/api/plans/{plan}/checks?format=markdown")
        );
        Assert.StartsWith("<testsuites", await _stack.Service.GetStringAsync($"/api/plans/{plan}/checks?format=junit"));
        Assert.Equal(
            HttpStatusCode.BadRequest,
            (await _stack.Service.GetAsync($"/api/plans/{plan}/checks?format=pdf")).StatusCode
        );
        Assert.Contains(
            "nothing to accept",
            await (
                await _stack.Service.PostAsJsonAsync(
                    "/api/waivers",
                    new
                    {
                        plan,
                        finding = "return-path plan",
                        reason = "so be it",
                    }
                )
            ).Content.ReadAsStringAsync()
        );
    }

    [Fact]
    public async Task Nothing_is_changed_without_a_name()
    {
        using var http = Plain(_stack.Key);
        var response = await http.PostAsJsonAsync("/api/surveys", new { });
        Assert.Equal(HttpStatusCode.BadRequest, response.StatusCode);
        Assert.Contains("who acts", (string)(await ProblemOf(response))["title"]!);
    }

    [Fact]
    public async Task A_link_opens_the_console_once()
    {
        var link = (string)
            (
                await (
                    await _stack.Service.PostAsJsonAsync("/api/links", new { })
                ).Content.ReadFromJsonAsync<JsonNode>()
            )!["link"]!;
        using var browser = Plain();
        var first = await browser.GetAsync(new Uri(link).PathAndQuery);
        var cookie = Assert.Single(first.Headers.GetValues("Set-Cookie"));
        Assert.Contains("httponly", cookie);
        Assert.Contains("samesite=strict", cookie);
        using var request = new HttpRequestMessage(HttpMethod.Get, "/api/estate");
        request.Headers.Add("Cookie", cookie.Split(';')[0]);
        Assert.Equal(HttpStatusCode.OK, (await browser.SendAsync(request)).StatusCode);
        Assert.False((await browser.GetAsync(new Uri(link).PathAndQuery)).Headers.Contains("Set-Cookie"));
    }

    [Theory]
    [InlineData("/api/runs/r0", "there is no run")]
    [InlineData("/api/plans/abc", "there is no plan")]
    [InlineData("/api/catalogue/matrix?product=curlw&other=dunlin", "no such matrix")]
    [InlineData("/api/documents/product/nothing", "")]
    [InlineData("/schemas/nothing", "")]
    public async Task What_is_not_there_is_a_problem_with_words(string path, string says)
    {
        var response = await _stack.Service.GetAsync(path);
        Assert.Equal(HttpStatusCode.NotFound, response.StatusCode);
        if (says.Length > 0)
            Assert.Contains(says, (await ProblemOf(response))["title"]!.ToString());
    }

    [Theory]
    [InlineData("{")]
    [InlineData("[]")]
    [InlineData("{\"goal\": 7}")]
    public async Task A_body_that_is_not_understood_is_a_bad_request(string body)
    {
        using var content = new StringContent(body, MediaTypeHeaderValue.Parse("application/json"));
        Assert.Equal(HttpStatusCode.BadRequest, (await _stack.Service.PostAsync("/api/paths", content)).StatusCode);
    }

    [Fact]
    public async Task A_repeated_request_under_one_key_opens_one_run()
    {
        var plan = await PlanAsync();
        async Task<JsonNode> Open(object body, string key)
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, "/api/runs")
            {
                Content = JsonContent.Create(body),
                Headers = { { "Idempotency-Key", key } },
            };
            return (await (await _stack.Service.SendAsync(request)).Content.ReadFromJsonAsync<JsonNode>())!;
        }
        var (first, again) = (await Open(new { plan, label = "a" }, "k1"), await Open(new { plan, label = "a" }, "k1"));
        Assert.Equal((string)first["run"]!, (string)again["run"]!);
        Assert.NotEqual((string)first["run"]!, (string)(await Open(new { plan, label = "a" }, "k2"))["run"]!);
        Assert.Contains("Idempotency-Key", (string)(await Open(new { plan, label = "another" }, "k1"))["title"]!);
    }

    private async Task<HttpResponseMessage> SaidAsync(string path, object body, string key, string? name = null)
    {
        using var http = Plain(_stack.Key, name ?? "Wren Hale");
        using var request = new HttpRequestMessage(HttpMethod.Post, path)
        {
            Content = JsonContent.Create(body),
            Headers = { { "Idempotency-Key", key } },
        };
        return await http.SendAsync(request);
    }

    [Fact]
    public async Task A_key_is_its_callers_own()
    {
        var plan = await PlanAsync();
        async Task<string> Of(string name) =>
            (string)
                (
                    await (
                        await SaidAsync("/api/runs", new { plan, label = name }, "mine", name)
                    ).Content.ReadFromJsonAsync<JsonNode>()
                )!["run"]!;
        var wren = await Of("Wren Hale");
        Assert.NotEqual(wren, await Of("Ida Moss"));
        Assert.Equal(wren, await Of("Wren Hale"));
    }

    [Fact]
    public async Task What_is_said_of_a_run_waits_for_no_start_of_another()
    {
        // What it starts is refused in the end: nothing of the estate that others share is changed by it.
        var (plan, other) = (await PlanAsync("goals/boards.yaml"), await PlanAsync("goals/season.yaml"));
        var run = (string)
            (
                await (
                    await SaidAsync("/api/runs", new { plan, label = "to be held" }, "held")
                ).Content.ReadFromJsonAsync<JsonNode>()
            )!["run"]!;
        await _stack.StillAsync(true);
        try
        {
            // A start reads its members first, and none of them answers.
            var starting = SaidAsync("/api/runs", new { plan = other, start = true }, "starts");
            var holding = SaidAsync($"/api/runs/{run}/hold", new { at = DemoStack.Now.AddDays(400) }, "hold");
            Assert.Equal(holding, await Task.WhenAny(starting, holding));
            Assert.False(starting.IsCompleted);
            await holding;
            await _stack.StillAsync(false);
            await starting;
        }
        finally
        {
            await _stack.StillAsync(false);
        }
    }

    [Fact]
    public async Task A_plan_made_twice_has_one_digest_and_its_body_is_the_same_byte_for_byte()
    {
        var (first, second) = (await PlanAsync(), await PlanAsync());
        Assert.Equal(first, second);
        Assert.Equal(
            await _stack.Service.GetStringAsync($"/api/plans/{first}"),
            await _stack.Service.GetStringAsync($"/api/plans/{second}")
        );
    }

    [Fact]
    public async Task A_plans_windows_are_a_calendar_that_stays_the_same()
    {
        var plan = await PlanAsync("goals/season.yaml");
        var response = await _stack.Service.GetAsync($"/api/plans/{plan}/calendar");
        Assert.Equal("text/calendar", response.Content.Headers.ContentType!.MediaType);
        var calendar = await response.Content.ReadAsStringAsync();
        Assert.Equal(2, calendar.Split("BEGIN:VEVENT").Length - 1);
        Assert.Contains("SUMMARY:Marram Ferries", calendar);
        Assert.Equal(calendar, await _stack.Service.GetStringAsync($"/api/plans/{plan}/calendar"));
        Assert.Equal(HttpStatusCode.NotFound, (await _stack.Service.GetAsync("/api/plans/none/calendar")).StatusCode);
    }

    [Fact]
    public async Task The_openapi_document_names_every_group_of_calls()
    {
        var document = (await _stack.Service.GetFromJsonAsync<JsonNode>("/openapi/v1.json"))!;
        var paths = document["paths"]!.AsObject().Select(p => p.Key).ToList();
        foreach (
            var path in new[]
            {
                "/api/estate",
                "/api/catalogue/matrix",
                "/api/paths",
                "/api/plans",
                "/api/plans/{digest}",
                "/api/runs",
                "/api/runs/{run}/events",
                "/api/runs/{run}/decisions",
                "/api/points",
            }
        )
            Assert.Contains(path, paths);
        Assert.All(
            document["paths"]!
                .AsObject()
                .Where(p => p.Key.StartsWith("/api/", StringComparison.Ordinal))
                .SelectMany(p => p.Value!.AsObject()),
            o => Assert.False(string.IsNullOrEmpty((string?)o.Value!["summary"]), o.Key)
        );
    }

    [Theory]
    [InlineData("estate")]
    [InlineData("product")]
    [InlineData("readings")]
    [InlineData("goal")]
    [InlineData("path")]
    public async Task Schemas_are_published(string kind) =>
        Assert.Contains(
            "json-schema.org",
            (string)(await _stack.Service.GetFromJsonAsync<JsonNode>($"/schemas/{kind}"))!["$schema"]!
        );

    [Fact]
    public async Task Health_answers_without_a_key()
    {
        using var http = Plain();
        Assert.Equal(HttpStatusCode.OK, (await http.GetAsync("/health/live")).StatusCode);
        Assert.True((bool)(await http.GetFromJsonAsync<JsonNode>("/health/ready"))!["ready"]!);
    }

    [Fact]
    public async Task The_console_is_served_for_every_address_of_its_own_and_never_for_the_api()
    {
        Assert.Contains("<div id=\"root\"", await _stack.Service.GetStringAsync("/runs/anything"));
        Assert.Equal(HttpStatusCode.NotFound, (await _stack.Service.GetAsync("/api/nothing")).StatusCode);
    }

    [Fact]
    public async Task A_second_service_on_the_same_data_refuses_to_start()
    {
        var (status, error) = await _stack.SecondServiceAsync("--port", "0");
        Assert.Equal(3, status);
        Assert.Contains("another Tide Step service is using", error);
    }

    [Theory]
    [InlineData(2, "'--prot'", "--prot", "7")]
    [InlineData(3, "'ninety' is no port", "--port", "ninety")]
    [InlineData(3, "'70000' is no port", "--port", "70000")]
    [InlineData(3, "'0' is no pace", "--pace", "0")]
    [InlineData(3, "the data folder can't be used", "--data", "/proc/none/of/this")]
    [InlineData(3, "the database can't be reached", "--port", "0", "--database", "Host=127.0.0.1;Port=1;Timeout=2")]
    [InlineData(3, "is no connection text", "--port", "0", "--database", "tide=1")]
    public async Task A_service_that_can_not_start_says_why_in_a_sentence(int status, string said, params string[] with)
    {
        var (ended, error) = await _stack.SecondServiceAsync(with);
        Assert.Equal(status, ended);
        Assert.Contains(said, error);
        Assert.DoesNotContain("   at ", error);
    }

    [Theory]
    [InlineData("TIDESTEP_DATABASE")]
    [InlineData("CREDENTIALS_DIRECTORY")]
    public async Task A_database_and_its_password_need_not_stand_on_the_command_line(string variable)
    {
        const string Away = "Host=127.0.0.1;Port=1;Timeout=2;Password=heron-7";
        var folder = Directory.CreateDirectory(Path.Combine(_stack.Work, "credentials")).FullName;
        await File.WriteAllTextAsync(Path.Combine(folder, "database"), $"{Away}\n");
        var (status, error) = await _stack.SecondServiceAsync(
            new() { [variable] = variable == "TIDESTEP_DATABASE" ? Away : folder },
            ["--port", "0", "--data", Path.Combine(_stack.Work, "elsewhere")]
        );
        Assert.Equal(3, status);
        Assert.Contains("the database can't be reached", error);
        Assert.DoesNotContain("heron-7", error);
    }

    [Fact]
    public async Task Who_asks_a_program_for_help_gets_it_and_nothing_starts()
    {
        Assert.Equal((0, ""), await _stack.SecondServiceAsync("--help"));
        var empty = await _stack.Cli("run", "follow", "");
        Assert.Equal(2, empty.Status);
        Assert.StartsWith("RUN is empty", empty.Error);
    }

    [Fact]
    public async Task A_port_that_is_taken_names_the_option_that_changes_it()
    {
        var (status, error) = await _stack.SecondServiceAsync(
            "--port",
            $"{_stack.Port}",
            "--data",
            Path.Combine(_stack.Work, "elsewhere")
        );
        Assert.Equal(3, status);
        Assert.Contains("--port", error);
    }
}
