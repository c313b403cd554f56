using System.Diagnostics;

namespace TideStep.EndToEnd;

/// <summary>Real hosts over SSH: the lab example is the test; it ends with a status other than 0 when anything is not as it must be.</summary>
public sealed class LabTests
{
    [Fact]
    public async Task Three_real_hosts_are_upgraded_returned_and_survive_a_killed_service()
    {
        var at = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(at, "TideStep.slnx"))) at = Path.GetDirectoryName(at)!;
        var start = new ProcessStartInfo(Path.Combine(at, "scripts", "lab-example.sh")) { RedirectStandardOutput = true, RedirectStandardError = true, WorkingDirectory = at };
        using var lab = Process.Start(start)!;
        var (output, error) = (lab.StandardOutput.ReadToEndAsync(), lab.StandardError.ReadToEndAsync());
        await lab.WaitForExitAsync();
        Assert.True(lab.ExitCode == 0, await output + await error);
        Assert.Equal(2, (await output).Split("\"failed\": []").Length - 1);
    }
}
