using System.Collections.Immutable;
using System.Diagnostics;
using TideStep.Connectors;
using TideStep.Connectors.Ssh;
using TideStep.Core.Estates;

namespace TideStep.Bench;

/// <summary>A detached step with its status read, on a kept connection, against a plain command over OpenSSH's
/// multiplexed connection; on a lab host.</summary>
internal static class SshBench
{
    private const int Steps = 40;

    public static async Task<IEnumerable<Figure>> RunAsync(string folder, string keys)
    {
        Directory.CreateDirectory(Path.Combine(folder, "secrets"));
        File.Copy(Path.Combine(keys, "keeper"), Path.Combine(folder, "secrets", "keeper"), true);
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(
                Path.Combine(folder, "secrets", "keeper"),
                UnixFileMode.UserRead | UnixFileMode.UserWrite
            );
        File.Copy(Path.Combine(keys, "known_hosts"), Path.Combine(folder, "known_hosts"), true);
        var settings = new Dictionary<string, string>
        {
            ["address"] = "10.77.0.11",
            ["account"] = "keeper",
            ["key"] = "secret:keeper",
            ["host-keys"] = "known_hosts",
        };
        var node = new EstateNode("relay-1", "s", null, new Reach("ssh", settings.ToImmutableDictionary()));
        using var connector = new SshConnector(
            new Secrets(Path.Combine(folder, "secrets")),
            folder,
            new HttpReader(new HttpClient()),
            new SqlConnector(new Secrets(folder)),
            TimeProvider.System
        );
        await connector.RaiseAsync(node, "bench", 1, 1, default);
        var number = 0;
        async Task Ours()
        {
            for (var i = 0; i < Steps; i++)
            {
                var id = $"a{Environment.ProcessId}x{number++}";
                var begun = await connector.BeginAsync(
                    node,
                    new FencedAttempt(
                        "bench",
                        id,
                        1,
                        1,
                        TimeSpan.FromMinutes(1),
                        "relay",
                        new FarAction("command", ["true"])
                    ),
                    TimeSpan.FromSeconds(1),
                    default
                );
                var status = begun.Reading is { Phase: AttemptPhase.Ended } told
                    ? told
                    : await connector.StatusAsync(node, "bench", id, TimeSpan.FromSeconds(5), default);
                if (status.ExitCode != 0)
                    throw new InvalidOperationException($"{id}: {status}");
            }
        }
        var control = Path.Combine(folder, "mux");
        string[] common =
        [
            "-o",
            $"UserKnownHostsFile={folder}/known_hosts",
            "-i",
            $"{folder}/secrets/keeper",
            "-o",
            $"ControlPath={control}",
            "keeper@10.77.0.11",
        ];
        using var master = Process.Start("ssh", ["-M", "-N", "-f", .. common]);
        await master.WaitForExitAsync();
        async Task Plain()
        {
            for (var i = 0; i < Steps; i++)
            {
                using var ssh = Process.Start("ssh", [.. common, "sudo", "true"]);
                await ssh.WaitForExitAsync();
            }
        }
        var (ours, plain) = await Measure.InTurn(5, Ours, Plain);
        using var end = Process.Start("ssh", ["-q", "-O", "exit", .. common]);
        await end.WaitForExitAsync();
        return
        [
            new Figure(
                "a detached step over SSH, its status read",
                Measure.Write(ours / Steps * 1000, "ms"),
                Measure.Write(plain / Steps * 1000, "ms for a plain command over OpenSSH's multiplexed connection"),
                ours / plain,
                "at most 1"
            ),
        ];
    }
}
