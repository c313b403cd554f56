using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>A service's data as its administrator keeps it: looked over and backed up while a run is at work, brought
/// back where the first one is gone.</summary>
public sealed class KeepingTests
{
    private static string Backup(DemoStack stack, string name) => Path.Combine(stack.Work, name);

    // The service of before is gone, with its folder; what the backup holds comes in its place.
    private static async Task BringBackAsync(DemoStack stack, string backup)
    {
        var data = Path.Combine(stack.Work, "data");
        await stack.KillServiceAsync();
        Directory.Move(data, data + "-" + Guid.NewGuid().ToString("N")[..6]);
        Assert.Equal((0, ""), await stack.SecondServiceAsync("restore", backup));
        Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
        await stack.StartServiceAsync();
    }

    [Fact]
    public async Task A_run_goes_on_from_a_backup_that_was_taken_while_it_worked()
    {
        await using var stack = await DemoStack.StartAsync();
        await stack.FaultAsync("ss-rel-2", "start", "fail-once");
        var run = await stack.OpenAsync();
        Assert.Equal(4, (await stack.Cli("run", "start", run, "--follow")).Status);
        Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
        Assert.Equal((0, ""), await stack.SecondServiceAsync("backup", Backup(stack, "b1")));
        // It is never written into a folder that holds something.
        var (status, error) = await stack.SecondServiceAsync("backup", Backup(stack, "b1"));
        Assert.Equal(3, status);
        Assert.Contains("is not empty", error);
        // Nor into what it is a backup of.
        (status, error) = await stack.SecondServiceAsync("backup", Path.Combine(stack.Work, "data", "backups", "b1"));
        Assert.Equal(3, status);
        Assert.Contains("lies in the data folder", error);
        await BringBackAsync(stack, Backup(stack, "b1"));
        Assert.Equal(0, (await stack.Cli("run", "decide", run, "try-again", "--follow")).Status);
        Assert.Equal("completed", (string?)(await stack.RunAsync(run))["status"]);
        // No member was installed twice: what the backup holds and what was done after it are one run.
        Assert.DoesNotContain(
            (await stack.DeedsAsync()).Where(d => d is { Verb: "install", What: "begun" }).GroupBy(d => d.Node),
            d => d.Count() > 1
        );
        Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
        // Rows of lists are copies: taken away, they come again as they were.
        var list = await stack.Good("run", "list", "--format", "json");
        Assert.Contains("made anew", await stack.Good("keeping", "rebuild"));
        Assert.Equal(list, await stack.Good("run", "list", "--format", "json"));
    }

    [Fact]
    public async Task Where_the_nodes_know_more_than_the_backup_nothing_is_done_before_a_person_has_decided()
    {
        await using var stack = await DemoStack.StartAsync();
        var run = await stack.OpenAsync();
        await stack.Good("run", "start", run);
        await stack.UntilDoneAsync(d => d is { Verb: "install", What: "begun" });
        Assert.Equal((0, ""), await stack.SecondServiceAsync("backup", Backup(stack, "early")));
        await stack.UntilAsync(run, r => (string?)r["status"] == "completed");
        var before = await stack.DeedsAsync();
        await BringBackAsync(stack, Backup(stack, "early"));
        var halted = await stack.UntilAsync(run, r => (string?)r["status"] == "halted");
        // Whichever of the two is seen first: what the nodes were told since, or what runs on them.
        Assert.Matches("changed from outside|knows journal position", (string?)halted["halt"]);
        Assert.Equal(before, await stack.DeedsAsync());
    }

    [Fact]
    public async Task What_is_not_whole_is_not_brought_back()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        var backup = Backup(stack, "b");
        Assert.Equal((0, ""), await stack.SecondServiceAsync("backup", backup));
        var elsewhere = Path.Combine(stack.Work, "elsewhere");
        var database = Path.Combine(backup, "tidestep.db");
        var bytes = await File.ReadAllBytesAsync(database);
        bytes[^100] ^= 1;
        await File.WriteAllBytesAsync(database, bytes);
        var (status, error) = await stack.SecondServiceAsync("restore", backup, "--data", elsewhere);
        Assert.Equal(3, status);
        Assert.Contains("tidestep.db is missing", error);
        Assert.False(Directory.Exists(elsewhere));
        bytes[^100] ^= 1;
        await File.WriteAllBytesAsync(database, bytes);
        Assert.Equal((0, ""), await stack.SecondServiceAsync("restore", backup, "--data", elsewhere));
        // Nor into what is there already.
        Assert.Equal(3, (await stack.SecondServiceAsync("restore", backup, "--data", elsewhere)).Status);
        Assert.Equal(3, (await stack.SecondServiceAsync("restore", stack.Work, "--data", elsewhere + "2")).Status);
        Assert.Equal(3, (await stack.SecondServiceAsync("check", "--data", stack.Work)).Status);
    }
}
