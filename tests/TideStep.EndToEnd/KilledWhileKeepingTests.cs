using System.Diagnostics;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.EndToEnd;

/// <summary>What writes for long is ended with SIGKILL in the middle of it: a backup, an upload, the taking away of
/// what has had its time. Nothing of what is kept is harmed by it, and the next try comes to its end.</summary>
public sealed class KilledWhileKeepingTests
{
    private static async Task KillAsync(Process process, TimeSpan after)
    {
        await Task.Delay(after);
        process.Kill();
        await process.WaitForExitAsync();
    }

    [Fact]
    public async Task A_backup_is_whole_or_it_is_none()
    {
        await using var stack = await DemoStack.StartAsync();
        var run = await stack.OpenAsync();
        await stack.Good("run", "start", run, "--follow");
        var (halves, wholes) = (0, 0);
        for (var i = 0; halves == 0 || i < 6; i++)
        {
            var (backup, elsewhere) = (Path.Combine(stack.Work, $"b{i}"), Path.Combine(stack.Work, $"e{i}"));
            using var writing = stack.Begin("Service", "tidestep-service", "backup", backup);
            // Once it has begun to write: at another moment each time.
            while (!writing.HasExited && !Directory.Exists(backup))
                await Task.Delay(1);
            await KillAsync(writing, TimeSpan.FromMilliseconds(i * 12 % 60));
            Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
            var whole = File.Exists(Path.Combine(backup, "backup.json"));
            (halves, wholes) = (halves + (whole ? 0 : 1), wholes + (whole ? 1 : 0));
            var (status, error) = await stack.SecondServiceAsync("restore", backup, "--data", elsewhere);
            Assert.Equal(whole ? 0 : 3, status);
            if (whole)
                Assert.Equal((0, ""), await stack.SecondServiceAsync("check", "--data", elsewhere));
            else
                Assert.Contains("is no backup", error);
            Assert.True(i < 40, $"{halves} were ended in the middle, {wholes} came to their end");
        }
    }

    [Fact]
    public async Task An_upload_is_taken_up_after_the_service_was_ended()
    {
        await using var stack = await DemoStack.StartAsync(tiny: true);
        var file = Path.Combine(stack.Work, "large.img");
        var bytes = RandomNumberGenerator.GetBytes(96 * 1024 * 1024);
        await File.WriteAllBytesAsync(file, bytes);
        var parts = Path.Combine(stack.Work, "data", "artefacts", ".parts");
        using var sending = stack.Begin("Cli", "tidestep", "artefact", "add", file);
        while (!sending.HasExited && !(Directory.Exists(parts) && Directory.EnumerateFiles(parts).Any(Begun)))
            await Task.Delay(1);
        await stack.KillServiceAsync();
        Assert.False(sending.HasExited, "it was sent before the service was ended");
        sending.Kill();
        await sending.WaitForExitAsync();
        await stack.StartServiceAsync();
        Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
        await stack.Good("artefact", "add", file);
        var list = await stack.Service.GetStringAsync("/api/artefacts");
        Assert.Contains(Convert.ToHexStringLower(SHA256.HashData(bytes)), list);
        Assert.DoesNotContain(Directory.EnumerateFiles(parts), Begun);
    }

    private static bool Begun(string file) => new FileInfo(file) is { Exists: true, Length: > 1024 * 1024 };

    [Fact]
    public async Task What_has_had_its_time_is_taken_away_whenever_it_was_ended()
    {
        await using var stack = await DemoStack.StartAsync();
        var run = await stack.OpenAsync();
        await stack.Good("run", "start", run, "--follow");
        for (var i = 0; i < 3; i++)
            await stack.Good("survey", "take");
        var list = await stack.Good("run", "list", "--format", "json");
        await stack.KillServiceAsync();
        var later = TimeSpan.FromDays(400);
        for (var i = 0; i < 5; i++)
        {
            await stack.StartServiceAsync(later: later, ready: false);
            await Task.Delay(TimeSpan.FromMilliseconds(700 + i * 150));
            await stack.KillServiceAsync();
            Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
        }
        await stack.StartServiceAsync(later: later);
        for (var until = DateTime.UtcNow.AddMinutes(1); ; await Task.Delay(50))
            if ((await stack.Service.GetFromJsonAsync<JsonArray>("/api/surveys"))!.Count == 1)
                break;
            else if (DateTime.UtcNow > until)
                throw new TimeoutException("what has had its time is still there");
        Assert.Equal((0, ""), await stack.SecondServiceAsync("check"));
        Assert.Equal(list, await stack.Good("run", "list", "--format", "json"));
    }
}
