using System.Security.Cryptography;
using TideStep.Connectors.Ssh;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors.Tests;

/// <summary>The SSH connector on a real OpenSSH server.</summary>
public sealed class SshTests(SshServer server) : ReadingContract, IClassFixture<SshServer>, IDisposable
{
    private readonly SshConnector _connector = new(
        new Secrets(Path.Combine(server.Folder, "secrets")),
        server.Folder,
        new HttpReader(new HttpClient()),
        new SqlConnector(new Secrets(server.Folder)),
        TimeProvider.System
    );

    protected override string Readings =>
        """
              good: {by: command, command: [echo, 42], unit: count}
              wrong: {by: command, command: [echo, many], unit: count}
              failing: {by: command, command: [cat, /there/is/none], unit: count}
            """;

    private EstateNode At(int port, params (string Key, string Value)[] more) =>
        Node(
            "ssh",
            [
                ("address", "127.0.0.1"),
                ("port", $"{port}"),
                ("account", SshServer.Account),
                ("key", "secret:login"),
                ("host-keys", "known_hosts"),
                ("state", Path.Combine(server.Folder, "state")),
                .. more,
            ]
        );

    private EstateNode Here => At(server.Port);

    protected override Task<(IConnector, EstateNode)?> OpenAsync() =>
        Task.FromResult<(IConnector, EstateNode)?>((_connector, Here));

    protected override EstateNode Absent(EstateNode node) => At(SshServer.FreePort());

    private Task<Taken> ReadAsync(EstateNode node, string readings, params Reference[] wanted) =>
        _connector.ReadAsync(node, Member, Product(readings), wanted, CancellationToken.None);

    [Fact]
    public async Task A_host_tells_what_it_is_and_what_this_machine_says_of_itself()
    {
        var wanted = KnownReadings
            .OfHost.Select(Reading)
            .Concat([
                new Reference("free", ["/"], null),
                new Reference("file", ["/etc/passwd"], "exists"),
                new Reference("package", ["bash"], "whole"),
                new Reference("port", [$"{server.Port}"], "open"),
                new Reference("reach", ["127.0.0.1", $"{server.Port}"], "open"),
                new Reference("name", ["localhost"], "resolves"),
                new Reference("account", ["root"], "exists"),
                new Reference("processes", ["root"], null),
            ])
            .ToArray();
        var (values, missed) = await ReadAsync(Here, "  x: {by: command, command: [true]}", wanted);
        string Of(string name) => values[values.Keys.Single(k => k.Key == name)].ToString();
        Assert.Equal(File.ReadAllText("/proc/sys/kernel/osrelease").Trim(), Of("kernel"));
        Assert.Equal("debian", Of("os.name"));
        Assert.Equal(File.ReadAllText("/etc/debian_version").Trim(), Of("os.release"));
        Assert.Equal(Environment.ProcessorCount.ToString(), Of("cpu.count"));
        // Where these tests see another clock than the machine's, the host's is off by as much.
        var ahead = double.Parse(
            Environment.GetEnvironmentVariable("TIDESTEP_TEST_AHEAD") ?? "0",
            System.Globalization.CultureInfo.InvariantCulture
        );
        Assert.True(Math.Abs(values[Reading("clock.off")].Number + ahead) < 2);
        Assert.True(values[Reading("memory.total")].Number > values[Reading("memory.free")].Number);
        Assert.InRange(values[Reading("disk.fullest")].Number, 0, 1);
        Assert.True(
            Math.Abs(values[new Reference("free", ["/"], null)].Number - new DriveInfo("/").AvailableFreeSpace) < 2e9
        );
        foreach (var flag in wanted.Where(w => w.Field is not null))
            Assert.True(values[flag].IsTrue, flag.Key);
        Assert.True(values[Reading("administrator")].IsTrue);
        Assert.True(values[new Reference("processes", ["root"], null)].Number > 1);
        // This machine may run no systemd: what only that tells may be missing, and says so.
        Assert.All(missed.Keys, k =>
            Assert.Contains(k.Key, (string[])["updates.next", "units.failed", "disk.mount", "disk.fullest"])
        );
    }

    [Fact]
    public async Task A_reading_is_given_a_secret_in_memory_and_nothing_is_left_of_it()
    {
        var key = Path.Combine(server.Folder, "secrets", "door");
        await File.WriteAllTextAsync(key, "open-sesame-31");
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(key, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var before = Directory.GetDirectories("/dev/shm", "tidestep-read-*");
        var (values, missed) = await ReadAsync(
            Here,
            """
              length: {by: command, command: [sh, -c, "wc -c <\"$1\"", x, "{secret.door}"], unit: count}
              place: {by: command, command: [echo, "{secret.door}"]}
              blurted: {by: command, command: [cat, "{secret.door}"]}
              lacking: {by: command, command: [cat, "{secret.window}"]}
              good: {by: command, command: [echo, "7"], unit: count}
            """,
            Reading("length"),
            Reading("place"),
            Reading("blurted"),
            Reading("lacking"),
            Reading("good")
        );
        Assert.Equal(14, values[Reading("length")].Number);
        Assert.StartsWith("/dev/shm/", values[Reading("place")].Text);
        Assert.Equal(7, values[Reading("good")].Number);
        Assert.Contains("holds a secret", missed[Reading("blurted")]);
        Assert.Contains("window", missed[Reading("lacking")]);
        Assert.Equal(before, Directory.GetDirectories("/dev/shm", "tidestep-read-*"));
    }

    [Fact]
    public async Task Slow_endless_and_binary_answers_cost_only_themselves()
    {
        var (values, missed) = await ReadAsync(
            Here,
            """
              slow: {by: command, command: [sleep, "60"]}
              endless: {by: command, command: [yes, "a line that goes on"], pattern: "goes"}
              binary: {by: command, command: [head, -c, "3000", /dev/urandom], unit: count}
              large: {by: command, command: [sh, -c, "head -c 100000000 /dev/zero | tr '\\\\0' x"]}
              loud: {by: command, command: [sh, -c, "echo it went wrong >&2; exit 3"]}
              good: {by: command, command: [echo, "7"], unit: count}
            """,
            Reading("slow"),
            Reading("endless"),
            Reading("binary"),
            Reading("large"),
            Reading("loud"),
            Reading("good")
        );
        Assert.Equal("7", values[Reading("good")].ToString());
        Assert.Equal("goes", values[Reading("endless")].ToString());
        Assert.True(values[Reading("large")].Text.Length <= 65536);
        Assert.Contains("10 s", missed[Reading("slow")]);
        Assert.Contains("is no count", missed[Reading("binary")]);
        Assert.DoesNotContain(missed[Reading("binary")], char.IsControl);
        Assert.Contains("it went wrong", missed[Reading("loud")]);
    }

    // Up to the server's own process, and the beginnings of the lines only: what is above and behind is as long as
    // whoever runs the tests made it.
    private const string Ancestors =
        "  by: {by: command, command: [sh, -c, \"p=$PPID; while [ $p -gt 1 ]; do tr '\\\\0' ' ' "
        + "</proc/$p/cmdline | head -c 200; case $(cat /proc/$p/comm) in sshd*) break ;; esac; p=$(sed -n "
        + "'s/^PPid:.//p' /proc/$p/status); done\"]}";

    [Fact]
    public async Task A_conversation_is_held_with_a_host_that_lets_it()
    {
        for (var i = 0; i < 2; i++)
            Assert.Contains(
                "attempt.sh serve",
                (await ReadAsync(Here, Ancestors, Reading("by"))).Values[Reading("by")].Text
            );
    }

    [Fact]
    public async Task A_host_that_allows_commands_only_is_asked_by_a_session_each()
    {
        using var strict = new SshServer(
            "ForceCommand test -n \"$SSH_ORIGINAL_COMMAND\" && eval \"$SSH_ORIGINAL_COMMAND\""
        );
        using var connector = new SshConnector(
            new Secrets(Path.Combine(strict.Folder, "secrets")),
            strict.Folder,
            new HttpReader(new HttpClient()),
            new SqlConnector(new Secrets(strict.Folder)),
            TimeProvider.System
        );
        var node = Node(
            "ssh",
            ("address", "127.0.0.1"),
            ("port", $"{strict.Port}"),
            ("account", SshServer.Account),
            ("key", "secret:login"),
            ("host-keys", "known_hosts"),
            ("state", Path.Combine(strict.Folder, "state"))
        );
        var read = (
            await connector.ReadAsync(node, Member, Product(Ancestors), [Reading("by")], CancellationToken.None)
        )
            .Values[Reading("by")]
            .Text;
        Assert.DoesNotContain("attempt.sh serve", read);
        Assert.Contains("attempt.sh ask", read);
        await connector.RaiseAsync(node, "tstrict", 1, 0, CancellationToken.None);
        var begun = await connector.BeginAsync(
            node,
            new FencedAttempt(
                "tstrict",
                "astrict1",
                1,
                1,
                TimeSpan.FromSeconds(60),
                "app",
                new FarAction("command", ["sh", "-c", "exit 7"])
            ),
            TimeSpan.FromSeconds(10),
            CancellationToken.None
        );
        Assert.Equal(7, begun.Reading!.ExitCode);
    }

    [Fact]
    public async Task A_host_that_lets_one_session_be_open_and_no_more_keeps_it_for_commands()
    {
        using var narrow = new SshServer("MaxSessions 1");
        using var connector = new SshConnector(
            new Secrets(Path.Combine(narrow.Folder, "secrets")),
            narrow.Folder,
            new HttpReader(new HttpClient()),
            new SqlConnector(new Secrets(narrow.Folder)),
            TimeProvider.System
        );
        var node = Node(
            "ssh",
            ("address", "127.0.0.1"),
            ("port", $"{narrow.Port}"),
            ("account", SshServer.Account),
            ("key", "secret:login"),
            ("host-keys", "known_hosts"),
            ("state", Path.Combine(narrow.Folder, "state"))
        );
        const string readings = """
              a: {by: command, command: [echo, "1"], unit: count}
              b: {by: command, command: [echo, "2"], unit: count}
              c: {by: command, command: [echo, "3"], unit: count}
              d: {by: command, command: [echo, "4"], unit: count}
              e: {by: command, command: [echo, "5"], unit: count}
            """;
        // So many questions are asked by a session of their own, beside the conversation.
        var (values, missed) = await connector.ReadAsync(
            node,
            Member,
            Product(readings),
            [.. "abcde".Select(c => Reading($"{c}"))],
            CancellationToken.None
        );
        Assert.Empty(missed);
        Assert.Equal(["1", "2", "3", "4", "5"], "abcde".Select(c => values[Reading($"{c}")].ToString()));
        await connector.RaiseAsync(node, "tnarrow", 1, 0, CancellationToken.None);
        var begun = await connector.BeginAsync(
            node,
            new FencedAttempt(
                "tnarrow",
                "anarrow1",
                1,
                1,
                TimeSpan.FromSeconds(60),
                "app",
                new FarAction("command", ["sh", "-c", "exit 7"])
            ),
            TimeSpan.FromSeconds(10),
            CancellationToken.None
        );
        Assert.Equal(7, begun.Reading!.ExitCode);
        Assert.DoesNotContain(
            "attempt.sh serve",
            (await connector.ReadAsync(node, Member, Product(Ancestors), [Reading("by")], CancellationToken.None))
                .Values[Reading("by")]
                .Text
        );
    }

    [Fact]
    public async Task What_is_too_long_or_goes_wrong_in_the_conversation_is_asked_for_by_itself()
    {
        var (values, missed) = await ReadAsync(
            Here,
            """
              large: {by: command, command: [sh, -c, "head -c 100000000 /dev/zero | tr '\\0' x"]}
              middling: {by: command, command: [sh, -c, "head -c 9000 /dev/zero | tr '\\0' y"]}
              loud: {by: command, command: [sh, -c, "echo it went wrong >&2; exit 3"]}
            """,
            Reading("large"),
            Reading("middling"),
            Reading("loud")
        );
        Assert.Equal(65536, values[Reading("large")].Text.Length);
        Assert.Equal(new string('y', 9000), values[Reading("middling")].Text);
        Assert.Contains("it went wrong", missed[Reading("loud")]);
        var attempt = new FencedAttempt(
            "tlarge",
            "alarge1",
            1,
            1,
            TimeSpan.FromSeconds(60),
            "app",
            new FarAction("command", ["sh", "-c", "head -c 9000 /dev/zero | tr '\\0' z; printf 'ö\nlast'"])
        );
        await _connector.RaiseAsync(Here, "tlarge", 1, 0, CancellationToken.None);
        var begun = await _connector.BeginAsync(Here, attempt, TimeSpan.FromSeconds(5), CancellationToken.None);
        Assert.Null(begun.Refused);
        var end = begun.Reading is { Phase: AttemptPhase.Ended } told
            ? told
            : await _connector.StatusAsync(Here, "tlarge", "alarge1", TimeSpan.FromSeconds(20), CancellationToken.None);
        Assert.Equal((0, new string('z', 9000) + "ö\nlast"), (end.ExitCode, end.Output));
    }

    [Fact]
    public async Task Many_calls_go_side_by_side_and_each_gets_its_own_answer()
    {
        await _connector.RaiseAsync(Here, "tmany", 1, 0, CancellationToken.None);
        var ends = await Task.WhenAll(
            Enumerable
                .Range(0, 40)
                .Select(async i =>
                {
                    var begun = await _connector.BeginAsync(
                        Here,
                        new FencedAttempt(
                            "tmany",
                            $"many{i}",
                            1,
                            i,
                            TimeSpan.FromSeconds(60),
                            "app",
                            new FarAction("command", ["sh", "-c", "echo \"$1\"; exit $1", "sh", $"{i}"])
                        ),
                        TimeSpan.FromSeconds(1),
                        CancellationToken.None
                    );
                    var reading = begun.Reading;
                    while (reading is not { Phase: AttemptPhase.Ended })
                        reading = await _connector.StatusAsync(
                            Here,
                            "tmany",
                            $"many{i}",
                            TimeSpan.FromSeconds(5),
                            CancellationToken.None
                        );
                    return (reading.ExitCode, reading.Output.Trim());
                })
        );
        Assert.Equal(Enumerable.Range(0, 40).Select(i => ((int?)i, $"{i}")), ends);
    }

    [Fact]
    public async Task A_secret_lies_in_memory_while_its_command_runs_and_nowhere_afterwards()
    {
        var secret = Path.Combine(server.Folder, "secrets", "relay.key");
        await File.WriteAllTextAsync(secret, "heron-7");
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(secret, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var ask = new FarAction(
            "command",
            [
                "sh",
                "-c",
                "cat -- \"$1\"; stat -c ' %a' -- \"$(dirname -- \"$1\")\"; df --output=fstype -- \"$1\" | "
                    + "tail -1; tr '\\0' ' ' </proc/$$/cmdline",
                "sh",
                "{secret.relay.key}",
            ]
        );
        var attempt = new FencedAttempt("tsecret", "asecret1", 1, 1, TimeSpan.FromSeconds(60), "app", ask);
        await _connector.RaiseAsync(Here, "tsecret", 1, 0, CancellationToken.None);
        var begun = await _connector.BeginAsync(Here, attempt, TimeSpan.FromSeconds(5), CancellationToken.None);
        var reading = begun.Reading!;
        while (reading.Phase == AttemptPhase.Running)
            reading = await _connector.StatusAsync(
                Here,
                "tsecret",
                "asecret1",
                TimeSpan.FromSeconds(1),
                CancellationToken.None
            );
        Assert.StartsWith("heron-7 700\ntmpfs\n", reading.Output);
        Assert.EndsWith("/dev/shm/tidestep-asecret1/relay.key ", reading.Output);
        Assert.False(Directory.Exists("/dev/shm/tidestep-asecret1"));
        Assert.DoesNotContain(
            "heron-7",
            await File.ReadAllTextAsync(Path.Combine(server.Folder, "state", "tsecret", "attempts", "asecret1", "argv"))
        );
        // Refused it never ran, and nothing is left of it either; one that is not there is said before anything is
        // asked.
        Assert.NotNull(
            (
                await _connector.BeginAsync(
                    Here,
                    attempt with
                    {
                        Id = "asecret2",
                        Epoch = 0,
                    },
                    TimeSpan.FromSeconds(5),
                    CancellationToken.None
                )
            ).Refused
        );
        Assert.False(Directory.Exists("/dev/shm/tidestep-asecret2"));
        var missing = await Assert.ThrowsAsync<ConnectorException>(() =>
            _connector.BeginAsync(
                Here,
                attempt with
                {
                    Id = "asecret3",
                    Action = new FarAction("command", ["cat", "{secret.none}"]),
                },
                TimeSpan.FromSeconds(5),
                CancellationToken.None
            )
        );
        Assert.True(missing.Lasting);
        Assert.False(Directory.Exists("/dev/shm/tidestep-asecret3"));
    }

    [Theory]
    [InlineData("'; touch {0}; '")]
    [InlineData("$(touch {0})")]
    [InlineData("`touch {0}`")]
    [InlineData("a\ntouch {0}\nb")]
    [InlineData("\"; touch {0} #")]
    [InlineData("-n || touch {0}")]
    public async Task No_name_becomes_a_command(string text)
    {
        var mark = Path.Combine(server.Folder, "injected");
        var evil = string.Format(System.Globalization.CultureInfo.InvariantCulture, text, mark);
        await ReadAsync(
            Here,
            "  x: {by: command, command: [true]}",
            new("free", [evil], null),
            new("size", [evil], null),
            new("service", [evil], "active"),
            new("package", [evil], "version"),
            new("package", [evil], "candidate"),
            new("file", [evil], "exists"),
            new("port", [evil], "open"),
            new("reach", [evil, evil], "open"),
            new("name", [evil], "resolves"),
            new("account", [evil], "exists"),
            new("processes", [evil], null),
            new("certificate", [evil], "until")
        );
        var product = Product("  x: {by: command, command: [echo, \"{member.node}\"]}");
        var (values, _) = await _connector.ReadAsync(
            Here,
            new Member("app", evil, null),
            product,
            [Reading("x")],
            CancellationToken.None
        );
        Assert.Equal(evil.Trim(), values[Reading("x")].Text.Trim());
        Assert.False(File.Exists(mark), "a name was run");
    }

    [Fact]
    public async Task A_link_that_goes_silent_is_given_up_and_the_next_call_connects_anew()
    {
        using var link = new Link(server.Port);
        var node = At(link.Port);
        Assert.Equal("42", (await ReadAsync(node, Readings, Reading("good"))).Values[Reading("good")].ToString());
        link.Die();
        var e = await Assert.ThrowsAsync<ConnectorException>(() =>
            _connector.StatusAsync(node, "t1", "a1", TimeSpan.Zero, CancellationToken.None)
        );
        Assert.False(e.Lasting);
        link.Revive();
        Assert.Equal("42", (await ReadAsync(node, Readings, Reading("good"))).Values[Reading("good")].ToString());
    }

    [Fact]
    public async Task A_host_behind_another_is_reached_through_it()
    {
        var gate = Here.Reach.Settings.Select(s => ($"via.{s.Key}", s.Value)).Append(("via", "gate")).ToArray();
        Assert.Equal(
            "42",
            (await ReadAsync(At(server.Port, gate), Readings, Reading("good"))).Values[Reading("good")].ToString()
        );
    }

    [Fact]
    public async Task A_file_is_laid_ready_whole_gone_on_with_and_checked_on_the_far_side()
    {
        var (local, bytes) = (Path.Combine(server.Folder, "big"), RandomNumberGenerator.GetBytes(3_000_000));
        await File.WriteAllBytesAsync(local, bytes);
        var (name, sum) = ($"tidestep-test-{Guid.NewGuid():N}", Convert.ToHexStringLower(SHA256.HashData(bytes)));
        var (target, part) = (
            $"{SshConnector.StagingPlace}/{name}",
            $"{SshConnector.StagingPlace}/.{name}.{sum[..12]}.part"
        );
        try
        {
            Directory.CreateDirectory(SshConnector.StagingPlace);
            await File.WriteAllBytesAsync(part, bytes[..1_000_000]); // what an earlier staging left
            var seen = new List<long>();
            await _connector.StageAsync(
                Here,
                new StagedFile(name, local, bytes.Length, sum),
                0,
                seen.Add,
                CancellationToken.None
            );
            Assert.Equal(bytes, await File.ReadAllBytesAsync(target));
            Assert.Equal(1_000_000, seen[0]);
            Assert.False(File.Exists(part));
            seen.Clear();
            await _connector.StageAsync(
                Here,
                new StagedFile(name, local, bytes.Length, sum),
                0,
                seen.Add,
                CancellationToken.None
            );
            Assert.Equal([bytes.Length], seen);
            var wrong = await Assert.ThrowsAsync<ConnectorException>(() =>
                _connector.StageAsync(
                    Here,
                    new StagedFile(name + "x", local, bytes.Length, new string('0', 64)),
                    0,
                    _ => { },
                    CancellationToken.None
                )
            );
            Assert.Contains("checksum", wrong.Problem.What);
            Assert.False(File.Exists(target + "x"));
            var large = await Assert.ThrowsAsync<ConnectorException>(() =>
                _connector.StageAsync(
                    Here,
                    new StagedFile(name + "y", local, 1L << 60, sum),
                    0,
                    _ => { },
                    CancellationToken.None
                )
            );
            Assert.Contains("short", large.Problem.Detail);
        }
        finally
        {
            foreach (var file in Directory.GetFiles(SshConnector.StagingPlace, $"*{name}*"))
                File.Delete(file);
        }
    }

    public void Dispose() => _connector.Dispose();
}
