using System.Text.Json;
using System.Text.RegularExpressions;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Connectors;

/// <summary>Takes readings over HTTP from where Tide Step runs: from outside the host, as its users see it.</summary>
public sealed class HttpReader(HttpClient http)
{
    /// <summary>The reading, or null where nothing fitting was answered.</summary>
    public async Task<Value?> ReadAsync(EstateNode node, Collector collector, VersionScheme scheme, CancellationToken ct)
    {
        var url = collector.Url!.Replace("{node.address}", node.Reach["address"]).Replace("{member.node}", node.Id);
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
            limit.CancelAfter(TimeSpan.FromSeconds(5));
            using var response = await http.GetAsync(url, limit.Token);
            if (collector.Path is null && collector.Pattern is null && collector.Kind == ValueKind.Flag) return Value.Of(response.IsSuccessStatusCode);
            if (!response.IsSuccessStatusCode) return null;
            var body = await response.Content.ReadAsStringAsync(limit.Token);
            return CollectorText.Read(collector, collector.Path is { } path ? JsonAt(body, path) ?? "" : body, scheme);
        }
        catch (Exception e) when (e is HttpRequestException or IOException or JsonException || (e is OperationCanceledException && !ct.IsCancellationRequested))
        {
            return collector.Kind == ValueKind.Flag ? Value.False : null;
        }
    }

    private static string? JsonAt(string body, string path)
    {
        using var document = JsonDocument.Parse(body);
        var at = document.RootElement;
        foreach (var name in path.Split('.'))
            if (at.ValueKind != JsonValueKind.Object || !at.TryGetProperty(name, out at)) return null;
        return at.ValueKind == JsonValueKind.String ? at.GetString() : at.GetRawText();
    }
}

/// <summary>From a collector's text to its value.</summary>
internal static class CollectorText
{
    public static Value? Read(Collector collector, string text, VersionScheme scheme)
    {
        if (collector.Pattern is { } pattern)
        {
            var match = Regex.Match(text, pattern, RegexOptions.NonBacktracking | RegexOptions.Multiline);
            if (!match.Success) return null;
            text = match.Groups.Count > 1 ? match.Groups[1].Value : match.Value;
        }
        return text.Trim().Length == 0 && collector.Kind != ValueKind.Text ? null : Value.Read(text, collector.Kind, scheme);
    }
}
