namespace TideStep.Engine;

/// <summary>What an installation sets of the engine.</summary>
/// <param name="Pace">By how much the plan's settle times and limits are divided; 1 but for demonstrations and tests
/// against stand-ins.</param>
/// <param name="Poll">How often a reading that must come true is taken again.</param>
/// <param name="ReadAtOnce">How many nodes are read side by side.</param>
/// <param name="Artefacts">The folder that holds artefacts by their identifiers.</param>
public sealed record EngineSettings(double Pace, TimeSpan Poll, int ReadAtOnce, string Artefacts)
{
    /// <summary>Whether runs watch their own time: whether they are late, and when the turn-back time is
    /// near.</summary>
    public bool WatchesTime { get; init; } = true;

    /// <summary>How long a survey waits for one member before it goes on without it.</summary>
    public TimeSpan NodeLimit { get; init; } = TimeSpan.FromSeconds(30);

    /// <summary>How long a node may stay out of contact, where nothing says it restarts, before that is a
    /// failure.</summary>
    public static readonly TimeSpan ContactPatience = TimeSpan.FromMinutes(15);

    private static readonly TimeSpan LeastLimit = TimeSpan.FromSeconds(5);

    /// <summary>A span of the plan in real time.</summary>
    public TimeSpan Real(TimeSpan span) => span / Pace;

    /// <summary>A limit in real time: a fast pace shortens the work, not what this machine itself needs to notice its
    /// end.</summary>
    public TimeSpan RealLimit(TimeSpan limit) =>
        Real(limit) is var real && real >= LeastLimit ? real
        : limit < LeastLimit ? limit
        : LeastLimit;
}
