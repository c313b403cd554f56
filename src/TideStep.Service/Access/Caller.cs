using System.Collections.Immutable;
using TideStep.Core.Access;

namespace TideStep.Service.Access;

/// <summary>Who calls.</summary>
/// <param name="Id">What stays the same of them, whatever they are called.</param>
/// <param name="Name">The name that stands on everything they do. It belongs to one person or program for ever: it is
/// neither changed nor given again, so that two names are two people.</param>
/// <param name="By">Which session or token they use, by its public identifier.</param>
/// <param name="Session">What a browser's calls have to carry besides its cookie; null where no cookie was
/// sent.</param>
public sealed record Caller(
    CallerKind Kind,
    string Id,
    string Name,
    ImmutableArray<Grant> Grants,
    string By,
    string? Session = null
)
{
    /// <summary>Who has the local key, once there are people: whatever name is typed, it is one.</summary>
    public const string LocalId = "local",
        LocalName = "local administrator";
}
