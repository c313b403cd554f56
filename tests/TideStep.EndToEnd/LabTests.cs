using System.Diagnostics;

namespace TideStep.EndToEnd;

/// <summary>Real hosts over SSH: the lab example is the test; it ends with a status other than 0 when anything is not
/// as it must be.</summary>
public sealed class LabTests
{
    [Fact]
    public async Task Two_real_hosts_with_a_database_are_surveyed_and_every_fault_is_found_by_its_check()
    {
        var (code, output) = await RunAsync("lab-survey.sh");
        Assert.True(code == 0, output);
        Assert.Contains("the lab's survey is done", output);
    }

    [Fact]
    public async Task Three_real_hosts_are_upgraded_returned_and_survive_a_killed_service()
    {
        var (code, output) = await RunAsync("lab-example.sh");
        Assert.True(code == 0, output);
        Assert.Equal(2, output.Split("\"failed\": []").Length - 1);
    }

    [Fact]
    public async Task A_real_database_cluster_is_upgraded_with_a_handover_under_load_and_returned_from_the_middle()
    {
        var (code, output) = await RunAsync("lab-cluster.sh");
        Assert.True(code == 0, output);
        Assert.Equal(2, output.Split("acknowledged rows, none lost").Length - 1);
        Assert.Contains("hands over to", output);
    }

    private static async Task<(int Code, string Output)> RunAsync(string script)
    {
        var at = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(at, "TideStep.slnx")))
            at = Path.GetDirectoryName(at)!;
        var start = new ProcessStartInfo(Path.Combine(at, "scripts", script))
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = at,
        };
        using var lab = Process.Start(start)!;
        var (output, error) = (lab.StandardOutput.ReadToEndAsync(), lab.StandardError.ReadToEndAsync());
        await lab.WaitForExitAsync();
        return (lab.ExitCode, await output + await error);
    }
}
