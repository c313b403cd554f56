using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using Renci.SshNet;
using Renci.SshNet.Common;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors.Ssh;

/// <summary>A node over its line: commands, requests to its wrapper, questions, and files brought to it.</summary>
internal sealed class SshHost(EstateNode node, SshLine line, TimeProvider time)
{
    private string ByItself(IReadOnlyList<string> request) =>
        $"sudo -n /bin/sh {Shell.Quote($"{SshConnector.StateFolder(node)}/attempt.sh")} {Shell.Join(request)}";

    /// <inheritdoc cref="SshLine.UptimeAsync"/>
    public Task<long> UptimeAsync(CancellationToken ct) => line.UptimeAsync(node.Id, ct);

    /// <inheritdoc cref="SshLine.RunAsync"/>
    public Task<SshLine.Result> RunAsync(string command, TimeSpan limit, CancellationToken ct) =>
        line.RunAsync(node.Id, command, limit, ct);

    /// <summary>Puts a request to the host's wrapper (the verbs at the head of <c>attempt.sh</c>).</summary>
    /// <param name="wait">How long an attempt's end is waited for; an answer may then be only that there is none
    /// yet.</param>
    /// <param name="harmless">Whether it may be put twice: then it is put by a session of its own where the
    /// conversation gives no whole answer.</param>
    /// <exception cref="ConnectorException">The host can't be reached, or the link broke or is silent.</exception>
    public async Task<SshLine.Result> RequestAsync(
        IReadOnlyList<string> request,
        TimeSpan limit,
        TimeSpan wait,
        bool harmless,
        CancellationToken ct
    )
    {
        if (
            await line.RequestAsync(node.Id, request, limit, wait, ct) is { } answer
            && (!harmless || answer is { Whole: true, Code: 0 })
        )
            return answer;
        return await RunAsync(ByItself(request), limit + wait, ct);
    }

    private static readonly TimeSpan EachQuestion = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan AllQuestions = TimeSpan.FromSeconds(60);
    private const int FewQuestions = 4;

    /// <summary>Asks many questions in one call; each has its own time and bound on the host, so that one that hangs or
    /// pours out does not cost the others.</summary>
    public async Task<IReadOnlyList<(HostQuestion Question, Value? Value, string? Why)>> AskAsync(
        IReadOnlyList<HostQuestion> questions,
        Product product,
        CancellationToken ct
    )
    {
        var mark = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(12));
        string[] request =
        [
            "ask",
            mark,
            $"{EachQuestion.TotalSeconds:0}",
            string.Join('\n', questions.Select(q => q.Line)),
        ];
        var asked = Stopwatch.GetTimestamp();
        // Many answers are too long for the conversation: they are not asked for there in vain.
        var result =
            questions.Count > FewQuestions
                ? await RunAsync(ByItself(request), AllQuestions, ct)
                : await RequestAsync(request, AllQuestions, TimeSpan.Zero, harmless: true, ct);
        // The host read its clock somewhere between; half of the way is nearest.
        var now = time.GetUtcNow() - (Stopwatch.GetElapsedTime(asked) / 2);
        var answers = result.Output.Split($"\n{mark} ");
        var found = new List<(HostQuestion, Value?, string?)>();
        for (var i = 0; i < questions.Count; i++)
        {
            if (i + 1 >= answers.Length)
            {
                found.Add(
                    (
                        questions[i],
                        null,
                        result.Error.Trim() is { Length: > 0 } error
                            ? CollectorText.Shown(error)
                            : "the host did not answer it"
                    )
                );
                continue;
            }
            var told = answers[i + 1].Split('\n', 2)[0].Split(' ', 2);
            var answer =
                i == 0 ? answers[0]
                : answers[i].Split('\n', 2) is [_, var rest] ? rest
                : "";
            var (value, why) = int.TryParse(told[0], out var status)
                ? questions[i].Understand(status, answer, told.Length > 1 ? told[1] : "", product, now, EachQuestion)
                : (null, "the host answered nonsense");
            found.Add((questions[i], value, why));
        }
        return found;
    }

    /// <summary>Lays contents into files of a new folder that only the account and the administrator can
    /// enter.</summary>
    public async Task LayAsync(
        string folder,
        IReadOnlyCollection<(string Name, byte[] Content)> files,
        CancellationToken ct
    )
    {
        var made = await RunAsync($"mkdir -m 700 -- {Shell.Quote(folder)}", TimeSpan.FromSeconds(20), ct);
        if (made.Code != 0)
            throw new ConnectorException(
                new Problem(
                    $"{node.Id} has no place in memory for secrets",
                    made.Error.Trim(),
                    "Look at /dev/shm there."
                ),
                lasting: true
            );
        using var sftp = new SftpClient(line.Connection(out _));
        line.Pin(sftp);
        try
        {
            await sftp.ConnectAsync(ct);
            foreach (var (name, content) in files)
            {
                using var stream = new MemoryStream(content, writable: false);
                await SshLine.Watched(
                    Task.Run(() => sftp.UploadFile(stream, $"{folder}/{name}"), ct),
                    TimeSpan.FromSeconds(30),
                    ct
                );
            }
        }
        catch (Exception e)
            when (e is SshException or System.Net.Sockets.SocketException or IOException or TimeoutException)
        {
            throw new ConnectorException(
                new Problem(
                    $"a secret could not be brought to {node.Id}",
                    e.Message,
                    "It is brought again when the step is tried again."
                ),
                lasting: false,
                e
            );
        }
    }

    /// <summary>Sends a file to a place that only the account can write; the checksum is compared on the far side
    /// afterwards.</summary>
    public async Task UploadAsync(string local, string remote, CancellationToken ct)
    {
        await line.ConnectAsync(node.Id, ct);
        using var sftp = new SftpClient(line.Connection(out _));
        line.Pin(sftp);
        try
        {
            await sftp.ConnectAsync(ct);
            await using var file = File.OpenRead(local);
            await SshLine.Watched(
                Task.Run(() => sftp.UploadFile(file, remote, canOverride: true), ct),
                TimeSpan.FromMinutes(30),
                ct
            );
        }
        catch (Exception e)
            when (e is SshException or System.Net.Sockets.SocketException or IOException or TimeoutException)
        {
            throw new ConnectorException(
                new Problem(
                    $"{Path.GetFileName(local)} could not be sent to {node.Id}",
                    e.Message,
                    "It is sent again from the start when the step is tried again."
                ),
                lasting: false,
                e
            );
        }
    }

    /// <summary>Appends a file's rest to what of it lies on the host already, in a place of the administrator's; the
    /// pace can be bounded.</summary>
    /// <param name="local">The file.</param>
    /// <param name="remote">The place on the host; what lies there is taken for the file's beginning.</param>
    /// <param name="from">How many bytes lie there.</param>
    /// <param name="bytesPerSecond">The pace, or 0 for as fast as it goes.</param>
    /// <param name="sent">Told after each piece how many bytes lie there now.</param>
    public async Task AppendAsync(
        string local,
        string remote,
        long from,
        long bytesPerSecond,
        Action<long> sent,
        CancellationToken ct
    )
    {
        var (client, _) = await line.ConnectAsync(node.Id, ct);
        using var command = client.CreateCommand(
            $"sudo -n /bin/sh -c {Shell.Quote($"exec cat >>{Shell.Quote(remote)}")}"
        );
        command.CommandTimeout = Timeout.InfiniteTimeSpan;
        try
        {
            var task = command.ExecuteAsync(ct);
            await using (var input = command.CreateInputStream())
            {
                await using var file = new FileStream(
                    local,
                    FileMode.Open,
                    FileAccess.Read,
                    FileShare.Read,
                    1 << 20,
                    FileOptions.SequentialScan | FileOptions.Asynchronous
                );
                file.Seek(from, SeekOrigin.Begin);
                var (piece, begun, length) = (new byte[PieceLength], Stopwatch.GetTimestamp(), 0L);
                while (await file.ReadAsync(piece, ct) is > 0 and var read)
                {
                    // A link that takes nothing for so long is given up; the piece that is under way is abandoned with
                    // it.
                    await SshLine.Watched(
                        Task.Run(() => input.Write(piece, 0, read), CancellationToken.None),
                        PieceLimit,
                        ct
                    );
                    length += read;
                    sent(from + length);
                    if (
                        bytesPerSecond > 0
                        && TimeSpan.FromSeconds((double)length / bytesPerSecond) - Stopwatch.GetElapsedTime(begun)
                            is { Ticks: > 0 } ahead
                    )
                        await Task.Delay(ahead, ct);
                }
            }
            await SshLine.Watched(task, PieceLimit, ct);
            if (command.ExitStatus != 0)
                throw new ConnectorException(
                    new Problem(
                        $"{Path.GetFileName(local)} could not be written on {node.Id}",
                        command.Error.Trim(),
                        "Is the disk full?"
                    ),
                    lasting: false
                );
        }
        catch (Exception e) when (SshLine.Breaks(e))
        {
            line.Drop(client);
            line.HasNoRoom(e); // the next try finds room
            throw new ConnectorException(
                new Problem(
                    $"sending {Path.GetFileName(local)} to {node.Id} broke off",
                    e.Message,
                    "It goes on from where it broke off when it is staged again."
                ),
                lasting: false,
                e
            );
        }
    }

    private const int PieceLength = 256 * 1024;
    private static readonly TimeSpan PieceLimit = TimeSpan.FromSeconds(30);
}
