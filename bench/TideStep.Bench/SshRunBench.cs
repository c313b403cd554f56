using System.Diagnostics;
using TideStep.Connectors;
using TideStep.Connectors.Ssh;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Bench;

/// <summary>A run over 300 members on the lab's three hosts, each with a detached command and a look at its version,
/// all of them in two waves, against the same two plain commands for each by <c>xargs -P10</c> over OpenSSH's
/// multiplexed connections.</summary>
internal static class SshRunBench
{
    private const int Members = 300;
    private const int Side = 10;
    private static readonly string[] Hosts = ["10.77.0.11", "10.77.0.12", "10.77.0.13"];

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
        // A hundred members stand on each host, each a node of its own; they share the host's connection, as the
        // yardstick's commands do.
        var nodes = string.Concat(
            Enumerable
                .Range(0, Members)
                .Select(i =>
                    $"  n{i}: {{site: s, reach: {{by: ssh, address: {Hosts[i % Hosts.Length]}, account: "
                    + $"keeper, key: \"secret:keeper\", host-keys: known_hosts}}}}\n"
                )
        );
        var (estate, catalogue, plan) = OneJump.Of(
            $"tidestep: estate/1\nestate: bench\nsites: {{s: {{}}}}\n"
                + $"nodes:\n{nodes}components: {{app: {{product: p, members: "
                + $"[{string.Join(", ", Enumerable.Range(0, Members).Select(i => $"n{i}"))}], domains: ignored, "
                + $"guard: {{keep: 0, at-once: {Members}}}}}}}\n",
            "tidestep: product/1\nproduct: p\nreleases: {\"1\": {}, \"2\": {}}\n"
                + "readings: {running: {by: command, command: [echo, \"2\"], unit: version}}\n"
                + "jumps: {to-2: {from: \"1\", to: \"2\", methods: {rolling: {member: 1 min}}, change: [put]}}\n"
                + "steps: {put: {do: {command: [\"true\"]}}}\n"
        );
        await using var store = new SqliteStore(Path.Combine(folder, "ssh-run.db"));
        var settings = new EngineSettings(1, TimeSpan.FromMilliseconds(20), 64, folder);
        var secrets = new Secrets(Path.Combine(folder, "secrets"));
        using var connector = new SshConnector(
            secrets,
            folder,
            new HttpReader(new HttpClient()),
            new SqlConnector(secrets),
            TimeProvider.System
        );
        // Records of an earlier measurement on the same hosts are another installation's.
        var installation = "b" + Guid.NewGuid().ToString("N")[..8];
        async Task Ours()
        {
            var run = "r" + Guid.NewGuid().ToString("N")[..10];
            var now = DateTimeOffset.UtcNow;
            await store.CreateRunAsync(
                new StoredRun(run, plan.Digest, null, now, 0, null, null),
                new Opened(plan.Digest, "", "bench", null),
                now,
                default
            );
            var state = RunState.Fold(plan, await store.ReadAsync(run, 0, default));
            var context = new RunContext(
                estate,
                catalogue,
                store,
                new RunFeed(),
                new MemberReader([connector], settings, TimeProvider.System),
                settings,
                TimeProvider.System,
                installation,
                () => "a" + Guid.NewGuid().ToString("N")
            );
            var executor = new RunExecutor(
                context,
                run,
                await store.TakeOwnershipAsync(run, "bench", default),
                state,
                (_, _) => Task.CompletedTask
            );
            await executor.Log.AppendAsync(new Started("bench"));
            var halted = new TaskCompletionSource<string>();
            executor.Log.Grew += () =>
            {
                if (executor.Log.Look(s => s.Halt?.Why) is { } why)
                    halted.TrySetResult(why);
            };
            if (await Task.WhenAny(executor.ExecuteAsync(default), halted.Task) == halted.Task)
                throw new InvalidOperationException(await halted.Task);
        }
        string[] Common(string host) =>
            [
                "-o",
                $"UserKnownHostsFile={folder}/known_hosts",
                "-i",
                $"{folder}/secrets/keeper",
                "-o",
                $"ControlPath={folder}/many-%h",
                $"keeper@{host}",
            ];
        foreach (var host in Hosts)
        {
            using var master = Process.Start("ssh", ["-M", "-N", "-f", .. Common(host)]);
            await master.WaitForExitAsync();
        }
        var list = Path.Combine(folder, "members");
        await File.WriteAllLinesAsync(list, Enumerable.Range(0, Members).Select(i => Hosts[i % Hosts.Length]));
        async Task Plain()
        {
            var each = $"ssh {string.Join(' ', Common("{}").Select(a => a.Contains(' ') ? $"'{a}'" : a))}";
            using var xargs = Process.Start(
                "sh",
                ["-c", $"xargs -P{Side} -I{{}} sh -c '{each} sudo true && {each} sudo echo 2 >/dev/null' < {list}"]
            );
            await xargs.WaitForExitAsync();
            if (xargs.ExitCode != 0)
                throw new InvalidOperationException($"xargs ended with {xargs.ExitCode}");
        }
        var (ours, plain) = await Measure.InTurn(4, Ours, Plain);
        foreach (var host in Hosts)
        {
            using var end = Process.Start("ssh", ["-q", "-O", "exit", .. Common(host)]);
            await end.WaitForExitAsync();
        }
        return
        [
            new Figure(
                $"a run over {Members} members on 3 hosts, all at once: a detached command and a look at the version",
                Measure.Write(ours, "s"),
                Measure.Write(
                    plain,
                    $"s for the same two plain commands each by xargs -P{Side} over multiplexed connections"
                ),
                ours / plain,
                "at most 1"
            ),
        ];
    }
}
