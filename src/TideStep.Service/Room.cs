using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Service;

/// <summary>Whether there is room for what a service writes while it works.</summary>
public static class Room
{
    // The journal of a long run, the write-ahead log at its usual size and some outputs fit into it.
    private const long Least = 64L * 1024 * 1024;

    /// <summary>What is missing of the least room in a folder's file system; null where there is enough.</summary>
    public static Problem? Missing(string folder)
    {
        var free = new DriveInfo(Path.GetFullPath(folder)).AvailableFreeSpace;
        return free >= Least
            ? null
            : new Problem(
                $"the data folder has {Units.WriteBytes(free)} left, {Units.WriteBytes(Least)} are the least that is "
                    + $"worked with: {Units.WriteBytes(Least - free)} short",
                null,
                $"Make room in {folder}."
            );
    }
}
