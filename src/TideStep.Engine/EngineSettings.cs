namespace TideStep.Engine;

/// <summary>What an installation sets of the engine.</summary>
/// <param name="Pace">By how much the plan's settle times and limits are divided; 1 but for demonstrations and tests against stand-ins.</param>
/// <param name="Poll">How often a reading that must come true is taken again.</param>
/// <param name="ReadAtOnce">How many nodes are read side by side.</param>
/// <param name="Artefacts">The folder that holds artefacts by their identifiers.</param>
public sealed record EngineSettings(double Pace, TimeSpan Poll, int ReadAtOnce, string Artefacts)
{
    /// <summary>A span of the plan in real time.</summary>
    public TimeSpan Real(TimeSpan span) => span / Pace;
}
