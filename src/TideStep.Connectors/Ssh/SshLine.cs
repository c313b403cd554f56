using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using Renci.SshNet;
using Renci.SshNet.Common;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Connectors.Ssh;

/// <summary>One kept connection to an address. Calls are watched by a clock of our own: the library's keep-alive does
/// not notice a dead link,
/// and a stuck call may not return when disposed, so it is abandoned, not awaited. Nodes that are reached in the very
/// same way share one.</summary>
internal sealed class SshLine(EstateNode node, Secrets secrets, string installationFolder) : IDisposable
{
    private readonly SemaphoreSlim _connecting = new(1, 1);
    private SshClient? _client;
    private Conversation? _talk;
    private bool _prepared;
    private volatile bool _narrow;
    private readonly SemaphoreSlim _one = new(1, 1);
    private (long Seconds, long At) _uptime;

    /// <summary>The line through the host that stands between, where this one can't be reached by itself.</summary>
    public SshLine? Gate { get; init; }

    private (string Address, int Port)? _gate;
    private readonly Dictionary<(string, int), (SshClient Through, ForwardedPortLocal Port)> _openings = [];

    // A port of our own loopback that leads through this host to another.
    private async Task<(string Address, int Port)> OpenAsync(string address, int port, CancellationToken ct)
    {
        var (client, _) = await ConnectAsync(node.Id, ct);
        lock (_openings)
        {
            if (
                _openings.TryGetValue((address, port), out var known)
                && known.Through == client
                && known.Port.IsStarted
            )
                return (known.Port.BoundHost, (int)known.Port.BoundPort);
            var opening = new ForwardedPortLocal("127.0.0.1", 0, address, (uint)port);
            client.AddForwardedPort(opening);
            opening.Start();
            _openings[(address, port)] = (client, opening);
            return (opening.BoundHost, (int)opening.BoundPort);
        }
    }

    /// <summary>Seconds since the host's boot, by what it said at the connection and our monotonic clock
    /// since.</summary>
    public async Task<long> UptimeAsync(string name, CancellationToken ct)
    {
        await ConnectAsync(name, ct);
        return _uptime.Seconds + (long)Stopwatch.GetElapsedTime(_uptime.At).TotalSeconds;
    }

    /// <summary>What a call came to: its exit status, output and errors.</summary>
    public sealed record Result(int Code, string Output, string Error)
    {
        /// <summary>Whether the output is all there; a conversation does not carry long ones.</summary>
        public bool Whole { get; init; } = true;

        /// <summary>Whether the answer is only that there is none yet.</summary>
        public bool Later { get; init; }
    }

    /// <summary>Runs a command in a session of its own and gives its output; a link that is silent for longer than
    /// <paramref name="limit"/> is given up.</summary>
    /// <param name="name">The node that is asked, for what is said when it can't be.</param>
    /// <exception cref="ConnectorException">The host can't be reached, or the link broke or is silent.</exception>
    public async Task<Result> RunAsync(string name, string command, TimeSpan limit, CancellationToken ct)
    {
        var (client, _) = await ConnectAsync(name, ct);
        if (!_narrow)
        {
            try
            {
                return await RunOnAsync(name, client, command, limit, ct);
            }
            catch (ConnectorException e) when (HasNoRoom(e.InnerException))
            {
                (client, _) = await ConnectAsync(name, ct);
            }
        }
        // One at a time, then: nothing was begun by the call that found no room.
        await _one.WaitAsync(ct);
        try
        {
            return await RunOnAsync(name, client, command, limit, ct);
        }
        finally
        {
            _one.Release();
        }
    }

    /// <summary>Whether a call broke because its host lets no further session be open beside the others; then there is
    /// no conversation with it any more, and sessions come one after another.</summary>
    public bool HasNoRoom(Exception? e)
    {
        // The library has no kind of its own for it.
        if (e is not SshException || !e.Message.Contains("open a channel", StringComparison.Ordinal))
            return false;
        return _narrow = true;
    }

    /// <summary>Puts a request to the wrapper over the conversation that is kept with it; where the host has none, or
    /// the answer is too long for it, null.</summary>
    /// <inheritdoc cref="RunAsync"/>
    public async Task<Result?> RequestAsync(
        string name,
        IReadOnlyList<string> request,
        TimeSpan limit,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        var (client, talk) = await ConnectAsync(name, ct);
        return talk is null ? null : await BreakingAsync(name, client, () => talk.AskAsync(request, limit, wait, ct));
    }

    private Task<Result> RunOnAsync(
        string name,
        SshClient client,
        string command,
        TimeSpan limit,
        CancellationToken ct
    ) => BreakingAsync(name, client, async () =>
        {
            var running = client.CreateCommand(command);
            running.CommandTimeout = Timeout.InfiniteTimeSpan;
            try
            {
                await Watched(running.ExecuteAsync(ct), limit, ct);
                return new Result(running.ExitStatus ?? -1, running.Result, running.Error);
            }
            finally
            {
                _ = Task.Run(running.Dispose, CancellationToken.None);
            }
        });

    private async Task<T> BreakingAsync<T>(string name, SshClient client, Func<Task<T>> call)
    {
        try
        {
            return await call();
        }
        catch (Exception e) when (Breaks(e))
        {
            Drop(client);
            throw new ConnectorException(
                new Problem(
                    $"the connection to {name} broke",
                    e.Message,
                    "It is tried again; look at the host's network if it goes on."
                ),
                lasting: false,
                e
            );
        }
    }

    /// <summary>What a broken or silent link shows as.</summary>
    public static bool Breaks(Exception e) =>
        e
            is SshException
                or System.Net.Sockets.SocketException
                or IOException
                or ObjectDisposedException
                or InvalidOperationException
                or TimeoutException;

    /// <summary>Awaits a call of the library for so long at most; after that it is abandoned.</summary>
    /// <exception cref="TimeoutException">It took longer.</exception>
    public static async Task Watched(Task task, TimeSpan limit, CancellationToken ct)
    {
        var first = await Task.WhenAny(task, Task.Delay(limit, ct));
        if (first != task)
        {
            ct.ThrowIfCancellationRequested();
            _ = task.ContinueWith(
                t => t.Exception,
                CancellationToken.None,
                TaskContinuationOptions.OnlyOnFaulted,
                TaskScheduler.Default
            );
            throw new TimeoutException($"no answer within {limit.TotalSeconds:0} s");
        }
        await task;
    }

    /// <summary>The kept connection, made anew where it is gone, and the conversation on it, where the host has
    /// one.</summary>
    public async Task<(SshClient Client, Conversation? Talk)> ConnectAsync(string name, CancellationToken ct)
    {
        if (_client is { IsConnected: true } connected && _prepared)
            return (connected, _talk);
        await _connecting.WaitAsync(ct);
        try
        {
            if (_client is { IsConnected: true } known && _prepared)
                return (known, _talk);
            if (_client is { } old)
                Drop(old);
            if (Gate is { } through)
                _gate = await through.OpenAsync(
                    node.Reach["address"]!,
                    int.TryParse(node.Reach["port"], out var port) ? port : 22,
                    ct
                );
            var client = new SshClient(Connection(out var address));
            var changed = Pin(client);
            try
            {
                using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
                limit.CancelAfter(TimeSpan.FromSeconds(15));
                await client.ConnectAsync(limit.Token);
            }
            catch (Exception e)
                when (e is SshException or System.Net.Sockets.SocketException or IOException
                    || (e is OperationCanceledException && !ct.IsCancellationRequested)
                )
            {
                client.Dispose();
                throw Explain(name, e, changed(), address);
            }
            _client = client;
            await PrepareAsync(name, client, ct);
            return (client, _talk);
        }
        finally
        {
            _connecting.Release();
        }
    }

    private ConnectorException Explain(string name, Exception e, string? key, string address) =>
        key is not null
            ? new ConnectorException(
                new Problem(
                    $"the host key of {name} is not the pinned one",
                    $"it showed {key}",
                    $"If the host was made anew, put its new key into {node.Reach["host-keys"]}; if not, "
                        + $"somebody may stand between.",
                    null
                ),
                lasting: true,
                e
            )
        : e is SshAuthenticationException
            ? new ConnectorException(
                new Problem(
                    $"{name} refuses the login of {node.Reach["account"]}",
                    e.Message,
                    "Check the account and that its public key is on the host."
                ),
                lasting: true,
                e
            )
        : new ConnectorException(
            new Problem($"{name} does not answer at {address}", e.Message, "Wait, or look at the host by another way."),
            lasting: false,
            e
        );

    /// <summary>How the host is reached, for a connection of its own kind.</summary>
    public ConnectionInfo Connection(out string address)
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
        catch (Exception e) when (e is SshException or IOException)
        {
            throw new ConnectorException(
                new Problem(
                    $"the key {reach["key"]} can't be read",
                    e.Message,
                    "Put a private key in OpenSSH format into the secret."
                ),
                lasting: true,
                e
            );
        }
        return FastFirst(
            new ConnectionInfo(host, at, reach["account"]!, new PrivateKeyAuthenticationMethod(reach["account"]!, key))
            {
                Timeout = TimeSpan.FromSeconds(15),
            }
        );
    }

    // What processors have instructions of their own for comes first: large files go several times as fast. The others
    // stay for hosts without it.
    private static ConnectionInfo FastFirst(ConnectionInfo connection)
    {
        var all = connection.Encryptions.ToList();
        connection.Encryptions.Clear();
        foreach (var (name, cipher) in all.OrderByDescending(e => e.Key.Contains("-gcm@", StringComparison.Ordinal)))
            connection.Encryptions.Add(name, cipher);
        return connection;
    }

    /// <summary>Trusts exactly the keys of the pinned file (known_hosts format); gives a way to ask for a fingerprint
    /// that was refused.</summary>
    public Func<string?> Pin(BaseClient client)
    {
        string? refused = null;
        client.HostKeyReceived += (_, e) =>
        {
            e.CanTrust = KnownHosts.Holds(
                Path.Combine(installationFolder, node.Reach["host-keys"]!),
                node.Reach["address"]!,
                e.HostKey
            );
            if (!e.CanTrust)
                refused = "SHA256:" + Convert.ToBase64String(SHA256.HashData(e.HostKey)).TrimEnd('=');
        };
        return () => refused;
    }

    private static readonly Lazy<(string Name, string Sum, string Body)[]> Scripts = new(() =>
        [
            .. new[] { "attempt.sh", "read.sh" }.Select(name =>
            {
                using var reader = new StreamReader(
                    typeof(SshHost).Assembly.GetManifestResourceStream($"TideStep.Connectors.Ssh.{name}")!
                );
                var text = Encoding.UTF8.GetBytes(reader.ReadToEnd());
                return (name, Convert.ToHexStringLower(SHA256.HashData(text)), Convert.ToBase64String(text));
            }),
        ]
    );

    // Our scripts are laid on the host once per connection where they are missing or differ, and its time since boot is
    // read.
    private async Task PrepareAsync(string name, SshClient client, CancellationToken ct)
    {
        var place = SshConnector.StateFolder(node);
        var lay =
            $"mkdir -p -- {Shell.Quote(place)}; cd -- {Shell.Quote(place)} || exit 1; "
            + (
                string.Concat(
                    Scripts.Value.Select(s =>
                        $"[ \"$(sha256sum {s.Name} 2>/dev/null | cut -d' ' -f1)\" = {s.Sum} ] || {{ "
                        + $"printf %s {s.Body} | base64 -d >{s.Name}.new && mv -f {s.Name}.new {s.Name}; }}; "
                    )
                )
            )
            + $"{Shell.Join(["/bin/sh", place + "/attempt.sh", "clock"])}";
        var result = await RunOnAsync(
            name,
            client,
            $"sudo -n /bin/sh -c {Shell.Quote(lay)}",
            TimeSpan.FromSeconds(30),
            ct
        );
        if (result.Code != 0 || !long.TryParse(result.Output.Trim(), out var clock))
            throw new ConnectorException(
                new Problem(
                    $"{name} can't be prepared: {result.Error.Trim()}",
                    $"exit status {result.Code}",
                    $"The account {node.Reach["account"]} needs sudo without a password, and /var/lib needs room."
                ),
                lasting: result.Error.Contains("sudo", StringComparison.Ordinal)
            );
        _uptime = (clock, Stopwatch.GetTimestamp());
        _talk = _narrow
            ? null
            : await Conversation.OpenAsync(
                client,
                $"exec sudo -n /bin/sh {Shell.Quote(place + "/attempt.sh")} serve",
                ct
            );
        _prepared = true;
    }

    /// <summary>Gives a connection up; the next call makes a new one.</summary>
    public void Drop(SshClient client)
    {
        if (_client == client)
        {
            _talk?.Dispose();
            (_client, _talk, _prepared) = (null, null, false);
        }
        _ = Task.Run(client.Dispose);
    }

    public void Dispose()
    {
        if (_client is { } client)
            Drop(client);
        _connecting.Dispose();
        _one.Dispose();
    }
}
