using System.Net;
using System.Net.Http.Json;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors;

/// <summary>Reaches the stand-in fleet over HTTP. Its nodes keep attempt records like a real far side.</summary>
public sealed class StandInConnector(HttpClient http, TimeProvider time) : IConnector, IStager
{
    private sealed record Fence(long Epoch, long Sequence);

    private sealed record Status(string State, int? ExitCode, string Output);

    private sealed record Refusal(string? Detail, string? Title);

    private sealed record MemberReport(
        string Component,
        string? Running,
        string? Installed,
        string? Staged,
        string? Role,
        bool Serving,
        Dictionary<string, string> Values
    );

    private sealed record NodeReport(string Node, long Boot, double FreeBytes, List<MemberReport> Members);

    public string By => "stand-in";

    private static string At(EstateNode node) => $"{node.Reach["address"]!.TrimEnd('/')}/nodes/{node.Id}";

    public async Task<FenceReading> RaiseAsync(
        EstateNode node,
        string installation,
        long epoch,
        long position,
        CancellationToken ct
    )
    {
        using var response = await SendAsync(
            node,
            HttpMethod.Put,
            "/fence",
            new
            {
                installation,
                epoch,
                sequence = position,
            },
            ct
        );
        var fence = await response.Content.ReadFromJsonAsync<Fence>(ct);
        return new FenceReading(fence!.Epoch, fence.Sequence);
    }

    public async Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct)
    {
        var startBy = (time.GetUtcNow() + attempt.StartWithin).ToUnixTimeSeconds();
        var body = new
        {
            installation = attempt.Installation,
            attempt = attempt.Id,
            epoch = attempt.Epoch,
            sequence = attempt.Position,
            startBy,
            component = attempt.Component,
            verb = attempt.Action.Verb,
            arguments = SecretFiles.Placed(attempt.Action.Arguments, attempt.Id).Arguments,
        };
        using var response = await SendAsync(node, HttpMethod.Post, "/attempts", body, ct, HttpStatusCode.Conflict);
        if (response.StatusCode != HttpStatusCode.Conflict)
            return Begun.Unread;
        var refusal = await response.Content.ReadFromJsonAsync<Refusal>(ct);
        return new Begun(refusal?.Detail ?? refusal?.Title ?? "refused", null);
    }

    public async Task<AttemptReading> StatusAsync(
        EstateNode node,
        string installation,
        string attempt,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        using var response = await SendAsync(
            node,
            HttpMethod.Get,
            $"/attempts/{attempt}?installation={Uri.EscapeDataString(installation)}",
            null,
            ct
        );
        var status = (await response.Content.ReadFromJsonAsync<Status>(ct))!;
        var phase = status.State switch
        {
            "running" => AttemptPhase.Running,
            "ended" => AttemptPhase.Ended,
            "restarted" => AttemptPhase.Restarted,
            "torn" => AttemptPhase.Torn,
            _ => AttemptPhase.Unknown,
        };
        return new AttemptReading(phase, status.ExitCode, status.Output);
    }

    public async Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct)
    {
        using var response = await SendAsync(
            node,
            HttpMethod.Post,
            $"/attempts/{attempt}/stop",
            new { installation, epoch },
            ct
        );
    }

    public async Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        using var response = await SendAsync(node, HttpMethod.Get, "", null, ct);
        var report = (await response.Content.ReadFromJsonAsync<NodeReport>(ct))!;
        var found = new Dictionary<Reference, Value>();
        if (report.Members.FirstOrDefault(m => m.Component == member.Component) is not { } its)
            return Taken.Nothing;
        var missed = new Dictionary<Reference, string>();
        foreach (var reference in wanted)
        {
            Value? VersionOf(string? label) =>
                label is not null && product.Scheme.TryParse(label) is { } version ? Value.Of(version) : null;
            var value = reference.Key switch
            {
                "running" => VersionOf(its.Running),
                "installed" => VersionOf(its.Installed),
                "staged" => VersionOf(its.Staged),
                "role" => its.Role is { } role ? Value.Of(role) : null,
                "in-service" => Value.Of(its.Serving),
                "reachable" => Value.True,
                _ when reference.Name == "free" => Value.Of(
                    its.Values.TryGetValue(reference.Key, out var free) && Units.TryBytes(free) is { } own
                        ? own
                        : report.FreeBytes,
                    ValueKind.Bytes
                ),
                _ when reference is { Name: "service", Field: "active" } => Value.Of(its.Running is not null),
                _ when reference is { Name: "package", Field: "version" } => VersionOf(its.Installed),
                _ when reference is { Name: "package", Field: "whole" } => Value.Of(its.Installed is not null),
                _ when product.Readings.TryGetValue(reference.Key, out var collector)
                        && its.Values.TryGetValue(collector.Field ?? reference.Name, out var text) => Value.Read(
                    text,
                    collector.Kind,
                    product.Scheme
                ),
                _ when its.Values.TryGetValue(reference.Key, out var text)
                        && KnownReadings.KindOf(reference, product.Readings) is { } kind => Value.Read(
                    text,
                    kind,
                    product.Scheme
                ),
                _ => null,
            };
            if (value is not null)
                found[reference] = value;
            else if (product.Readings.ContainsKey(reference.Key))
                missed[reference] = "its report does not tell it";
        }
        return new Taken(found, missed);
    }

    // The stand-in takes no bytes; it keeps what lies ready, and has room or has not.
    public async Task StageAsync(
        EstateNode node,
        StagedFile file,
        long bytesPerSecond,
        Action<long> sent,
        CancellationToken ct
    )
    {
        if (bytesPerSecond > 0)
            await Task.Delay(TimeSpan.FromSeconds((double)file.Bytes / bytesPerSecond), time, ct);
        using var response = await SendAsync(
            node,
            HttpMethod.Put,
            $"/artefacts/{Uri.EscapeDataString(file.Name)}",
            new { bytes = file.Bytes, sha256 = file.Sha256 },
            ct,
            HttpStatusCode.Conflict
        );
        if (response.StatusCode == HttpStatusCode.Conflict)
            throw new ConnectorException(
                new Problem(
                    (await response.Content.ReadFromJsonAsync<Refusal>(ct))?.Detail ?? $"{node.Id} refuses {file.Name}",
                    null,
                    "Clear the place, or make it larger."
                ),
                lasting: true
            );
        sent(file.Bytes);
    }

    private async Task<HttpResponseMessage> SendAsync(
        EstateNode node,
        HttpMethod method,
        string path,
        object? body,
        CancellationToken ct,
        HttpStatusCode? also = null
    )
    {
        try
        {
            using var request = new HttpRequestMessage(method, At(node) + path)
            {
                Content = body is null ? null : JsonContent.Create(body),
            };
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
            limit.CancelAfter(TimeSpan.FromSeconds(10));
            var response = await http.SendAsync(request, limit.Token);
            if (response.IsSuccessStatusCode || response.StatusCode == also)
                return response;
            var status = (int)response.StatusCode;
            response.Dispose();
            throw new ConnectorException(
                new Problem($"{node.Id} answered {status}", null, "Is the stand-in fleet made from the same estate?"),
                lasting: status is >= 400 and < 500
            );
        }
        catch (Exception e)
            when (e is HttpRequestException or IOException
                || (e is OperationCanceledException && !ct.IsCancellationRequested)
            )
        {
            throw new ConnectorException(
                new Problem(
                    $"{node.Id} does not answer at {node.Reach["address"]}",
                    e.Message,
                    "Wait, or look at the node by another way."
                ),
                lasting: false,
                e
            );
        }
    }
}
