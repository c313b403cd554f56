using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli;

/// <summary>Shows a return path: where it leads, what it loses, how long it takes, and its parts.</summary>
public static class ReturnScreen
{
    /// <param name="start">The ended run that it would lead back, for the command that starts it; null where a decision
    /// does.</param>
    public static void Show(string? start, ReturnPathView path, Output output)
    {
        if (!path.Open)
        {
            output.Heading("The return path is closed.");
            foreach (var why in path.Why ?? [])
                output.Line($"  {why}");
            return;
        }
        if (path.Blocks is not { Count: > 0 })
        {
            output.Line("Nothing has to be led back.");
            return;
        }
        output.Heading($"{string.Join(", ", path.Goal ?? [])}: about {Durations.Write(path.Length ?? TimeSpan.Zero)}");
        if (path.Loss is { Count: > 0 })
            foreach (var loss in path.Loss)
                output.Line($"loses  {loss}");
        else
            output.Line("Nothing is lost.");
        output.Line();
        for (var i = 0; i < path.Blocks.Count; i++)
            output.Line($"  {i + 1, 3}  {path.Blocks[i]}");
        if (start is null)
            return;
        output.Line();
        output.Line($"Start it: tidestep run return {start} --start --reason ...");
    }
}
