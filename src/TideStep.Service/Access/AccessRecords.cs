using System.Collections.Immutable;
using System.Text.Json.Serialization;
using TideStep.Core.Access;

namespace TideStep.Service.Access;

/// <summary>A person as kept.</summary>
/// <param name="Password">The hash that the framework's hasher made; null until they chose a password.</param>
/// <param name="Stamp">Raised with every change that ends their sessions.</param>
public sealed record Person(
    string Id,
    string Name,
    ImmutableArray<Grant> Roles,
    string? Password,
    long Stamp,
    DateTimeOffset MadeAt,
    string MadeBy
)
{
    public DateTimeOffset? RemovedAt { get; init; }

    /// <summary>Whether the row is not what was written: they don't come in until it is put right.</summary>
    [JsonIgnore]
    public bool SetAside { get; init; }

    /// <summary>The hash of an invitation, with which they choose a password once; null where none is open.</summary>
    public string? Invitation { get; init; }
    public DateTimeOffset? InvitedUntil { get; init; }
}

/// <summary>A program's token as kept; it is found by the hash of what the program shows.</summary>
/// <param name="LastDay">The last day on which it counts, UTC.</param>
public sealed record ProgramToken(
    string Id,
    string Name,
    ImmutableArray<Grant> Roles,
    DateOnly LastDay,
    DateTimeOffset MadeAt,
    string MadeBy
)
{
    public DateTimeOffset? UsedAt { get; init; }
    public DateTimeOffset? RevokedAt { get; init; }

    /// <summary>Under which hash it is kept.</summary>
    [JsonIgnore]
    public string Hash { get; init; } = "";
}

/// <summary>A session as kept; it is found by the hash of what the browser or the command line shows.</summary>
/// <param name="Person">Whose; of whoever has the local key where it is <see cref="Caller.LocalId"/>.</param>
/// <param name="Stamp">The person's when it began.</param>
public sealed record Session(
    string Id,
    string Person,
    long Stamp,
    DateTimeOffset BeganAt,
    DateTimeOffset SeenAt,
    string From
);
