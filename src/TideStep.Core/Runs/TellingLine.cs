namespace TideStep.Core.Runs;

/// <summary>The line of a command's output that says most about why it failed: one with an error of the system (errno,
/// as strerror(3) words it), else the last.</summary>
public static class TellingLine
{
    private static readonly string[] SystemErrors =
    [
        "No space left on device",
        "Disk quota exceeded",
        "Read-only file system",
        "Permission denied",
        "Operation not permitted",
        "Input/output error",
        "Cannot allocate memory",
        "Too many open files",
        "No such file or directory",
        "Connection refused",
        "Connection timed out",
        "Connection reset by peer",
        "No route to host",
        "Network is unreachable",
        "Device or resource busy",
        "Text file busy",
    ];

    /// <summary>How many of the last lines are looked at.</summary>
    private const int Among = 40;

    public static string Of(string output)
    {
        var lines = output.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        if (lines.Length == 0)
            return "no output";
        return
            lines
                .TakeLast(Among)
                .LastOrDefault(l => SystemErrors.Any(e => l.Contains(e, StringComparison.OrdinalIgnoreCase)))
                is { } telling
            && telling != lines[^1]
            ? $"{telling} ({lines[^1]})"
            : lines[^1];
    }
}
