using System.Text;
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
    private const int MostRead = 1024 * 1024;
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(5);

    /// <summary>The reading; else why there is none, and whether nothing answered at all. A flag without a place or
    /// pattern tells whether a good status came.</summary>
    public async Task<(Value? Value, string? Why, bool Silent)> ReadAsync(
        EstateNode node,
        Member member,
        Collector collector,
        VersionScheme scheme,
        CancellationToken ct
    )
    {
        var url = collector
            .Url!.Replace("{node.address}", node.Reach["address"])
            .Replace("{member.node}", node.Id)
            .Replace("{member.component}", member.Component);
        var plain = collector.Path is null && collector.Pattern is null && collector.Kind == ValueKind.Flag;
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
            limit.CancelAfter(Longest);
            using var response = await http.GetAsync(url, HttpCompletionOption.ResponseHeadersRead, limit.Token);
            if (plain)
                return (Value.Of(response.IsSuccessStatusCode), null, false);
            if (!response.IsSuccessStatusCode)
                return (
                    collector.Kind == ValueKind.Flag ? Value.False : null,
                    $"{url} answered {(int)response.StatusCode}",
                    false
                );
            await using var stream = await response.Content.ReadAsStreamAsync(limit.Token);
            var bytes = await BoundedAsync(stream, MostRead + 1, limit.Token);
            if (bytes.Length > MostRead)
                return (null, $"{url} answered more than {Units.WriteBytes(MostRead)}", false);
            var body = Encoding.UTF8.GetString(bytes);
            if (collector.Path is not { } path)
                return CollectorText.Read(collector, body, scheme) is var (value, why) ? (value, why, false) : default;
            return JsonAt(body, path) is { } text
                ? CollectorText.Read(collector, text, scheme) is var (at, whyNot)
                    ? (at, whyNot, false)
                    : default
                : (null, $"{url} answered nothing at {path}", false);
        }
        catch (JsonException)
        {
            return (null, $"{url} answered no JSON", false);
        }
        catch (Exception e)
            when (e is HttpRequestException or IOException
                || (e is OperationCanceledException && !ct.IsCancellationRequested)
            )
        {
            var why =
                e is OperationCanceledException
                    ? $"{url} did not answer within {Longest.TotalSeconds:0} s"
                    : $"{url}: {Inmost(e).Message}";
            return (collector.Kind == ValueKind.Flag ? Value.False : null, why, true);
        }
    }

    private static Exception Inmost(Exception e) => e.InnerException is { } inner ? Inmost(inner) : e;

    /// <summary>At most so many bytes; what is beyond is left unread.</summary>
    internal static async Task<byte[]> BoundedAsync(Stream stream, int most, CancellationToken ct)
    {
        var (buffer, length) = (new byte[Math.Min(most, 64 * 1024)], 0);
        while (true)
        {
            if (length == buffer.Length)
            {
                if (length == most)
                    return buffer;
                Array.Resize(ref buffer, Math.Min(most, buffer.Length * 4));
            }
            var read = await stream.ReadAsync(buffer.AsMemory(length), ct);
            if (read == 0)
                return buffer[..length];
            length += read;
        }
    }

    // Names and numbers with dots between: members.0.version.
    private static string? JsonAt(string body, string path)
    {
        using var document = JsonDocument.Parse(body);
        var at = document.RootElement;
        foreach (var name in path.Split('.'))
        {
            if (
                at.ValueKind == JsonValueKind.Array
                && int.TryParse(name, out var place)
                && place >= 0
                && place < at.GetArrayLength()
            )
                at = at[place];
            else if (at.ValueKind != JsonValueKind.Object || !at.TryGetProperty(name, out at))
                return null;
        }
        return at.ValueKind == JsonValueKind.String ? at.GetString() : at.GetRawText();
    }
}

/// <summary>From a collector's text to its value.</summary>
internal static class CollectorText
{
    private const int MostShown = 60;
    private static readonly TimeSpan MostMatching = TimeSpan.FromSeconds(1);

    public static (Value? Value, string? Why) Read(Collector collector, string text, VersionScheme scheme)
    {
        if (collector.Pattern is { } pattern)
        {
            var match = Regex.Match(text, pattern, RegexOptions.NonBacktracking | RegexOptions.Multiline, MostMatching);
            if (!match.Success)
                return (null, $"its pattern matches nothing in '{Shown(text)}'");
            text = match.Groups.Count > 1 ? match.Groups[1].Value : match.Value;
        }
        if (text.Trim().Length == 0 && collector.Kind != ValueKind.Text)
            return (null, "nothing was answered");
        return Value.Read(text, collector.Kind, scheme) is { } value
            ? (value, null)
            : (null, $"'{Shown(text)}' is no {Word(collector.Kind)}");
    }

    internal static string Word(ValueKind kind) =>
        kind switch
        {
            ValueKind.Bytes => "size",
            ValueKind.Flag => "yes or no",
            _ => kind.ToString().ToLowerInvariant(),
        };

    /// <summary>The beginning of a text, with what can't be shown as dots.</summary>
    internal static string Shown(string text)
    {
        var clean = new string([.. text.Trim().Take(MostShown).Select(c => char.IsControl(c) || c == '�' ? '·' : c)]);
        return text.Trim().Length > MostShown ? clean + "…" : clean;
    }
}
