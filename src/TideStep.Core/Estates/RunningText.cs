namespace TideStep.Core.Estates;

/// <summary>What a member runs as readings and a run's entries write it: a version's label, or one of the words
/// here.</summary>
public static class RunningText
{
    /// <summary>It runs nothing (10-formats, readings).</summary>
    public const string Nothing = "none";

    /// <summary>Nobody could tell, for its node did not answer.</summary>
    public const string Unreachable = "unreachable";

    /// <summary>Whether the text is a version's label.</summary>
    public static bool IsVersion(string text) => text is not (Nothing or Unreachable);
}
