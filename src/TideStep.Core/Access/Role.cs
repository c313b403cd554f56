using System.Collections.Immutable;

namespace TideStep.Core.Access;

/// <summary>What somebody may do (11-access, Roles). A role gives what it says and no more.</summary>
public enum Role
{
    /// <summary>See everything that is neither secret nor the record.</summary>
    Look,

    /// <summary>Survey, and run checks.</summary>
    Survey,

    /// <summary>Look for paths, make plans, rehearse them, accept findings.</summary>
    Plan,

    /// <summary>Open, start, hold and decide runs, do people's steps, give points up.</summary>
    Run,

    /// <summary>Sign off, and say a second word.</summary>
    Sign,

    /// <summary>Documents, artefacts, secrets, connectors.</summary>
    Keep,

    /// <summary>People, tokens, settings, the record.</summary>
    Administer,
}

/// <summary>A role that somebody has.</summary>
/// <param name="Estate">The estate it is for; every one where null.</param>
public sealed record Grant(Role Role, string? Estate = null)
{
    /// <summary>Whether it counts in an estate.</summary>
    /// <param name="estate">The estate's identifier; null where there is none yet, or it is about none.</param>
    public bool CountsIn(string? estate) => Estate is null || Estate == estate;

    public override string ToString() => Estate is null ? Role.Word() : $"{Role.Word()}@{Estate}";
}

/// <summary>Roles as people write them: <c>run</c>, or <c>run@ESTATE</c> where it is for one estate.</summary>
public static class Grants
{
    /// <summary>All roles, everywhere.</summary>
    public static readonly ImmutableArray<Grant> All = [.. Enum.GetValues<Role>().Select(r => new Grant(r))];

    public static string Word(this Role role) => role.ToString().ToLowerInvariant();

    public static string Words(IEnumerable<Grant> grants) => string.Join(", ", grants);

    /// <summary>Whether one of them gives a role in an estate.</summary>
    public static bool Give(this IEnumerable<Grant> grants, Role role, string? estate) =>
        grants.Any(g => g.Role == role && g.CountsIn(estate));

    /// <summary>Reads one; null where the text is none.</summary>
    public static Grant? TryParse(string text)
    {
        var parts = text.Split('@', 2);
        return
            Enum.GetValues<Role>().Cast<Role?>().FirstOrDefault(r => r!.Value.Word() == parts[0]) is { } role
            && parts is [_] or [_, { Length: > 0 }]
            ? new Grant(role, parts.Length == 2 ? parts[1] : null)
            : null;
    }
}
