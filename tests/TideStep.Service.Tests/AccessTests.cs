using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json.Nodes;
using TideStep.Tests;
using Xunit;

namespace TideStep.Service.Tests;

/// <summary>Who gets in, who may do what, and what is written down about it; against the real service.</summary>
public sealed class AccessTests : IAsyncLifetime
{
    private const string Password = "a heron stands on one leg";
    private DemoStack _stack = null!;

    public async ValueTask InitializeAsync() => _stack = await DemoStack.StartAsync(tiny: true);

    public ValueTask DisposeAsync() => _stack.DisposeAsync();

    private HttpClient Http(string? bearer = null)
    {
        var http = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false, UseCookies = false })
        {
            BaseAddress = _stack.Service.BaseAddress,
        };
        if (bearer is not null)
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", bearer);
        return http;
    }

    private static async Task<JsonObject> Good(Task<HttpResponseMessage> answer)
    {
        var response = await answer;
        var text = await response.Content.ReadAsStringAsync();
        Assert.True(response.IsSuccessStatusCode, $"{(int)response.StatusCode} {text}");
        return (JsonObject)JsonNode.Parse(text)!;
    }

    // Invites somebody, who chooses a password and signs in as a program does; gives what they show, and who they are.
    private async Task<(string Key, string Id)> PersonAsync(string name, params string[] roles)
    {
        var invited = await Good(_stack.Service.PostAsJsonAsync("/api/people", new { name, roles }));
        using var http = Http();
        await Good(
            http.PostAsJsonAsync(
                "/api/join",
                new { invitation = ((string)invited["link"]!).Split('#')[1], password = Password }
            )
        );
        return (await SignInAsync(name), (string)invited["person"]!["id"]!);
    }

    private async Task<string> SignInAsync(string name)
    {
        using var http = Http();
        var signed = await Good(
            http.PostAsJsonAsync(
                "/api/sign-in",
                new
                {
                    name,
                    password = Password,
                    browser = false,
                }
            )
        );
        return (string)signed["key"]!;
    }

    private async Task<(string Key, string Id)> AdministratorAsync() =>
        await PersonAsync("Iris Vane", "look", "administer");

    // Every call with what it takes, as the OpenAPI document tells it.
    private static async Task<IReadOnlyList<(string Method, string Pattern, string[]? Takes, bool Own)>> RoutesAsync(
        HttpClient http
    ) =>
        [
            .. ((JsonObject)(await http.GetFromJsonAsync<JsonObject>("/openapi/v1.json"))!["paths"]!)
                .Where(p => p.Key.StartsWith("/api/", StringComparison.Ordinal))
                .SelectMany(p =>
                    ((JsonObject)p.Value!).Select(m =>
                        (
                            m.Key.ToUpperInvariant(),
                            p.Key,
                            ((JsonArray?)m.Value!["x-takes"])?.Select(t => (string)t!).ToArray(),
                            (bool?)m.Value!["x-own-word"] ?? false
                        )
                    )
                ),
        ];

    // What the permission is about is decided before the route looks at what it was sent.
    private static async Task<HttpStatusCode> AskAsync(HttpClient http, string method, string pattern)
    {
        var path = System.Text.RegularExpressions.Regex.Replace(
            pattern.Replace("{number}", "1", StringComparison.Ordinal),
            @"\{(\w+)\}",
            "none"
        );
        using var request = new HttpRequestMessage(new HttpMethod(method), path);
        request.Headers.Add("Tus-Resumable", "1.0.0");
        if (method is "POST" or "PUT" or "PATCH" or "DELETE")
            request.Content = JsonContent.Create(new { });
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        using var answer = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, limit.Token);
        return answer.StatusCode;
    }

    [Fact]
    public async Task Every_route_is_in_the_table_and_every_role_opens_what_the_table_says_and_no_more()
    {
        await AdministratorAsync();
        var routes = await RoutesAsync(_stack.Service);
        Assert.True(routes.Count > 80, $"{routes.Count} routes");
        Assert.All(routes, r => Assert.True(r.Takes is not null, $"{r.Method} {r.Pattern} is not in the table"));
        using var nobody = Http();
        using var wrong = Http("0123456789abcdef0123456789abcdef");
        foreach (var role in Core.Access.Grants.All)
        {
            var made = await Good(
                _stack.Service.PostAsJsonAsync(
                    "/api/tokens",
                    new
                    {
                        name = $"only {role}",
                        roles = new[] { role.ToString() },
                        lastDay = $"{DemoStack.Now:yyyy-MM-dd}",
                    }
                )
            );
            var elsewhere = await Good(
                _stack.Service.PostAsJsonAsync(
                    "/api/tokens",
                    new
                    {
                        name = $"{role} elsewhere",
                        roles = new[] { $"{role}@another" },
                        lastDay = $"{DemoStack.Now:yyyy-MM-dd}",
                    }
                )
            );
            using var here = Http((string)made["shown"]!);
            using var there = Http((string)elsewhere["shown"]!);
            foreach (var (method, pattern, takes, own) in routes)
            {
                if (takes is ["anonymous"] || pattern == "/api/sign-out")
                    continue;
                var may = takes is ["known"] || takes!.Contains($"{role}") && !own;
                var answer = await AskAsync(here, method, pattern);
                // A program has no browser to make a link for, and lets nobody in.
                if (pattern != "/api/links" && (method, pattern) != ("POST", "/api/entries/{code}"))
                    Assert.True(may != (answer == HttpStatusCode.Forbidden), $"{role} {method} {pattern}: {answer}");
                if (takes is not ["known"] && await AskAsync(there, method, pattern) is var elsewhereSays)
                    Assert.True(
                        elsewhereSays == HttpStatusCode.Forbidden,
                        $"{role}@another {method} {pattern}: {elsewhereSays}"
                    );
                if (role.Role == Core.Access.Role.Look)
                {
                    Assert.Equal(HttpStatusCode.Unauthorized, await AskAsync(nobody, method, pattern));
                    Assert.Equal(HttpStatusCode.Unauthorized, await AskAsync(wrong, method, pattern));
                }
            }
        }
    }

    [Fact]
    public async Task Two_people_are_two_neither_a_program_nor_the_local_key_is_one_of_them()
    {
        await AdministratorAsync();
        var (key, _) = await PersonAsync("Tamsin Reed", "look", "sign");
        using var approver = Http(key);
        var made = await Good(
            _stack.Service.PostAsJsonAsync(
                "/api/tokens",
                new
                {
                    name = "night watch",
                    roles = new[] { "sign" },
                    lastDay = $"{DemoStack.Now:yyyy-MM-dd}",
                }
            )
        );
        using var program = Http((string)made["shown"]!);
        foreach (var (method, pattern, _, own) in (await RoutesAsync(_stack.Service)).Where(r => r.Own))
        {
            Assert.NotEqual(HttpStatusCode.Forbidden, await AskAsync(approver, method, pattern));
            Assert.Equal(HttpStatusCode.Forbidden, await AskAsync(program, method, pattern));
            Assert.Equal(HttpStatusCode.Forbidden, await AskAsync(_stack.Service, method, pattern));
        }
        var refused = await _stack.Service.PostAsJsonAsync("/api/waivers/second", new { finding = "x" });
        Assert.Contains("local administrator is whoever has the local key", await refused.Content.ReadAsStringAsync());
    }

    [Fact]
    public async Task Who_is_refused_is_told_what_it_takes_and_who_has_it()
    {
        await AdministratorAsync();
        await PersonAsync("Odo Marsh", "look", "run");
        var (key, _) = await PersonAsync("Tamsin Reed", "look", "plan");
        using var http = Http(key);
        var refused = await http.PostAsJsonAsync("/api/runs", new { plan = "x" });
        Assert.Equal(HttpStatusCode.Forbidden, refused.StatusCode);
        var problem = (await refused.Content.ReadFromJsonAsync<JsonNode>())!;
        Assert.Equal("this takes the role 'run'", (string)problem["title"]!);
        Assert.Equal("Ask Odo Marsh.", (string)problem["problems"]![0]!["hint"]!);
        // It is told beforehand as well: of every call whether they may, as the calls themselves then answer.
        var lacks = (await http.GetFromJsonAsync<JsonObject>("/api/me"))!["lacks"]!.AsArray();
        var run = lacks.Single(l => ((JsonArray)l!["calls"]!).Any(c => (string)c! == "POST /api/runs"));
        Assert.Equal(("this takes the role 'run'", "Ask Odo Marsh."), ((string)run!["why"]!, (string)run["hint"]!));
        var mayNot = lacks.SelectMany(l => (JsonArray)l!["calls"]!).Select(c => (string)c!).ToHashSet();
        foreach (var (method, pattern, takes, _) in await RoutesAsync(_stack.Service))
            if (takes is not (["anonymous"] or ["known"]))
                Assert.Equal(
                    mayNot.Contains($"{method} {pattern}"),
                    await AskAsync(http, method, pattern) == HttpStatusCode.Forbidden
                );
        Assert.Equal(
            ["somebody's own word is asked for here"],
            (await _stack.Service.GetFromJsonAsync<JsonObject>("/api/me"))!["lacks"]!
                .AsArray()
                .Select(l => (string)l!["why"]!)
        );
    }

    [Fact]
    public async Task Roles_that_change_end_the_session_at_once_and_so_does_a_removal()
    {
        await AdministratorAsync();
        var (key, id) = await PersonAsync("Odo Marsh", "look", "run");
        using var http = Http(key);
        Assert.Equal(HttpStatusCode.OK, (await http.GetAsync("/api/runs")).StatusCode);
        await Good(_stack.Service.PutAsJsonAsync($"/api/people/{id}", new { roles = new[] { "look" } }));
        Assert.Equal(HttpStatusCode.Unauthorized, (await http.GetAsync("/api/runs")).StatusCode);
        using var again = Http(await SignInAsync("Odo Marsh"));
        Assert.Equal(HttpStatusCode.OK, (await again.GetAsync("/api/runs")).StatusCode);
        Assert.Equal(HttpStatusCode.Forbidden, (await again.PostAsJsonAsync("/api/runs", new { })).StatusCode);
        await Good(_stack.Service.DeleteAsync($"/api/people/{id}"));
        Assert.Equal(HttpStatusCode.Unauthorized, (await again.GetAsync("/api/runs")).StatusCode);
        // The name stands on what they did, and is given to nobody else, however it is written.
        foreach (var name in new[] { "Odo Marsh", "odo marsh", "Odo Ｍarsh" })
        {
            var taken = await _stack.Service.PostAsJsonAsync("/api/people", new { name, roles = new[] { "look" } });
            Assert.Equal(HttpStatusCode.UnprocessableEntity, taken.StatusCode);
        }
    }

    [Fact]
    public async Task A_session_ends_with_its_sign_out_a_token_with_its_revocation_and_an_invitation_with_its_use()
    {
        await AdministratorAsync();
        var (key, id) = await PersonAsync("Odo Marsh", "look");
        using var http = Http(key);
        Assert.Equal(HttpStatusCode.NoContent, (await http.PostAsJsonAsync("/api/sign-out", new { })).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await http.GetAsync("/api/me")).StatusCode);

        var made = await Good(
            _stack.Service.PostAsJsonAsync(
                "/api/tokens",
                new
                {
                    name = "pipeline",
                    roles = new[] { "look" },
                    lastDay = $"{DemoStack.Now:yyyy-MM-dd}",
                }
            )
        );
        using var program = Http((string)made["shown"]!);
        Assert.Equal("pipeline", (string)(await program.GetFromJsonAsync<JsonObject>("/api/me"))!["name"]!);
        await Good(_stack.Service.DeleteAsync($"/api/tokens/{made["token"]!["id"]}"));
        Assert.Equal(HttpStatusCode.Unauthorized, (await program.GetAsync("/api/me")).StatusCode);

        var first = await Good(_stack.Service.PostAsJsonAsync($"/api/people/{id}/invitations", new { }));
        var second = await Good(_stack.Service.PostAsJsonAsync($"/api/people/{id}/invitations", new { }));
        using var invited = Http();
        async Task<HttpStatusCode> Join(JsonObject by) =>
            (
                await invited.PostAsJsonAsync(
                    "/api/join",
                    new { invitation = ((string)by["link"]!).Split('#')[1], password = Password + "!" }
                )
            ).StatusCode;
        Assert.Equal(HttpStatusCode.UnprocessableEntity, await Join(first));
        Assert.Equal(HttpStatusCode.OK, await Join(second));
        Assert.Equal(HttpStatusCode.UnprocessableEntity, await Join(second));
    }

    [Fact]
    public async Task Passwords_that_are_tried_are_slowed_down_and_the_local_administrator_still_gets_in()
    {
        await AdministratorAsync();
        using var http = Http();
        async Task<HttpResponseMessage> Try(string name) =>
            await http.PostAsJsonAsync("/api/sign-in", new { name, password = "wrong wrong wrong" });
        var said = new List<string>();
        for (var i = 0; i < 5; i++)
        {
            var answer = await Try(i % 2 == 0 ? "Iris Vane" : "nobody at all");
            Assert.Equal(HttpStatusCode.Unauthorized, answer.StatusCode);
            said.Add((string)(await answer.Content.ReadFromJsonAsync<JsonNode>())!["title"]!);
        }
        // Nothing tells a name that exists from one that does not.
        Assert.Single(said.Distinct());
        var slowed = await Try("Iris Vane");
        Assert.Equal(HttpStatusCode.TooManyRequests, slowed.StatusCode);
        Assert.NotNull(slowed.Headers.RetryAfter);
        Assert.Equal(HttpStatusCode.OK, (await _stack.Service.GetAsync("/api/people")).StatusCode);
    }

    [Fact]
    public async Task A_browser_calls_with_what_no_other_page_has()
    {
        await AdministratorAsync();
        using var http = Http();
        var signed = await http.PostAsJsonAsync("/api/sign-in", new { name = "iris vane", password = Password });
        var cookie = Assert.Single(signed.Headers.GetValues("Set-Cookie"));
        Assert.Contains("httponly", cookie);
        Assert.Contains("samesite=strict", cookie);
        Assert.StartsWith($"tidestep-session-{_stack.Port}=", cookie);
        Assert.DoesNotContain(_stack.Key, cookie);
        http.DefaultRequestHeaders.Add("Cookie", cookie.Split(';')[0]);
        var me = (await http.GetFromJsonAsync<JsonObject>("/api/me"))!;
        Assert.Equal("Iris Vane", (string)me["name"]!);
        async Task<HttpStatusCode> Ask(HttpMethod method, string path, params (string, string)[] headers)
        {
            using var request = new HttpRequestMessage(method, path);
            if (method != HttpMethod.Get)
                request.Content = JsonContent.Create(new { outputs = "200 d" });
            foreach (var (name, value) in headers)
                request.Headers.Add(name, value);
            return (await http.SendAsync(request)).StatusCode;
        }
        var own = ("Tide-Step-Session", (string)me["session"]!);
        Assert.Equal(HttpStatusCode.Forbidden, await Ask(HttpMethod.Put, "/api/keeping"));
        Assert.Equal(HttpStatusCode.Forbidden, await Ask(HttpMethod.Put, "/api/keeping", ("Tide-Step-Session", "x")));
        Assert.Equal(
            HttpStatusCode.Forbidden,
            await Ask(HttpMethod.Put, "/api/keeping", own, ("Sec-Fetch-Site", "cross-site"))
        );
        Assert.Equal(HttpStatusCode.OK, await Ask(HttpMethod.Put, "/api/keeping", own));
        Assert.Equal(
            HttpStatusCode.Forbidden,
            await Ask(HttpMethod.Get, "/api/people", ("Sec-Fetch-Site", "same-site"))
        );
        Assert.Equal(HttpStatusCode.OK, await Ask(HttpMethod.Get, "/api/people", ("Sec-Fetch-Site", "same-origin")));
    }

    [Fact]
    public async Task The_record_tells_who_did_what_and_who_was_refused_and_holds_no_secret()
    {
        var (administrator, _) = await AdministratorAsync();
        var (key, id) = await PersonAsync("Odo Marsh", "look");
        using var http = Http(key);
        await http.PutAsJsonAsync("/api/secrets/gate-key", new { value = "very-secret-value" });
        await _stack.Service.PutAsJsonAsync("/api/secrets/gate-key", new { value = "very-secret-value" });
        using var reader = Http(administrator);
        var refused = (await reader.GetFromJsonAsync<JsonArray>("/api/record?by=odo%20marsh&about=secrets/gate-key"))!;
        var line = Assert.Single(refused)!;
        Assert.Equal(
            ("Odo Marsh", id, "PUT /api/secrets/{name}", "refused", 403),
            (
                (string)line["name"]!,
                (string)line["who"]!,
                (string)line["what"]!,
                (string)line["result"]!,
                (int)line["status"]!
            )
        );
        var kept = (await reader.GetFromJsonAsync<JsonArray>("/api/record?about=secrets/gate-key&limit=1"))!;
        Assert.Equal("local administrator", (string)kept[0]!["name"]!);
        var all = await reader.GetStringAsync("/api/record/export");
        Assert.Contains("POST /api/join", all);
        foreach (var secret in new[] { "very-secret-value", Password, _stack.Key, key, administrator })
            Assert.DoesNotContain(secret, all);
        var verdict = (await reader.GetFromJsonAsync<JsonObject>("/api/record/verify"))!;
        Assert.True((bool)verdict["whole"]!, verdict.ToJsonString());
        Assert.True((long)verdict["lines"]! > 8);
        // With roles, whoever looks on does not see it.
        Assert.Equal(HttpStatusCode.Forbidden, (await http.GetAsync("/api/record")).StatusCode);
    }

    [Fact]
    public async Task Once_there_are_people_nobody_is_who_they_only_say_they_are()
    {
        var before = (await _stack.Service.GetFromJsonAsync<JsonObject>("/api/me"))!;
        Assert.Equal("Wren Hale", (string)before["name"]!);
        await AdministratorAsync();
        var after = (await _stack.Service.GetFromJsonAsync<JsonObject>("/api/me"))!;
        Assert.Equal("local administrator", (string)after["name"]!);
        // The last one who may let others in stays.
        var people = (await _stack.Service.GetFromJsonAsync<JsonArray>("/api/people"))!;
        var only = await _stack.Service.DeleteAsync($"/api/people/{people[0]!["id"]}");
        Assert.Equal(HttpStatusCode.Conflict, only.StatusCode);
    }

    [Theory]
    [InlineData("", "look", "a name is missing")]
    [InlineData("Wren\nHale", "look", "letters, digits")]
    [InlineData("Wren\u202eHale", "look", "letters, digits")]
    [InlineData(" Wren", "look", "begins nor ends")]
    [InlineData("Wren Hale", "lok", "'lok' is no role")]
    [InlineData("Wren Hale", "run@", "'run@' is no role")]
    [InlineData("Local Administrator", "administer", "is taken")]
    [InlineData("Wren Hale", "look", "has to be an administrator")]
    public async Task What_is_wrong_with_a_person_is_said(string name, string role, string says)
    {
        var answer = await _stack.Service.PostAsJsonAsync("/api/people", new { name, roles = new[] { role } });
        Assert.Equal(HttpStatusCode.UnprocessableEntity, answer.StatusCode);
        Assert.Contains(
            says,
            (await answer.Content.ReadFromJsonAsync<JsonNode>())!.ToJsonString().Replace("\\u0027", "'")
        );
    }

    [Theory]
    [InlineData("too short")]
    [InlineData("password1234")]
    [InlineData("aaaaaaaaaaaaaaa")]
    [InlineData("hello iris vane!")]
    public async Task A_password_that_is_easy_to_guess_is_not_taken(string password)
    {
        var invited = await Good(
            _stack.Service.PostAsJsonAsync("/api/people", new { name = "Iris Vane", roles = new[] { "administer" } })
        );
        using var http = Http();
        var answer = await http.PostAsJsonAsync(
            "/api/join",
            new { invitation = ((string)invited["link"]!).Split('#')[1], password }
        );
        Assert.Equal(HttpStatusCode.UnprocessableEntity, answer.StatusCode);
    }

    [Fact]
    public async Task Answers_carry_what_keeps_a_browser_from_doing_harm_and_files_are_their_owners_alone()
    {
        foreach (var path in new[] { "/", "/api/me", "/health/live" })
        {
            var answer = await _stack.Service.GetAsync(path);
            Assert.Contains(
                "script-src 'self';",
                string.Join(' ', answer.Headers.GetValues("Content-Security-Policy"))
            );
            Assert.Equal("nosniff", Assert.Single(answer.Headers.GetValues("X-Content-Type-Options")));
            Assert.Equal("no-referrer", Assert.Single(answer.Headers.GetValues("Referrer-Policy")));
            Assert.False(answer.Headers.Contains("Server"));
        }
        const UnixFileMode others = (UnixFileMode)0x3f;
        foreach (
            var entry in new DirectoryInfo(_stack.Data)
                .EnumerateFileSystemInfos("*", SearchOption.AllDirectories)
                .Append(new DirectoryInfo(_stack.Data))
        )
            Assert.True((entry.UnixFileMode & others) == 0, $"{entry.FullName} is {entry.UnixFileMode}");
    }
}
