using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using Renci.SshNet;
using Renci.SshNet.Common;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Connectors.Ssh;

/// <summary>One kept connection to a host. Calls are watched by a clock of our own: the library's keep-alive does not notice a dead link,
/// and a stuck call may not return when disposed, so it is abandoned, not awaited.</summary>
internal sealed class SshHost(EstateNode node, Secrets secrets, string installationFolder) : IDisposable
{
    private readonly SemaphoreSlim _connecting = new(1, 1);
    private SshClient? _client;
    private bool _prepared;

    public EstateNode Node => node;

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

    private async Task<SshClient> ConnectAsync(CancellationToken ct)
    {
        if (_client is { IsConnected: true } connected && _prepared) return connected;
        await _connecting.WaitAsync(ct);
        try
        {
            if (_client is { IsConnected: true } known && _prepared) return known;
            if (_client is { } old) Drop(old);
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
        PrivateKeyFile key;
        try { key = new PrivateKeyFile(secrets.FileOf(reach["key"]!)); }
        catch (Exception e) when (e is SshException or IOException) { throw new ConnectorException(new Problem($"the key for {node.Id} can't be read", e.Message, "Put a private key in OpenSSH format into the secret."), lasting: true, e); }
        return new ConnectionInfo(reach["address"]!, port, reach["account"]!, new PrivateKeyAuthenticationMethod(reach["account"]!, key)) { Timeout = TimeSpan.FromSeconds(15) };
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

    private static readonly Lazy<string> Script = new(() =>
    {
        using var reader = new StreamReader(typeof(SshHost).Assembly.GetManifestResourceStream("TideStep.Connectors.Ssh.attempt.sh")!);
        return reader.ReadToEnd();
    });

    // The wrapper is laid on the host once per connection where it is missing or differs, and its time since boot is read.
    private async Task PrepareAsync(SshClient client, CancellationToken ct)
    {
        var sum = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(Script.Value)));
        var body = Convert.ToBase64String(Encoding.UTF8.GetBytes(Script.Value));
        var place = SshConnector.StateFolder(node);
        var lay = $"mkdir -p {place} && [ \"$(sha256sum {place}/attempt.sh 2>/dev/null | cut -d' ' -f1)\" = {sum} ] || {{ printf %s {body} | base64 -d >{place}/attempt.sh.new && mv -f {place}/attempt.sh.new {place}/attempt.sh; }}; {Shell.Join(["/bin/sh", place + "/attempt.sh", "clock"])}";
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
