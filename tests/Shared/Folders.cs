using System.Diagnostics;

namespace TideStep.Tests;

/// <summary>Folders of tests in which programs that were started there may still write their last line.</summary>
public static class Folders
{
    /// <summary>Removes a folder with everything in it; what is written into it meanwhile goes too, for 10 s at
    /// most.</summary>
    /// <exception cref="IOException">Something goes on writing there.</exception>
    public static void Remove(string folder)
    {
        var since = Stopwatch.StartNew();
        while (Directory.Exists(folder))
            try
            {
                Directory.Delete(folder, recursive: true);
            }
            catch (IOException) when (since.Elapsed < TimeSpan.FromSeconds(10))
            {
                Thread.Sleep(20);
            }
    }
}
