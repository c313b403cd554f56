using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>What happens before anything is touched: surveys of parts, readings, artefacts, secrets; through the
/// command line and the API.</summary>
public sealed class ReadinessTests : IAsyncLifetime
{
    private DemoStack _stack = null!;

    public async ValueTask InitializeAsync() => _stack = await DemoStack.StartAsync();

    public ValueTask DisposeAsync() => _stack.DisposeAsync();

    private string Write(string name, byte[] bytes)
    {
        var path = Path.Combine(_stack.Work, name);
        File.WriteAllBytes(path, bytes);
        return path;
    }

    [Fact]
    public async Task A_part_is_surveyed_and_a_member_tells_all_that_was_read_of_it()
    {
        Assert.Contains("163 members read", await _stack.Good("survey", "take"));
        Assert.Contains("12 members read", await _stack.Good("survey", "take", "--platform", "staff"));
        var wrong = await _stack.Cli("survey", "take", "--component", "ledger-suoth");
        Assert.Equal(2, wrong.Status);
        Assert.Contains("Did you mean 'ledger-south'?", wrong.Error);
        var shown = await _stack.Good("survey", "show", "ledger-south/ss-led-3");
        Assert.Matches(@"free\(""/data""\)\s+23.5 GiB\s+bytes", shown);
        Assert.Contains("not read: its report does not tell it", shown);
        await _stack.Fleet.PutAsJsonAsync(
            "/nodes/ss-led-3/readings",
            new
            {
                component = "ledger-south",
                name = "lag",
                value = "3 MiB",
            }
        );
        await _stack.Good("survey", "take", "--node", "ss-led-3");
        var history = (await _stack.Good("survey", "show", "ledger-south/ss-led-3", "--history", "lag")).Split('\n');
        Assert.Contains("3 MiB", history[1]);
        Assert.Contains("0 B", history[2]);
        Assert.Contains("every 6 h", await _stack.Good("survey", "every", "6h"));
        Assert.Contains("Nothing is surveyed", await _stack.Good("survey", "every", "never"));
        Assert.Equal(2, (await _stack.Cli("survey", "every", "3s")).Status);
    }

    [Fact]
    public async Task Members_come_page_by_page_however_many_there_are()
    {
        var all = new List<string>();
        for (string? after = null; ; )
        {
            var page = (
                await _stack.Service.GetFromJsonAsync<JsonObject>(
                    $"/api/members?limit=50{(after is null ? "" : $"&after={Uri.EscapeDataString(after)}")}"
                )
            )!;
            all.AddRange(page["members"]!.AsArray().Select(m => (string)m!["member"]!));
            Assert.Equal(161, (int)page["total"]!);
            if ((after = (string?)page["next"]) is null)
                break;
        }
        Assert.Equal((161, 161), (all.Count, all.Distinct().Count()));
        Assert.Equal(
            18,
            (int)(await _stack.Service.GetFromJsonAsync<JsonObject>("/api/members?standing=owing"))!["total"]!
        );
        Assert.Equal(
            HttpStatusCode.BadRequest,
            (await _stack.Service.GetAsync("/api/members?standing=sideways")).StatusCode
        );
        var ledger = (await _stack.Service.GetFromJsonAsync<JsonArray>("/api/components"))!.First(c =>
            (string)c!["component"]! == "ledger-south"
        )!;
        Assert.Equal(
            (3, 3, "supported"),
            ((int)ledger["members"]!, (int)ledger["inService"]!, (string)ledger["support"]!)
        );
    }

    [Fact]
    public async Task Artefacts_are_added_checked_laid_ready_and_kept_while_they_are_needed()
    {
        var bytes = RandomNumberGenerator.GetBytes(3_000_000);
        var file = Write("extra-1.0.img", bytes);
        var refused = await _stack.Cli("artefact", "add", file, "--sha256", new string('0', 64));
        Assert.Equal(2, refused.Status);
        Assert.Contains("checksum of extra-1.0.img is not what it must be", refused.Error);
        await _stack.Good("artefact", "add", file, "--version-of", "1.0");
        Assert.Contains(
            Convert.ToHexStringLower(SHA256.HashData(bytes)),
            await _stack.Good("artefact", "show", "extra-1.0.img")
        );
        var plan = (string)
            JsonNode.Parse(
                await _stack.Good("plan", "make", "--goal", _stack.Demo("goals/season.yaml"), "--format", "json")
            )!["digest"]!;
        var staged = await _stack.Good("artefact", "stage", plan, "--format", "json");
        Assert.Equal(24, JsonNode.Parse(staged)!["lines"]!.AsArray().Count(l => (string)l!["state"]! == "staged"));
        Assert.Equal(
            ["pratincole-7.1-wide.img"],
            (await _stack.Fleet.GetFromJsonAsync<JsonObject>("/nodes/gate-09-1/artefacts"))!.Select(f => f.Key)
        );
        Assert.Matches(@"gates\s+6.3", await _stack.Good("estate", "show"));
        var needed = await _stack.Cli("artefact", "remove", "pratincole-7.1-wide.img");
        Assert.Equal(1, needed.Status);
        Assert.Contains("still needed", needed.Error);
        await _stack.Good("artefact", "remove", "extra-1.0.img");
        await _stack.Good("artefact", "remove", "pratincole-7.1-wide.img", "--anyway");
        var missing = await _stack.Cli("artefact", "list");
        Assert.Equal(0, missing.Status);
        Assert.Contains("missing: pratincole-7.1-wide.img, for 8 nodes", missing.Output);
        var blocked = await _stack.Cli("check", "run", plan);
        Assert.Contains("it is not in the library (needed for 8 nodes)", blocked.Output);
        Assert.Contains(
            "nowhere",
            (await _stack.Cli("artefact", "stage", "--artefact", "pratincole-7.1-small.img", "--node", "nowhere")).Error
        );
    }

    [Fact]
    public async Task An_upload_speaks_the_tus_protocol()
    {
        var bytes = Encoding.UTF8.GetBytes("one piece, and another");
        HttpRequestMessage Tus(HttpMethod method, string path, params (string Name, string Value)[] headers)
        {
            var request = new HttpRequestMessage(method, path);
            request.Headers.Add("Tus-Resumable", "1.0.0");
            foreach (var (name, value) in headers)
                request.Headers.Add(name, value);
            return request;
        }
        HttpRequestMessage Piece(string place, long offset, byte[] piece)
        {
            var request = Tus(HttpMethod.Patch, place, ("Upload-Offset", $"{offset}"));
            request.Content = new ByteArrayContent(piece)
            {
                Headers = { ContentType = new MediaTypeHeaderValue("application/offset+octet-stream") },
            };
            return request;
        }
        Assert.Equal(
            HttpStatusCode.PreconditionFailed,
            (await _stack.Service.PostAsync("/api/artefacts/uploads", null)).StatusCode
        );
        Assert.Equal(
            "creation,termination",
            (await _stack.Service.SendAsync(new HttpRequestMessage(HttpMethod.Options, "/api/artefacts/uploads")))
                .Headers.GetValues("Tus-Extension")
                .Single()
        );
        var begun = await _stack.Service.SendAsync(
            Tus(
                HttpMethod.Post,
                "/api/artefacts/uploads",
                ("Upload-Length", $"{bytes.Length}"),
                ("Upload-Metadata", $"filename {Convert.ToBase64String("piece.txt"u8)}")
            )
        );
        Assert.Equal(HttpStatusCode.Created, begun.StatusCode);
        var place = begun.Headers.Location!.ToString();
        Assert.Equal(
            HttpStatusCode.NoContent,
            (await _stack.Service.SendAsync(Piece(place, 0, bytes[..9]))).StatusCode
        );
        Assert.Equal(
            "9",
            (await _stack.Service.SendAsync(Tus(HttpMethod.Head, place))).Headers.GetValues("Upload-Offset").Single()
        );
        Assert.Equal(HttpStatusCode.Conflict, (await _stack.Service.SendAsync(Piece(place, 4, bytes[4..]))).StatusCode);
        Assert.Equal(
            HttpStatusCode.NoContent,
            (await _stack.Service.SendAsync(Piece(place, 9, bytes[9..]))).StatusCode
        );
        Assert.Equal(
            bytes.Length,
            (int)(await _stack.Service.GetFromJsonAsync<JsonObject>("/api/artefacts/piece.txt"))!["bytes"]!
        );
        var given = await _stack.Service.SendAsync(
            Tus(
                HttpMethod.Post,
                "/api/artefacts/uploads",
                ("Upload-Length", "5"),
                ("Upload-Metadata", $"filename {Convert.ToBase64String("../../evil"u8)}")
            )
        );
        Assert.Equal(HttpStatusCode.UnprocessableEntity, given.StatusCode);
    }

    [Fact]
    public async Task A_secret_goes_in_and_never_comes_out()
    {
        const string value = "lapwing-over-the-marsh-7715";
        await _stack.Good("secret", "set", "watcher", "--file", Write("given", Encoding.UTF8.GetBytes(value)));
        File.Delete(Path.Combine(_stack.Work, "given"));
        Assert.Contains("watcher", await _stack.Good("secret", "list"));
        // A node that uses it, and everything that is said of it and written about it.
        var estate = (await File.ReadAllTextAsync(_stack.Demo("estate.yaml"))).Replace(
            "ss-rep-1: {site: south-shore, domain: c, reach: {by: stand-in, address: \"http://127.0.0.1:"
                + _stack.FleetPort
                + "\"}}",
            "ss-rep-1: {site: south-shore, domain: c, reach: {by: http, address: \"http://127.0.0.1:"
                + _stack.FleetPort
                + "\", token: \"secret:watcher\"}}"
        );
        Assert.Contains("secret:watcher", estate);
        await _stack.Good("estate", "import", Write("estate.yaml", Encoding.UTF8.GetBytes(estate)));
        var said = new StringBuilder();
        foreach (
            var asked in new[]
            {
                "survey take",
                "survey show reports-south/ss-rep-1",
                "estate show --members",
                "estate drift",
                "secret list",
                $"plan make --goal {_stack.Demo("goals/relay.yaml")} --format json",
            }
        )
        {
            var ran = await _stack.Cli(asked.Split(' '));
            said.Append(ran.Output).Append(ran.Error);
        }
        said.Append(await _stack.Service.GetStringAsync("/api/secrets"))
            .Append(await _stack.Service.GetStringAsync("/api/documents/estate/estate"))
            .Append(await _stack.Service.GetStringAsync("/openapi/v1.json"));
        Assert.DoesNotContain(value, said.ToString());
        foreach (
            var file in Directory
                .EnumerateFiles(_stack.Work, "*", SearchOption.AllDirectories)
                .Where(f => !f.EndsWith(".lock", StringComparison.Ordinal))
        )
        {
            using var stream = new FileStream(
                file,
                FileMode.Open,
                FileAccess.Read,
                FileShare.ReadWrite | FileShare.Delete
            );
            using var reader = new StreamReader(stream, Encoding.Latin1);
            Assert.DoesNotContain(value, await reader.ReadToEndAsync());
        }
        await _stack.Good("secret", "remove", "watcher");
        Assert.Equal(2, (await _stack.Cli("secret", "remove", "watcher")).Status);
    }

    [Fact]
    public async Task Only_what_failed_is_read_again()
    {
        var plan = (string)
            JsonNode.Parse(
                await _stack.Good("plan", "make", "--goal", _stack.Demo("goals/season.yaml"), "--format", "json")
            )!["digest"]!;
        Assert.Contains("6.5 GiB short", (await _stack.Cli("check", "run", plan)).Output);
        var before = (await _stack.Service.GetFromJsonAsync<JsonObject>("/api/members/sessions-south/ss-ses-1"))![
            "at"
        ]!.ToString();
        await _stack.Fleet.PutAsJsonAsync(
            "/nodes/ss-led-3/readings",
            new
            {
                component = "ledger-south",
                name = "free(\"/data\")",
                value = "64 GiB",
            }
        );
        Assert.DoesNotContain("GiB short", (await _stack.Cli("check", "run", plan, "--failed")).Output);
        Assert.Equal(
            before,
            (await _stack.Service.GetFromJsonAsync<JsonObject>("/api/members/sessions-south/ss-ses-1"))![
                "at"
            ]!.ToString()
        );
    }
}
