using System.Collections.Immutable;
using System.Text.Json.Serialization;

namespace TideStep.Core.Documents;

/// <summary>A place in a document; line and column count from 1.</summary>
public sealed record Place(string File, int Line, int Column)
{
    /// <summary>Whether somebody else was first.</summary>
    [JsonIgnore]
    public bool Conflict { get; init; }

    public override string ToString() => $"{File}:{Line}:{Column}";
}

/// <summary>An error that a user can cause: what is wrong, what it means, what to do, and where.</summary>
public sealed record Problem(string What, string? Detail = null, string? Hint = null, Place? At = null)
{
    /// <summary>Whether what was asked for is not there at all, rather than refused.</summary>
    [JsonIgnore]
    public bool Absent { get; init; }

    /// <summary>Whether somebody else was first.</summary>
    [JsonIgnore]
    public bool Conflict { get; init; }

    public override string ToString() =>
        (At is null ? "" : $"{At}: ")
        + What
        + (Detail is null ? "" : $" ({Detail})")
        + (Hint is null ? "" : $" — {Hint}");
}

/// <summary>A value or the problems that stand in its way, all of them at once.</summary>
public sealed record Checked<T>(T? Value, ImmutableArray<Problem> Problems)
    where T : class
{
    public bool Ok => Value is not null && Problems.IsEmpty;
}
