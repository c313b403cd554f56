using System.Collections.Immutable;
using System.Text.Json.Serialization;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>How far one step is.</summary>
public enum StepStatus
{
    Pending,
    Working,
    Done,
    Failed,
}

/// <summary>Something that waits for a person.</summary>
/// <param name="Undo">Whether the step's measure is to be taken back, not the step to be done.</param>
/// <param name="Since">Since when it waits.</param>
public sealed record AwaitedPerson(PlanStep Step, bool Undo, DateTimeOffset? Since)
{
    /// <summary>What is to be done, in words.</summary>
    public string Title => Undo ? $"take back: {Step.Title}" : Step.Title;

    /// <summary>How it is done.</summary>
    public string Instructions => ((Catalogue.PersonAction)(Undo ? Step.Undo! : Step.Do)).Instructions;
}

/// <summary>One try at a step.</summary>
public sealed record AttemptState(
    string Id,
    int Number,
    DateTimeOffset Begun,
    long Sequence,
    bool Undo,
    DateTimeOffset? EndedAt,
    AttemptEnd? End,
    int? ExitCode,
    string Output,
    bool Overdue
)
{
    /// <summary>The parts of its step that it has come to, each with when that was seen.</summary>
    public ImmutableArray<(int Number, DateTimeOffset At)> Milestones { get; init; } = [];
}

/// <summary>A step's progress, as its events tell it.</summary>
public sealed record StepState(
    StepStatus Status,
    DateTimeOffset? Begun,
    DateTimeOffset? EndedAt,
    DoneHow? How,
    string? Why,
    ImmutableArray<AttemptState> Attempts
)
{
    /// <summary>How many of the attempts a decision has dealt with: they count for no limit any more.</summary>
    public int DealtWith { get; init; }

    /// <summary>Whether a person said that it is done; it still has to pass its verification.</summary>
    public bool Marked { get; init; }

    public static readonly StepState Pending = new(StepStatus.Pending, null, null, null, null, []);

    /// <summary>The attempt that has an intent and no known end, or null.</summary>
    public AttemptState? Open => Attempts.LastOrDefault(a => a.End is null);
}

/// <summary>A captured rollback point as the run knows it.</summary>
public sealed record PointState(
    PlannedPoint Planned,
    string Place,
    long Bytes,
    string Sha256,
    int Entries,
    DateTimeOffset CapturedAt,
    string Step,
    string? Verified,
    string? State
)
{
    public const string Usable = "usable";
    public const string Used = "used";
    public const string Expired = "expired";
    public const string Void = "void";
    public const string GivingUp = "giving up";
    public const string GivenUp = "given up";

    /// <summary>What made it what it is: the step that voided it, the run that used it, who gave it up.</summary>
    public string? Why { get; init; }

    /// <summary>Whether it can lead back: it is whole, and nothing has made it useless.</summary>
    [JsonIgnore]
    public bool LeadsBack => State is Usable or Used;
}
