using System.Diagnostics;

namespace TideStep.Tests;

/// <summary>Two machines besides this one, as network namespaces on one line; for root.</summary>
public sealed class Machines : IDisposable
{
    private readonly string _tag = $"{Environment.ProcessId % 10_000}{Random.Shared.Next(100)}";
    private readonly string _net = $"10.{Random.Shared.Next(100, 200)}.{Random.Shared.Next(1, 250)}";

    public Machines()
    {
        Ip("link", "add", Bridge, "type", "bridge");
        Ip("addr", "add", $"{Here}/24", "dev", Bridge);
        Ip("link", "set", Bridge, "up");
        foreach (var (one, address) in new[] { (One, $"{_net}.2"), (Other, $"{_net}.3") })
        {
            var (near, far) = ($"v{one[2..]}", $"w{one[2..]}");
            Ip("netns", "add", one);
            Ip("link", "add", near, "type", "veth", "peer", "name", far, "netns", one);
            Ip("link", "set", near, "master", Bridge, "up");
            Ip("-n", one, "addr", "add", $"{address}/24", "dev", far);
            Ip("-n", one, "link", "set", far, "up");
            Ip("-n", one, "link", "set", "lo", "up");
        }
    }

    /// <summary>The address of this machine on that line.</summary>
    public string Here => $"{_net}.1";
    public string One => $"ts{_tag}a";
    public string Other => $"ts{_tag}b";

    private string Bridge => $"tb{_tag}";

    private static void Ip(params string[] arguments)
    {
        using var process = Process.Start("ip", arguments);
        process.WaitForExit();
        if (process.ExitCode != 0)
            throw new InvalidOperationException($"ip {string.Join(' ', arguments)} ended with {process.ExitCode}");
    }

    public void Dispose()
    {
        Ip("netns", "del", One);
        Ip("netns", "del", Other);
        Ip("link", "del", Bridge);
    }
}
