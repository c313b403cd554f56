using System.Diagnostics;
using TideStep.Tests;

namespace TideStep.Connectors.Tests;

/// <summary>The wrapper that runs on far sides, run here in a folder of its own.</summary>
public sealed class AttemptScriptTests : IDisposable
{
    private readonly string _state = Directory.CreateTempSubdirectory("tidestep-attempt").FullName;

    public AttemptScriptTests()
    {
        using var script = new StreamReader(
            typeof(Ssh.SshConnector).Assembly.GetManifestResourceStream("TideStep.Connectors.Ssh.attempt.sh")!
        );
        File.WriteAllText(Path.Combine(_state, "attempt.sh"), script.ReadToEnd());
    }

    private static string Argv(params string[] arguments) => Ssh.Shell.Join(arguments);

    private static long Uptime() =>
        (long)
            double.Parse(
                File.ReadAllText("/proc/uptime").Split(' ')[0],
                System.Globalization.CultureInfo.InvariantCulture
            );

    private string Run(params string[] arguments)
    {
        var start = new ProcessStartInfo("/bin/sh", [Path.Combine(_state, "attempt.sh"), .. arguments])
        {
            RedirectStandardOutput = true,
        };
        using var process = Process.Start(start)!;
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return output.TrimEnd('\n');
    }

    private string Begin(string id, long epoch = 1, long position = 1, long? sent = null, params string[] argv) =>
        Run("begin", "t1", id, $"{epoch}", $"{position}", "60", $"{sent ?? Uptime()}", "10", Argv(argv));

    [Fact]
    public void A_command_ends_with_its_status_and_output() =>
        Assert.Equal("ended 3\nout", Begin("a1", argv: ["sh", "-c", "echo out; exit 3"]));

    [Theory]
    [InlineData("plain")]
    [InlineData("a 'quoted' \"name\" with $HOME `date` and ; rm -rf *")]
    [InlineData("two\nlines\n")]
    [InlineData("")]
    [InlineData("-n")]
    [InlineData("ümläut, with comma")]
    public void Arguments_arrive_as_they_were_given(string argument) =>
        Assert.Equal($"ended 0\n[{argument}]", Begin("a1", argv: ["printf", "[%s]", argument]));

    [Fact]
    public void An_attempt_that_is_known_is_refused_and_not_run_again()
    {
        var mark = Path.Combine(_state, "mark");
        Begin("a1", argv: ["sh", "-c", $"echo x >> {mark}"]);
        Assert.StartsWith("refused the attempt is known", Begin("a1", argv: ["sh", "-c", $"echo x >> {mark}"]));
        Assert.Equal("x\n", File.ReadAllText(mark));
    }

    [Fact]
    public void A_raised_epoch_refuses_every_older_owner()
    {
        Assert.Equal("fence 0 0", Run("raise", "t1", "5", "40"));
        Assert.StartsWith("refused epoch 4 is below 5", Begin("a1", epoch: 4, argv: ["true"]));
        Assert.StartsWith("ended 0", Begin("a2", epoch: 5, argv: ["true"]));
        Assert.Equal("fence 5 40", Run("raise", "t1", "6", "30"));
    }

    [Fact]
    public void An_attempt_that_comes_too_late_is_refused() =>
        Assert.StartsWith("refused its start-by time", Begin("a1", sent: Uptime() - 1000, argv: ["true"]));

    [Fact]
    public void Installations_do_not_fence_each_other()
    {
        Run("raise", "t2", "9", "9");
        Assert.StartsWith("ended 0", Begin("a1", argv: ["true"]));
    }

    [Fact]
    public void What_never_began_is_unknown() => Assert.Equal("unknown", Run("status", "t1", "nothing", "0"));

    [Fact]
    public void A_running_attempt_says_so_and_shows_its_output()
    {
        var gate = Path.Combine(_state, "gate");
        Run(
            "begin",
            "t1",
            "a1",
            "1",
            "1",
            "60",
            $"{Uptime()}",
            "0",
            Argv("sh", "-c", $"echo half; while [ ! -e {gate} ]; do sleep 0.02; done")
        );
        Assert.StartsWith("running", Run("status", "t1", "a1", "0"));
        File.WriteAllText(gate, "");
        Assert.Equal("ended 0\nhalf", Run("status", "t1", "a1", "20"));
    }

    [Fact]
    public void What_is_denied_is_unknown_and_never_begins_afterwards()
    {
        Assert.Equal("unknown", Run("deny", "t1", "a1"));
        Assert.StartsWith("refused the attempt is known", Begin("a1", argv: ["touch", Path.Combine(_state, "mark")]));
        Assert.Equal("unknown", Run("status", "t1", "a1", "0"));
        Assert.False(File.Exists(Path.Combine(_state, "mark")));
        // Of one that is known nothing changes.
        Begin("a2", argv: ["true"]);
        Assert.StartsWith("ended 0", Run("deny", "t1", "a2"));
    }

    [Fact]
    public void A_command_whose_beginning_was_settled_by_somebody_else_does_not_run()
    {
        var attempt = Directory.CreateDirectory(Path.Combine(_state, "t1", "attempts", "a1")).FullName;
        File.WriteAllText(Path.Combine(attempt, "argv"), $"set -- touch {_state}/mark\n");
        File.WriteAllText(Path.Combine(attempt, "begun"), "");
        Run("run", "t1", "a1");
        Assert.False(File.Exists(Path.Combine(_state, "mark")));
    }

    [Fact]
    public void A_record_of_this_boot_without_a_process_is_waited_for_and_one_of_an_earlier_boot_is_not()
    {
        var attempt = Directory.CreateDirectory(Path.Combine(_state, "t1", "attempts", "a1")).FullName;
        var boot = File.ReadAllText("/proc/sys/kernel/random/boot_id").Trim();
        File.WriteAllText(Path.Combine(attempt, "process"), new string(' ', 128) + "\n");
        File.WriteAllText(Path.Combine(attempt, "boot"), $"{boot} {Uptime()}\n");
        Assert.Equal("running", Run("status", "t1", "a1", "0"));
        // As an earlier release of Tide Step wrote it.
        File.WriteAllText(Path.Combine(attempt, "boot"), $"{boot}\n");
        Assert.Equal("running", Run("status", "t1", "a1", "0"));
        File.WriteAllText(Path.Combine(attempt, "boot"), $"another {Uptime()}\n");
        Assert.Equal("restarted", Run("status", "t1", "a1", "0"));
        // Long ago, and nobody has taken it up: it is settled that nobody will.
        File.WriteAllText(Path.Combine(attempt, "boot"), $"{boot} {Uptime() - 60}\n");
        Assert.Equal("unknown", Run("status", "t1", "a1", "0"));
        Assert.True(File.Exists(Path.Combine(attempt, "begun")));
    }

    [Fact]
    public void A_conversation_answers_side_by_side_and_ends_with_its_input()
    {
        var (gate, start) = (
            Path.Combine(_state, "gate"),
            new ProcessStartInfo("/bin/sh", [Path.Combine(_state, "attempt.sh"), "serve"])
            {
                RedirectStandardOutput = true,
                RedirectStandardInput = true,
            }
        );
        using var process = Process.Start(start)!;
        // One answer: its token, its status, and what it says.
        (string Token, string Status, string Said) Heard()
        {
            var (token, status, said) = (
                process.StandardOutput.ReadLine()!,
                process.StandardOutput.ReadLine()!,
                new List<string>()
            );
            while (process.StandardOutput.ReadLine() is { } line && line != $"<{token[1..]}")
                said.Add(line);
            return (token, status, string.Join('\n', said).Trim());
        }
        void Say(string token, params string[] request)
        {
            process.StandardInput.Write(
                $"{token} {Argv(request).Replace("\n", "'\"$nl\"'", StringComparison.Ordinal)}\n"
            );
            process.StandardInput.Flush();
        }
        Say(
            "k1",
            "begin",
            "t1",
            "a1",
            "1",
            "1",
            "60",
            $"{Uptime()}",
            "5",
            Argv("sh", "-c", $"echo 'two\nlines'; while [ ! -e {gate} ]; do sleep 0.02; done; exit 3")
        );
        Assert.Equal((">k1", "later", ""), Heard());
        var output = Path.Combine(_state, "t1", "attempts", "a1", "output");
        Assert.True(
            SpinWait.SpinUntil(
                () => File.Exists(output) && File.ReadAllText(output).Contains("lines\n", StringComparison.Ordinal),
                TimeSpan.FromSeconds(20)
            )
        );
        // The first still waits for its end; the second is answered all the same.
        Say("k2", "status", "t1", "a1", "0");
        Assert.Equal((">k2", "0", "running\ntwo\nlines"), Heard());
        File.WriteAllText(gate, "");
        Assert.Equal((">k1", "0", "ended 3\ntwo\nlines"), Heard());
        Say("k3", "status", "t1", "a1", "5");
        Assert.Equal((">k3", "0", "ended 3\ntwo\nlines"), Heard());
        Say("k4", "begin", "t1", "a1", "1", "1", "60", $"{Uptime()}", "5", Argv("true"));
        Assert.StartsWith("refused", Heard().Said);
        Say("k5", "begin", "t1", "a2", "1", "1", "60", $"{Uptime()}", "0", Argv("head", "-c", "9000", "/dev/zero"));
        Heard();
        Say("k6", "no such verb");
        Assert.Equal("2", Heard().Status);
        // A line that was cut off is no request.
        process.StandardInput.Write("k7 begin t1 a3 1 1 60 999999999 0 true");
        process.StandardInput.Close();
        Assert.Equal("", process.StandardOutput.ReadToEnd());
        process.WaitForExit();
        Assert.Equal("unknown", Run("status", "t1", "a3", "0"));
        Assert.Empty(Directory.GetFiles(_state, "ear.*"));
    }

    private void BeginLong(string id, string script)
    {
        Run("begin", "t1", id, "1", "1", "60", $"{Uptime()}", "0", Argv("sh", "-c", script));
        var ready = Path.Combine(_state, "ready");
        Assert.True(SpinWait.SpinUntil(() => File.Exists(ready), TimeSpan.FromSeconds(20)));
    }

    [Fact]
    public void A_command_that_is_asked_to_stop_ends_with_all_that_it_started_and_its_record_says_so()
    {
        BeginLong("a1", $"sleep 300 & echo $! > {_state}/child; touch {_state}/ready; wait");
        Assert.Equal("", Run("stop", "t1", "a1", "1", "10"));
        Assert.StartsWith("ended 143", Run("status", "t1", "a1", "10"));
        var child = $"/proc/{File.ReadAllText(Path.Combine(_state, "child")).Trim()}/stat";
        // A process that has ended may stay listed till its new parent takes note.
        Assert.True(
            SpinWait.SpinUntil(
                () => !File.Exists(child) || File.ReadAllText(child).Contains(") Z ", StringComparison.Ordinal),
                TimeSpan.FromSeconds(20)
            )
        );
    }

    [Fact]
    public void A_command_that_does_not_heed_the_request_is_made_to_end()
    {
        BeginLong("a1", $"trap '' TERM; touch {_state}/ready; while :; do sleep 0.1; done");
        Assert.Equal("", Run("stop", "t1", "a1", "1", "1"));
        Assert.StartsWith("ended 137", Run("status", "t1", "a1", "10"));
    }

    [Fact]
    public void An_older_owner_stops_nothing_and_what_has_ended_stays_as_it_was()
    {
        Assert.StartsWith("ended 0", Begin("a1", argv: ["true"]));
        Assert.Equal("", Run("stop", "t1", "a1", "1", "1"));
        Assert.StartsWith("ended 0", Run("status", "t1", "a1", "0"));
        Run("raise", "t1", "5", "5");
        Assert.StartsWith("refused epoch 1 is below 5", Run("stop", "t1", "a1", "1", "1"));
    }

    [Fact]
    public void A_capture_is_whole_or_said_not_to_be()
    {
        var (data, place) = (Path.Combine(_state, "data"), Path.Combine(_state, "points/p.tar.gz"));
        Directory.CreateDirectory(data);
        File.WriteAllText(Path.Combine(data, "f"), "content");
        var answer = System.Text.Json.Nodes.JsonNode.Parse(Run("capture", place, data))!;
        Assert.Equal(2, (int)answer["entries"]!);
        var sum = (string)answer["sha256"]!;
        Assert.StartsWith("whole", Run("check", place, sum));
        Assert.StartsWith("whole", Run("check", place, sum, data, data + "/", Path.Combine(data, "f")));
        Assert.Equal($"the archive does not hold {data}/g", Run("check", place, sum, data, data + "/g").Trim());
        File.AppendAllText(place, "x");
        Assert.StartsWith("checksum differs", Run("check", place, sum));
    }

    [Fact]
    public void A_dump_is_whole_or_nothing_is_left_of_it()
    {
        var place = Path.Combine(_state, "points/p.dump");
        var answer = System.Text.Json.Nodes.JsonNode.Parse(
            Run("dump", place, "0", "sh", "-c", "echo rows > \"$1\"", "sh").Trim().Split('\n')[^1]
        )!;
        Assert.Equal((place, 5), ((string)answer["place"]!, (int)answer["bytes"]!));
        Assert.Equal("whole: checksum agrees", Run("check", place, (string)answer["sha256"]!).Trim());
        // A later one that fails leaves the earlier as it was.
        Assert.Contains(
            "no connection",
            Run("dump", place, "0", "sh", "-c", "echo half > \"$1\"; echo no connection; exit 3", "sh")
        );
        Assert.Contains("what it wrote is empty", Run("dump", place, "0", "sh", "-c", ": > \"$1\"", "sh"));
        Assert.Contains("it wrote nothing", Run("dump", place, "0", "true"));
        Assert.Equal("rows\n", File.ReadAllText(place));
        Assert.Equal([place], Directory.GetFiles(Path.GetDirectoryName(place)!));
    }

    [Fact]
    public void A_dump_may_be_a_folder_and_its_command_may_end_with_a_warning()
    {
        var place = Path.Combine(_state, "points/base.dump");
        string[] Base(int status) =>
            [
                "dump",
                place,
                "0 1",
                "sh",
                "-c",
                $"mkdir -p \"$1/global\"; echo control >\"$1/global/pg\"; echo rows >\"$1/data\"; ln -s "
                    + $"../wal \"$1/wal\"; echo 'one file vanished'; exit {status}",
                "sh",
            ];
        var answer = System.Text.Json.Nodes.JsonNode.Parse(Run(Base(1)).Trim().Split('\n')[^1])!;
        var sum = (string)answer["sha256"]!;
        Assert.Equal((place, 2), ((string)answer["place"]!, (int)answer["entries"]!));
        Assert.Equal("whole: checksum of 2 files agrees", Run("check", place, sum).Trim());
        // Another one in its place is as good; a status that is none of the agreed ones leaves the earlier as it was.
        Assert.Equal(
            sum,
            (string)System.Text.Json.Nodes.JsonNode.Parse(Run(Base(0)).Trim().Split('\n')[^1])!["sha256"]!
        );
        Assert.DoesNotContain("sha256", Run(Base(2)));
        Assert.Equal("whole: checksum of 2 files agrees", Run("check", place, sum).Trim());
        Assert.Contains("what it wrote is empty", Run("dump", place, "0", "mkdir"));
        // A file takes a folder's place, not a place in it.
        Assert.Contains(
            "\"entries\":1",
            Run(
                "dump",
                Path.Combine(_state, "points/other.dump"),
                "0",
                "sh",
                "-c",
                "mkdir \"$1\"; echo a >\"$1/a\"",
                "sh"
            )
        );
        Assert.Contains(
            "\"bytes\":2",
            Run("dump", Path.Combine(_state, "points/other.dump"), "0", "sh", "-c", "echo b >\"$1\"", "sh")
        );
        Assert.Equal("b\n", File.ReadAllText(Path.Combine(_state, "points/other.dump")));
        // What was changed, or hangs elsewhere, is not whole; such a folder is not taken away either.
        File.Delete(Path.Combine(place, "wal"));
        Assert.StartsWith("checksum differs", Run("check", place, sum));
        Assert.Contains("is not what was captured, and was left", Run("discard", place, sum));
        File.CreateSymbolicLink(Path.Combine(place, "wal"), "../wal");
        Assert.Contains("is gone", Run("discard", place, sum));
        Assert.False(Directory.Exists(place));
    }

    [Fact]
    public void A_capture_is_taken_away_only_while_it_is_what_was_captured()
    {
        var (data, place) = (Path.Combine(_state, "data"), Path.Combine(_state, "points/p.tar.gz"));
        Directory.CreateDirectory(data);
        var sum = (string)System.Text.Json.Nodes.JsonNode.Parse(Run("capture", place, data))!["sha256"]!;
        Assert.Contains("is not what was captured, and was left", Run("discard", place, "00"));
        Assert.True(File.Exists(place));
        Assert.Equal($"{place} is gone", Run("discard", place, sum).Trim());
        Assert.False(File.Exists(place));
        Assert.Equal($"{place} was gone already", Run("discard", place, sum).Trim());
    }

    public void Dispose() => Folders.Remove(_state);
}
