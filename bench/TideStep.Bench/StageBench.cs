using System.Collections.Immutable;
using System.Diagnostics;
using System.Security.Cryptography;
using TideStep.Connectors;
using TideStep.Connectors.Ssh;
using TideStep.Core.Estates;

namespace TideStep.Bench;

/// <summary>One artefact of 1 GiB staged onto three lab hosts side by side, checksums reckoned there, against
/// <c>rsync</c> over OpenSSH to the same hosts side by side.
/// The hosts' disks are made larger for it, and <c>rsync</c> is put onto them, by <c>scripts/bench.sh</c>.</summary>
internal static class StageBench
{
    private const long Bytes = 1L << 30;
    private static readonly string[] Hosts = ["10.77.0.11", "10.77.0.12", "10.77.0.13"];

    public static async Task<IEnumerable<Figure>> RunAsync(string folder, string keys)
    {
        var secrets = Directory.CreateDirectory(Path.Combine(folder, "stage", "secrets")).FullName;
        File.Copy(Path.Combine(keys, "keeper"), Path.Combine(secrets, "keeper"), true);
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(Path.Combine(secrets, "keeper"), UnixFileMode.UserRead | UnixFileMode.UserWrite);
        File.Copy(Path.Combine(keys, "known_hosts"), Path.Combine(folder, "stage", "known_hosts"), true);
        var file = Path.Combine(folder, "stage", "large.img");
        // Nothing in it can be made smaller on the way.
        await using (var made = File.Create(file))
        {
            var piece = new byte[1 << 20];
            for (var i = 0; i < Bytes >> 20; i++)
            {
                RandomNumberGenerator.Fill(piece);
                await made.WriteAsync(piece);
            }
        }
        var sum = Convert.ToHexStringLower(await SHA256.HashDataAsync(File.OpenRead(file)));
        using var connector = new SshConnector(
            new Secrets(secrets),
            Path.Combine(folder, "stage"),
            new HttpReader(new HttpClient()),
            new SqlConnector(new Secrets(folder)),
            TimeProvider.System
        );
        EstateNode NodeAt(string address, int number) =>
            new(
                $"relay-{number}",
                "s",
                null,
                new Reach(
                    "ssh",
                    new Dictionary<string, string>
                    {
                        ["address"] = address,
                        ["account"] = "keeper",
                        ["key"] = "secret:keeper",
                        ["host-keys"] = "known_hosts",
                    }.ToImmutableDictionary()
                )
            );
        string Ssh() => $"ssh -q -o UserKnownHostsFile={folder}/stage/known_hosts -i {secrets}/keeper";
        async Task Run(string program, params string[] arguments)
        {
            using var process = Process.Start(program, arguments);
            await process.WaitForExitAsync();
            if (process.ExitCode != 0)
                throw new InvalidOperationException(
                    $"{program} {string.Join(' ', arguments)} ended with {process.ExitCode}"
                );
        }
        Task Clear() =>
            Task.WhenAll(
                Hosts.Select(h =>
                    Run("sh", "-c", $"{Ssh()} keeper@{h} 'sudo rm -rf /var/cache/tidestep /var/tmp/large.img'")
                )
            );
        async Task Ours() =>
            await Task.WhenAll(
                Hosts.Select(
                    (h, i) =>
                        connector.StageAsync(
                            NodeAt(h, i + 1),
                            new StagedFile("large.img", file, Bytes, sum),
                            0,
                            _ => { },
                            default
                        )
                )
            );
        Task Summed() =>
            Task.WhenAll(
                Hosts.Select(h => Run("sh", "-c", $"{Ssh()} keeper@{h} sha256sum /var/tmp/large.img >/dev/null"))
            );
        async Task Plain() =>
            await Task.WhenAll(
                Hosts.Select(h => Run("rsync", "--partial", "-e", Ssh(), file, $"keeper@{h}:/var/tmp/large.img"))
            );
        var (ours, plain, summed) = (new List<double>(), new List<double>(), new List<double>());
        for (var i = 0; i < 3; i++)
        {
            await Clear();
            ours.Add(await Seconds(Ours));
            await Clear();
            plain.Add(await Seconds(Plain));
            summed.Add(plain[^1] + await Seconds(Summed));
        }
        await Clear();
        return
        [
            new Figure(
                "1 GiB staged onto three lab hosts, checksums reckoned there",
                Measure.Write(Measure.Median(ours), "s"),
                Measure.Write(Measure.Median(summed), "s for rsync to the three side by side and the checksums there"),
                Measure.Median(ours) / Measure.Median(summed),
                "at most 1.2"
            ),
            new Figure(
                "the same, against rsync without the checksums",
                Measure.Write(Measure.Median(ours), "s"),
                Measure.Write(Measure.Median(plain), "s"),
                Measure.Median(ours) / Measure.Median(plain),
                "none"
            ),
        ];
    }

    private static async Task<double> Seconds(Func<Task> work)
    {
        var began = Stopwatch.GetTimestamp();
        await work();
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }
}
