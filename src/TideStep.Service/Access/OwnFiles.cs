using System.Runtime.InteropServices;

namespace TideStep.Service.Access;

/// <summary>The data folder is its owner's alone: 0700, and what is made in it 0600 (11-access, The service towards the
/// world).</summary>
public static class OwnFiles
{
    private const UnixFileMode Others =
        UnixFileMode.GroupRead
        | UnixFileMode.GroupWrite
        | UnixFileMode.GroupExecute
        | UnixFileMode.OtherRead
        | UnixFileMode.OtherWrite
        | UnixFileMode.OtherExecute;

    /// <summary>Makes the folder where it is not there, and takes from all others what they may do with it and what
    /// lies in it; what this process makes from now on is its owner's alone.</summary>
    /// <exception cref="UnauthorizedAccessException">The folder is somebody else's.</exception>
    public static void Begin(string data)
    {
        _ = SetMask((uint)Others);
        Directory.CreateDirectory(data);
        Close(new DirectoryInfo(data));
        foreach (var entry in new DirectoryInfo(data).EnumerateFileSystemInfos("*", SearchOption.AllDirectories))
            Close(entry);
    }

    // What a link leads to is not ours to change.
    private static void Close(FileSystemInfo entry)
    {
        if (entry.LinkTarget is null && (entry.UnixFileMode & Others) != 0)
            entry.UnixFileMode &= ~Others;
    }

    [DllImport("libc", EntryPoint = "umask")]
    [DefaultDllImportSearchPaths(DllImportSearchPath.SafeDirectories)]
    private static extern uint SetMask(uint mask);
}
