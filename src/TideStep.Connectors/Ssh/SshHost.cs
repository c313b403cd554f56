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

/// <summary>One kept connection to a host. Calls are watched by a clock of our own: the library's keep-alive does not notice a dead link,
/// and a stuck call may not return when disposed, so it is abandoned, not awaited.</summary>
internal sealed class SshHost(EstateNode node, Secrets secrets, string installationFolder, TimeProvider time) : IDisposable
{
    private readonly SemaphoreSlim _connecting = new(1, 1);
    private SshClient? _client;
    private bool _prepared;

    /// <summary>The host that stands between, where this one can't be reached by itself.</summary>
    public SshHost? Gate { get; init; }

    private (string Address, int Port)? _gate;
    private readonly Dictionary<(string, int), (SshClient Through, ForwardedPortLocal Port)> _openings = [];

    // A port of our own loopback that leads through this host to another.
    private async Task<(string Address, int Port)> OpenAsync(string address, int port, CancellationToken ct)
    {
        var client = await ConnectAsync(ct);
        lock (_openings)
        {
            if (_openings.TryGetValue((address, port), out var known) && known.Through == client && known.Port.IsStarted) return (known.Port.BoundHost, (int)known.Port.BoundPort);
            var opening = new ForwardedPortLocal("127.0.0.1", 0, address, (uint)port);
            client.AddForwardedPort(opening);
            opening.Start();
            _openings[(address, port)] = (client, opening);
            return (opening.BoundHost, (int)opening.BoundPort);
        }
    }

    private (long Seconds, long At) _uptime;

    /// <summary>Seconds since the host's boot, by what it said at the connection and our monotonic clock since.</summary>
    public async Task<long> UptimeAsync(CancellationToken ct)
    {
        await ConnectAsync(ct);
        return _uptime.Seconds + (long)Stopwatch.GetElapsedTime(_uptime.At).TotalSeconds;
    }

    public sealed record Result(int Code, string Output, string Error);

    /// <summary>Runs a command and gives its output; a link that is silent for longer than <paramref name="limit"/> is given up.</summary>
    public async Task<Result> RunAsync(string command, TimeSpan limit, CancellationToken ct)
    {
        var client = await ConnectAsync(ct);
        return await RunOnAsync(client, command, limit, ct);
    }

    private static readonly TimeSpan EachQuestion = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan AllQuestions = TimeSpan.FromSeconds(60);

    /// <summary>Asks many questions in one call; each has its own time and bound on the host, so that one that hangs or pours out does not cost the others.</summary>
    public async Task<IReadOnlyList<(HostQuestion Question, Value? Value, string? Why)>> AskAsync(IReadOnlyList<HostQuestion> questions, Product product, CancellationToken ct)
    {
        var mark = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(12));
        var script = $"{SshConnector.StateFolder(node)}/read.sh";
        var text = $"mark={mark} limit={EachQuestion.TotalSeconds:0} self={Shell.Quote(script)}; . {Shell.Quote(script)}; {string.Join("; ", questions.Select(q => q.Line))}";
        var client = await ConnectAsync(ct);
        var asked = Stopwatch.GetTimestamp();
        var result = await RunOnAsync(client, $"sudo -n /bin/sh -c {Shell.Quote(text)}", AllQuestions, ct);
        // The host read its clock somewhere between; half of the way is nearest.
        var now = time.GetUtcNow() - (Stopwatch.GetElapsedTime(asked) / 2);
        var answers = result.Output.Split($"\n{mark} ");
        var found = new List<(HostQuestion, Value?, string?)>();
        for (var i = 0; i < questions.Count; i++)
        {
            if (i + 1 >= answers.Length) { found.Add((questions[i], null, result.Error.Trim() is { Length: > 0 } error ? CollectorText.Shown(error) : "the host did not answer it")); continue; }
            var line = answers[i + 1].Split('\n', 2)[0].Split(' ', 2);
            var answer = i == 0 ? answers[0] : answers[i].Split('\n', 2) is [_, var rest] ? rest : "";
            var (value, why) = int.TryParse(line[0], out var status) ? questions[i].Understand(status, answer, line.Length > 1 ? line[1] : "", product, now, EachQuestion) : (null, "the host answered nonsense");
            found.Add((questions[i], value, why));
        }
        return found;
    }

    private async Task<Result> RunOnAsync(SshClient client, string command, TimeSpan limit, CancellationToken ct)
    {
        SshCommand? running = null;
        try
        {
            running = client.CreateCommand(command);
            running.CommandTimeout = Timeout.InfiniteTimeSpan;
            var task = running.ExecuteAsync(ct);
            await Watched(task, limit, ct);
            return new Result(running.ExitStatus ?? -1, running.Result, running.Error);
        }
        catch (Exception e) when (e is SshException or System.Net.Sockets.SocketException or IOException or ObjectDisposedException or InvalidOperationException or TimeoutException)
        {
            Drop(client);
            throw new ConnectorException(new Problem($"the connection to {node.Id} broke", e.Message, "It is tried again; look at the host's network if it goes on."), lasting: false, e);
        }
        finally { if (running is not null) _ = Task.Run(running.Dispose, CancellationToken.None); }
    }

    private static async Task Watched(Task task, TimeSpan limit, CancellationToken ct)
    {
        var first = await Task.WhenAny(task, Task.Delay(limit, ct));
        if (first != task)
        {
            ct.ThrowIfCancellationRequested();
            _ = task.ContinueWith(t => t.Exception, CancellationToken.None, TaskContinuationOptions.OnlyOnFaulted, TaskScheduler.Default);
            throw new TimeoutException($"no answer within {limit.TotalSeconds:0} s");
        }
        await task;
    }

    /// <summary>Lays contents into files of a new folder that only the account and the administrator can enter.</summary>
    public async Task LayAsync(string folder, IReadOnlyCollection<(string Name, byte[] Content)> files, CancellationToken ct)
    {
        var made = await RunAsync($"mkdir -m 700 -- {Shell.Quote(folder)}", TimeSpan.FromSeconds(20), ct);
        if (made.Code != 0) throw new ConnectorException(new Problem($"{node.Id} has no place in memory for secrets", made.Error.Trim(), "Look at /dev/shm there."), lasting: true);
        using var sftp = new SftpClient(Connection(out _));
        Pin(sftp);
        try
        {
            await sftp.ConnectAsync(ct);
            foreach (var (name, content) in files)
            {
                using var stream = new MemoryStream(content, writable: false);
                await Watched(Task.Run(() => sftp.UploadFile(stream, $"{folder}/{name}"), ct), TimeSpan.FromSeconds(30), ct);
            }
        }
        catch (Exception e) when (e is SshException or System.Net.Sockets.SocketException or IOException or TimeoutException)
        {
            throw new ConnectorException(new Problem($"a secret could not be brought to {node.Id}", e.Message, "It is brought again when the step is tried again."), lasting: false, e);
        }
    }

    /// <summary>Sends a file to a place that only the account can write; the checksum is compared on the far side afterwards.</summary>
    public async Task UploadAsync(string local, string remote, CancellationToken ct)
    {
        await ConnectAsync(ct);
        using var sftp = new SftpClient(Connection(out _));
        Pin(sftp);
        try
        {
            await sftp.ConnectAsync(ct);
            await using var file = File.OpenRead(local);
            await Watched(Task.Run(() => sftp.UploadFile(file, remote, canOverride: true), ct), TimeSpan.FromMinutes(30), ct);
        }
        catch (Exception e) when (e is SshException or System.Net.Sockets.SocketException or IOException or TimeoutException)
        {
            throw new ConnectorException(new Problem($"{Path.GetFileName(local)} could not be sent to {node.Id}", e.Message, "It is sent again from the start when the step is tried again."), lasting: false, e);
        }
    }

    /// <summary>Appends a file's rest to what of it lies on the host already, in a place of the administrator's; the pace can be bounded.</summary>
    /// <param name="local">The file.</param>
    /// <param name="remote">The place on the host; what lies there is taken for the file's beginning.</param>
    /// <param name="from">How many bytes lie there.</param>
    /// <param name="bytesPerSecond">The pace, or 0 for as fast as it goes.</param>
    /// <param name="sent">Told after each piece how many bytes lie there now.</param>
    public async Task AppendAsync(string local, string remote, long from, long bytesPerSecond, Action<long> sent, CancellationToken ct)
    {
        var client = await ConnectAsync(ct);
        using var command = client.CreateCommand($"sudo -n /bin/sh -c {Shell.Quote($"exec cat >>{Shell.Quote(remote)}")}");
        command.CommandTimeout = Timeout.InfiniteTimeSpan;
        try
        {
            var task = command.ExecuteAsync(ct);
            await using (var input = command.CreateInputStream())
            {
                await using var file = new FileStream(local, FileMode.Open, FileAccess.Read, FileShare.Read, 1 << 20, FileOptions.SequentialScan | FileOptions.Asynchronous);
                file.Seek(from, SeekOrigin.Begin);
                var (piece, begun, length) = (new byte[PieceLength], Stopwatch.GetTimestamp(), 0L);
                while (await file.ReadAsync(piece, ct) is > 0 and var read)
                {
                    // A link that takes nothing for so long is given up; the piece that is under way is abandoned with it.
                    await Watched(Task.Run(() => input.Write(piece, 0, read), CancellationToken.None), PieceLimit, ct);
                    length += read;
                    sent(from + length);
                    if (bytesPerSecond > 0 && TimeSpan.FromSeconds((double)length / bytesPerSecond) - Stopwatch.GetElapsedTime(begun) is { Ticks: > 0 } ahead) await Task.Delay(ahead, ct);
                }
            }
            await Watched(task, PieceLimit, ct);
            if (command.ExitStatus != 0) throw new ConnectorException(new Problem($"{Path.GetFileName(local)} could not be written on {node.Id}", command.Error.Trim(), "Is the disk full?"), lasting: false);
        }
        catch (Exception e) when (e is SshException or System.Net.Sockets.SocketException or IOException or ObjectDisposedException or InvalidOperationException or TimeoutException)
        {
            Drop(client);
            throw new ConnectorException(new Problem($"sending {Path.GetFileName(local)} to {node.Id} broke off", e.Message, "It goes on from where it broke off when it is staged again."), lasting: false, e);
        }
    }

    private const int PieceLength = 256 * 1024;
    private static readonly TimeSpan PieceLimit = TimeSpan.FromSeconds(30);

    private async Task<SshClient> ConnectAsync(CancellationToken ct)
    {
        if (_client is { IsConnected: true } connected && _prepared) return connected;
        await _connecting.WaitAsync(ct);
        try
        {
            if (_client is { IsConnected: true } known && _prepared) return known;
            if (_client is { } old) Drop(old);
            if (Gate is { } through) _gate = await through.OpenAsync(node.Reach["address"]!, int.TryParse(node.Reach["port"], out var port) ? port : 22, ct);
            var client = new SshClient(Connection(out var address));
            var changed = Pin(client);
            try
            {
                using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
                limit.CancelAfter(TimeSpan.FromSeconds(15));
                await client.ConnectAsync(limit.Token);
            }
            catch (Exception e) when (e is SshException or System.Net.Sockets.SocketException or IOException || (e is OperationCanceledException && !ct.IsCancellationRequested))
            {
                client.Dispose();
                throw Explain(e, changed(), address);
            }
            _client = client;
            await PrepareAsync(client, ct);
            return client;
        }
        finally { _connecting.Release(); }
    }

    private ConnectorException Explain(Exception e, string? key, string address) => key is not null
        ? new ConnectorException(new Problem($"the host key of {node.Id} is not the pinned one", $"it showed {key}", $"If the host was made anew, put its new key into {node.Reach["host-keys"]}; if not, somebody may stand between.", null), lasting: true, e)
        : e is SshAuthenticationException
            ? new ConnectorException(new Problem($"{node.Id} refuses the login of {node.Reach["account"]}", e.Message, "Check the account and that its public key is on the host."), lasting: true, e)
            : new ConnectorException(new Problem($"{node.Id} does not answer at {address}", e.Message, "Wait, or look at the host by another way."), lasting: false, e);

    private ConnectionInfo Connection(out string address)
    {
        var reach = node.Reach;
        var port = int.TryParse(reach["port"], out var given) ? given : 22;
        address = $"{reach["address"]}:{port}";
        var (host, at) = _gate is { } gate ? (gate.Address, gate.Port) : (reach["address"]!, port);
        PrivateKeyFile key;
        try
        {
            using var text = new MemoryStream(secrets.BytesOf(reach["key"]!));
            key = new PrivateKeyFile(text);
        }
        catch (Exception e) when (e is SshException or IOException) { throw new ConnectorException(new Problem($"the key for {node.Id} can't be read", e.Message, "Put a private key in OpenSSH format into the secret."), lasting: true, e); }
        return FastFirst(new ConnectionInfo(host, at, reach["account"]!, new PrivateKeyAuthenticationMethod(reach["account"]!, key)) { Timeout = TimeSpan.FromSeconds(15) });
    }

    // What processors have instructions of their own for comes first: large files go several times as fast. The others stay for hosts without it.
    private static ConnectionInfo FastFirst(ConnectionInfo connection)
    {
        var all = connection.Encryptions.ToList();
        connection.Encryptions.Clear();
        foreach (var (name, cipher) in all.OrderByDescending(e => e.Key.Contains("-gcm@", StringComparison.Ordinal))) connection.Encryptions.Add(name, cipher);
        return connection;
    }

    // Trusts exactly the keys of the pinned file (known_hosts format); gives a way to ask for a fingerprint that was refused.
    private Func<string?> Pin(BaseClient client)
    {
        string? refused = null;
        client.HostKeyReceived += (_, e) =>
        {
            e.CanTrust = KnownHosts.Holds(Path.Combine(installationFolder, node.Reach["host-keys"]!), node.Reach["address"]!, e.HostKey);
            if (!e.CanTrust) refused = "SHA256:" + Convert.ToBase64String(SHA256.HashData(e.HostKey)).TrimEnd('=');
        };
        return () => refused;
    }

    private static readonly Lazy<(string Name, string Sum, string Body)[]> Scripts = new(() => [.. new[] { "attempt.sh", "read.sh" }.Select(name =>
    {
        using var reader = new StreamReader(typeof(SshHost).Assembly.GetManifestResourceStream($"TideStep.Connectors.Ssh.{name}")!);
        var text = Encoding.UTF8.GetBytes(reader.ReadToEnd());
        return (name, Convert.ToHexStringLower(SHA256.HashData(text)), Convert.ToBase64String(text));
    })]);

    // Our scripts are laid on the host once per connection where they are missing or differ, and its time since boot is read.
    private async Task PrepareAsync(SshClient client, CancellationToken ct)
    {
        var place = SshConnector.StateFolder(node);
        var lay = $"mkdir -p {place}; {string.Concat(Scripts.Value.Select(s => $"[ \"$(sha256sum {place}/{s.Name} 2>/dev/null | cut -d' ' -f1)\" = {s.Sum} ] || {{ printf %s {s.Body} | base64 -d >{place}/{s.Name}.new && mv -f {place}/{s.Name}.new {place}/{s.Name}; }}; "))}{Shell.Join(["/bin/sh", place + "/attempt.sh", "clock"])}";
        var result = await RunOnAsync(client, $"sudo -n /bin/sh -c {Shell.Quote(lay)}", TimeSpan.FromSeconds(30), ct);
        if (result.Code != 0 || !long.TryParse(result.Output.Trim(), out var clock))
            throw new ConnectorException(new Problem($"{node.Id} can't be prepared: {result.Error.Trim()}", $"exit status {result.Code}", $"The account {node.Reach["account"]} needs sudo without a password, and /var/lib needs room."), lasting: result.Error.Contains("sudo", StringComparison.Ordinal));
        _uptime = (clock, Stopwatch.GetTimestamp());
        _prepared = true;
    }

    private void Drop(SshClient client)
    {
        if (_client == client) (_client, _prepared) = (null, false);
        _ = Task.Run(client.Dispose);
    }

    public void Dispose()
    {
        if (_client is { } client) Drop(client);
        _connecting.Dispose();
    }
}
