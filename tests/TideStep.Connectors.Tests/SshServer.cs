using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using TideStep.Tests;

namespace TideStep.Connectors.Tests;

/// <summary>A real OpenSSH server on loopback, with a key of its own and one account: ours.</summary>
public sealed class SshServer : IDisposable
{
    private readonly Process _server;

    public SshServer()
        : this("") { }

    /// <param name="more">Further lines of its configuration; they come first, and so count before the others.</param>
    internal SshServer(string more)
    {
        Folder = Directory.CreateTempSubdirectory("tidestep-sshd").FullName;
        Port = FreePort();
        Keygen("host");
        Keygen("login");
        var secrets = Directory.CreateDirectory(Path.Combine(Folder, "secrets")).FullName;
        File.Move(Path.Combine(Folder, "login"), Path.Combine(secrets, "login"));
        File.Move(Path.Combine(Folder, "login.pub"), Path.Combine(Folder, "authorized"));
        File.WriteAllText(
            Path.Combine(Folder, "known_hosts"),
            $"127.0.0.1 {string.Join(' ', File.ReadAllText(Path.Combine(Folder, "host.pub")).Split(' ')[..2])}\n"
        );
        File.WriteAllText(
            Path.Combine(Folder, "config"),
            $"""
            {more}
            Port {Port}
            ListenAddress 127.0.0.1
            HostKey {Folder}/host
            AuthorizedKeysFile {Folder}/authorized
            PidFile none
            StrictModes no
            UsePAM no
            PasswordAuthentication no
            PermitRootLogin prohibit-password
            MaxSessions 100
            Subsystem sftp internal-sftp
            """
        );
        Directory.CreateDirectory("/run/sshd");
        _server = Process.Start(
            new ProcessStartInfo("/usr/sbin/sshd", ["-D", "-e", "-f", Path.Combine(Folder, "config")])
            {
                RedirectStandardError = true,
            }
        )!;
        _server.BeginErrorReadLine();
        for (var tries = 0; ; tries++)
        {
            try
            {
                using var probe = new TcpClient("127.0.0.1", Port);
                break;
            }
            catch (SocketException) when (tries < 200)
            {
                Thread.Sleep(20);
            }
        }
    }

    public string Folder { get; }
    public int Port { get; }

    /// <summary>Our own account, which the server's process has.</summary>
    public static string Account => Environment.UserName;

    private void Keygen(string name)
    {
        using var keygen = Process.Start(
            "ssh-keygen",
            ["-q", "-t", "ed25519", "-N", "", "-f", Path.Combine(Folder, name)]
        );
        keygen.WaitForExit();
    }

    public static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    public void Dispose()
    {
        _server.Kill(entireProcessTree: true);
        _server.Dispose();
        Folders.Remove(Folder);
    }
}

/// <summary>Carries bytes between two ports, and can stop carrying them without closing anything: what a link does that
/// drops packets.</summary>
public sealed class Link : IDisposable
{
    private readonly TcpListener _listener = new(IPAddress.Loopback, 0);
    private readonly int _to;
    private volatile bool _dead;

    public Link(int to)
    {
        _to = to;
        _listener.Start();
        _ = AcceptAsync();
    }

    public int Port => ((IPEndPoint)_listener.LocalEndpoint).Port;

    public void Die() => _dead = true;

    public void Revive() => _dead = false;

    private async Task AcceptAsync()
    {
        try
        {
            while (true)
            {
                var near = await _listener.AcceptTcpClientAsync();
                var far = new TcpClient();
                await far.ConnectAsync(IPAddress.Loopback, _to);
                _ = CarryAsync(near.GetStream(), far.GetStream());
                _ = CarryAsync(far.GetStream(), near.GetStream());
            }
        }
        catch (Exception e) when (e is SocketException or ObjectDisposedException)
        { /* closed */
        }
    }

    private async Task CarryAsync(NetworkStream from, NetworkStream to)
    {
        var piece = new byte[1 << 16];
        try
        {
            while (await from.ReadAsync(piece) is > 0 and var read)
                if (!_dead)
                    await to.WriteAsync(piece.AsMemory(0, read));
            to.Close();
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException)
        { /* one end is gone */
        }
    }

    public void Dispose() => _listener.Dispose();
}
