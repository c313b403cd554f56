using System.Collections.Concurrent;
using System.Net;
using System.Net.Http.Headers;
using TideStep.Connectors;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Engine.Artefacts;

/// <summary>A file that is fetched from an address: how far it has come, and what came of it.</summary>
/// <param name="State">fetching, done or failed.</param>
public sealed record FetchStanding(string Name, string Url, long Here, long? All, string State, string? Why);

/// <summary>Fetches files from addresses into the library. What broke off is gone on with from where it was, as long as
/// the far side says it is still the same file.</summary>
public sealed class Fetching(ArtefactLibrary library, HttpClient http, TimeProvider time) : IAsyncDisposable
{
    private const int Tries = 5;
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan Silent = TimeSpan.FromSeconds(30);

    /// <summary>The largest file that is fetched.</summary>
    public const long Largest = 64L << 30;

    // So much stays free where it is fetched to, and that is looked at so often.
    private const long StaysFree = 64L << 20,
        Looked = 16L << 20;

    private readonly ConcurrentDictionary<string, FetchStanding> _standing = new();
    private readonly ConcurrentDictionary<string, Task> _work = new();
    private readonly CancellationTokenSource _ending = new();

    public IReadOnlyCollection<FetchStanding> All => [.. _standing.Values.OrderBy(f => f.Name, StringComparer.Ordinal)];

    /// <summary>Begins to fetch; a name that is being fetched already is refused.</summary>
    public Problem? Begin(string url, Incoming incoming)
    {
        if (!Uri.TryCreate(url, UriKind.Absolute, out var address) || address.Scheme is not ("http" or "https"))
            return new Problem($"'{url}' is no address to fetch from", null, "It begins with http:// or https://.");
        if (ArtefactLibrary.Wrong(incoming.Name) is { } wrong)
            return wrong;
        if (_work.TryGetValue(incoming.Name, out var running) && !running.IsCompleted)
            return new Problem($"{incoming.Name} is being fetched already", null, "See 'tidestep artefact list'.");
        _standing[incoming.Name] = new FetchStanding(incoming.Name, url, 0, null, "fetching", null);
        _work[incoming.Name] = Task.Run(() => FetchAsync(address, incoming, _ending.Token), CancellationToken.None);
        return null;
    }

    /// <summary>Waits for one to end; for callers that stay.</summary>
    public async Task<FetchStanding?> EndOfAsync(string name, CancellationToken ct)
    {
        if (_work.TryGetValue(name, out var work))
            await work.WaitAsync(ct);
        return _standing.GetValueOrDefault(name);
    }

    private async Task FetchAsync(Uri address, Incoming incoming, CancellationToken ct)
    {
        var part = Path.Combine(library.PartsFolder(), $"fetch-{incoming.Name}");
        // What an earlier attempt left may be of another file by that name; only its mark tells.
        File.Delete(part);
        var mark = new Mark();
        for (var attempt = 1; ; attempt++)
        {
            try
            {
                await GoOnAsync(address, incoming.Name, part, mark, ct);
                var taken = await library.TakeFileAsync(part, incoming, ct);
                Tell(incoming.Name, s =>
                    taken.Ok
                        ? s with
                        {
                            State = "done",
                        }
                        : s with
                        {
                            State = "failed",
                            Why = taken.Problems[0].ToString(),
                        }
                );
                return;
            }
            catch (Exception e) when (e is RefusedException or ForbiddenAddressException)
            {
                Tell(incoming.Name, s => s with { State = "failed", Why = e.Message });
                return;
            }
            catch (Exception e)
                when (e is HttpRequestException or IOException or TimeoutException
                    || (e is OperationCanceledException && !ct.IsCancellationRequested)
                )
            {
                if (attempt >= Tries)
                {
                    Tell(incoming.Name, s =>
                        s with
                        {
                            State = "failed",
                            Why = $"it broke off {Tries} times: {e.Message}",
                        }
                    );
                    return;
                }
                await Task.Delay(Pause * attempt, time, ct);
            }
            catch (OperationCanceledException)
            {
                Tell(incoming.Name, s => s with { State = "failed", Why = "the service ended" });
                return;
            }
        }
    }

    // What the far side calls the state of the file that the part is of; it outlives an attempt that breaks off.
    private sealed class Mark
    {
        public string? Text { get; set; }
    }

    private sealed class RefusedException(string why) : Exception(why);

    // From where the part ends; the mark is what the far side calls this state of the file.
    private async Task GoOnAsync(Uri address, string name, string part, Mark mark, CancellationToken ct)
    {
        var here = File.Exists(part) ? new FileInfo(part).Length : 0;
        using var request = new HttpRequestMessage(HttpMethod.Get, address);
        if (here > 0 && mark.Text is { } text)
        {
            request.Headers.Range = new RangeHeaderValue(here, null);
            request.Headers.IfRange = RangeConditionHeaderValue.Parse(text);
        }
        else
            here = 0;
        using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, ct);
        if ((int)response.StatusCode is >= 300 and < 400)
            throw new RefusedException(
                $"{address.Host} answered {(int)response.StatusCode}, which leads to {response.Headers.Location}: name "
                    + "that address itself if it is meant"
            );
        if ((int)response.StatusCode is >= 400 and < 500)
            throw new RefusedException($"{address.Host} answered {(int)response.StatusCode} {response.ReasonPhrase}");
        if (response.StatusCode == HttpStatusCode.OK)
            here = 0;
        else if (response.StatusCode != HttpStatusCode.PartialContent)
            throw new HttpRequestException($"{address.Host} answered {(int)response.StatusCode}");
        mark.Text = response.Headers.ETag is { IsWeak: false } tag
            ? tag.ToString()
            : response.Content.Headers.LastModified?.ToString("R");
        var all = here + response.Content.Headers.ContentLength;
        Tell(name, s => s with { Here = here, All = all });
        MakesRoom(part, here, all ?? here);
        await using var body = await response.Content.ReadAsStreamAsync(ct);
        await using var file = new FileStream(
            part,
            here == 0 ? FileMode.Create : FileMode.Append,
            FileAccess.Write,
            FileShare.None,
            1 << 16,
            FileOptions.Asynchronous
        );
        var piece = new byte[1 << 16];
        while (true)
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
            limit.CancelAfter(Silent);
            var read = await body.ReadAsync(piece, limit.Token);
            if (read == 0)
                break;
            await file.WriteAsync(piece.AsMemory(0, read), ct);
            here += read;
            if (here / Looked != (here - read) / Looked)
                MakesRoom(part, here, here);
            Tell(name, s => s with { Here = here });
        }
        if (all is { } whole && here < whole)
            throw new IOException($"it ended after {here} of {whole} bytes");
    }

    // What would not fit is not begun, and what goes on without an end is ended.
    private static void MakesRoom(string part, long here, long all)
    {
        if (all > Largest)
            throw new RefusedException($"it has more than {Units.WriteBytes(Largest)}");
        var free = new DriveInfo(Path.GetDirectoryName(part)!).AvailableFreeSpace - StaysFree;
        if (all - here > free || free < 0)
            throw new RefusedException(
                $"there is no room for it: it needs {Units.WriteBytes(all - here)} more, and "
                    + $"{Units.WriteBytes(Math.Max(0, free))} may be used"
            );
    }

    private void Tell(string name, Func<FetchStanding, FetchStanding> change) =>
        _standing.AddOrUpdate(name, _ => throw new InvalidOperationException(), (_, old) => change(old));

    public async ValueTask DisposeAsync()
    {
        await _ending.CancelAsync();
        await Task.WhenAll(_work.Values);
        _ending.Dispose();
    }
}
