using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Renci.SshNet;
using Renci.SshNet.Common;

namespace TideStep.Connectors.Ssh;

/// <summary>One channel kept open to a host's wrapper (<c>serve</c> in <c>attempt.sh</c>), over which requests go side
/// by side. Without it each of them costs
/// the host a session, a shell and a sudo, which is more than the wrapper itself does.</summary>
internal sealed class Conversation : IDisposable
{
    private static readonly TimeSpan Greeting = TimeSpan.FromSeconds(10);

    /// <summary>More than any answer is long.</summary>
    private const int MostPending = 64 * 1024;

    private readonly ShellStream _stream;

    /// <summary>Begins every token of this conversation; nobody can guess it, so that no output passes for an
    /// answer.</summary>
    private readonly string _mark = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(12));
    private readonly ConcurrentDictionary<
        string,
        (TaskCompletionSource<SshLine.Result> Answer, TaskCompletionSource<SshLine.Result> End)
    > _open = new();
    private readonly Decoder _decoder = Encoding.UTF8.GetDecoder();
    private readonly StringBuilder _heard = new();
    private readonly byte[] _bytes = new byte[4096];
    private readonly char[] _letters = new char[4096];
    private readonly Lock _hearing = new(),
        _speaking = new();
    private long _count;
    private volatile bool _ended;

    private Conversation(ShellStream stream)
    {
        _stream = stream;
        _stream.DataReceived += (_, _) => Hear();
        _stream.Closed += (_, _) => End();
        _stream.ErrorOccurred += (_, _) => End();
    }

    /// <summary>Opens a conversation; null where the host does not let one be held, so that each request needs a
    /// session of its own.</summary>
    /// <param name="start">The line of shell that becomes the wrapper.</param>
    public static async Task<Conversation?> OpenAsync(SshClient client, string start, CancellationToken ct)
    {
        Conversation? talk = null;
        try
        {
            talk = new Conversation(client.CreateShellStreamNoTerminal());
            talk.Say(start + "\n");
            if (await talk.AskAsync(["clock"], Greeting, TimeSpan.Zero, ct) is { Code: 0 })
                return talk;
        }
        catch (Exception e) when (client.IsConnected && SshLine.Breaks(e))
        { /* some hosts allow commands only */
        }
        talk?.Dispose();
        return null;
    }

    /// <summary>Puts a request and gives its answer; <c>Later</c> where the far side waits for an attempt's end longer
    /// than <paramref name="wait"/>. The errors of the far side are not told: who needs them asks by a session of its
    /// own.</summary>
    /// <exception cref="TimeoutException">No answer came within <paramref name="limit"/>.</exception>
    /// <exception cref="IOException">The conversation ended.</exception>
    public async Task<SshLine.Result> AskAsync(
        IReadOnlyList<string> request,
        TimeSpan limit,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        var token = $"{_mark}-{Interlocked.Increment(ref _count).ToString(CultureInfo.InvariantCulture)}";
        var (answer, end) = (
            new TaskCompletionSource<SshLine.Result>(TaskCreationOptions.RunContinuationsAsynchronously),
            new TaskCompletionSource<SshLine.Result>(TaskCreationOptions.RunContinuationsAsynchronously)
        );
        _open[token] = (answer, end);
        try
        {
            if (_ended)
                throw Ended();
            // A request is one line: what ends lines in it is put in on the far side.
            var line = $"{token} {Shell.Join(request).Replace("\n", "'\"$nl\"'", StringComparison.Ordinal)}\n";
            await SshLine.Watched(Task.Run(() => Say(line), CancellationToken.None), limit, ct);
            await SshLine.Watched(answer.Task, limit, ct);
            var first = await answer.Task;
            if (!first.Later)
                return first;
            await Task.WhenAny(end.Task, Task.Delay(wait, ct));
            ct.ThrowIfCancellationRequested();
            return end.Task.IsCompleted ? await end.Task : first;
        }
        finally
        {
            _open.TryRemove(token, out _);
        }
    }

    private void Say(string text)
    {
        lock (_speaking)
        {
            _stream.Write(text);
            _stream.Flush();
        }
    }

    // Whole answers are taken out of what was heard; anything before the first of them is a greeting of the host's.
    private void Hear()
    {
        lock (_hearing)
        {
            while (_stream.DataAvailable && _stream.Read(_bytes, 0, _bytes.Length) is > 0 and var read)
                _heard.Append(_letters, 0, _decoder.GetChars(_bytes, 0, read, _letters, 0));
            var text = _heard.ToString();
            var taken = 0;
            while (
                text.IndexOf($"\n<{_mark}-", taken, StringComparison.Ordinal) is >= 0 and var end
                && text.IndexOf('\n', end + 1) is >= 0 and var after
            )
            {
                var token = text[(end + 2)..after];
                var begin = text.IndexOf($">{token}\n", taken, end - taken, StringComparison.Ordinal);
                taken = after + 1;
                if (begin < 0 || !_open.TryGetValue(token, out var waiting))
                    continue;
                var told = Understood(text[(begin + token.Length + 2)..end]);
                // An end may be heard of before the word that it will come.
                if (!told.Later)
                    waiting.End.TrySetResult(told);
                waiting.Answer.TrySetResult(told);
            }
            // What no answer follows is nobody's: a host may print into the channel as it likes.
            if (_heard.Length - taken > MostPending)
                taken = _heard.Length - MostPending;
            if (taken > 0)
                _heard.Remove(0, taken);
        }
    }

    private static SshLine.Result Understood(string answer)
    {
        var (status, said) = answer.Split('\n', 2) is [var first, var rest] ? (first, rest) : (answer, "");
        return int.TryParse(status, CultureInfo.InvariantCulture, out var code)
            ? new SshLine.Result(code, said, "")
            : new SshLine.Result(0, "", "") { Whole = status == "later", Later = status == "later" };
    }

    private static IOException Ended() => new("the conversation with the host ended");

    private void End()
    {
        _ended = true;
        foreach (var (answer, end) in _open.Values)
        {
            answer.TrySetException(Ended());
            end.TrySetException(Ended());
            _ = end.Task.Exception; // not everybody waits for it
        }
    }

    public void Dispose()
    {
        End();
        // Closing waits for the far side, which may be silent.
        _ = Task.Run(_stream.Dispose);
    }
}
