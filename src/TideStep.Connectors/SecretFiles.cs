using System.Collections.Immutable;
using System.Text.RegularExpressions;

namespace TideStep.Connectors;

/// <summary>Secrets of commands: each stands in its arguments as <c>{secret.NAME}</c> and lies for its time in a
/// memory-backed file of the attempt's own, never in a plan, a journal or a list of processes.</summary>
internal static partial class SecretFiles
{
    /// <summary>The folder of an attempt's secrets on the far side; it is in memory and taken away with the attempt's
    /// end.</summary>
    public static string FolderOf(string attempt) => $"/dev/shm/tidestep-{attempt}";

    /// <summary>The arguments with the places of the secrets in them, and the names of those.</summary>
    public static (ImmutableArray<string> Arguments, ImmutableArray<string> Names) Placed(
        ImmutableArray<string> arguments,
        string attempt
    )
    {
        var names = ImmutableArray.CreateBuilder<string>();
        return (
            [
                .. arguments.Select(a =>
                    Reference()
                        .Replace(a, m =>
                        {
                            if (!names.Contains(m.Groups[1].Value))
                                names.Add(m.Groups[1].Value);
                            return $"{FolderOf(attempt)}/{m.Groups[1].Value}";
                        })
                ),
            ],
            names.ToImmutable()
        );
    }

    [GeneratedRegex(@"\{secret\.([A-Za-z0-9_][A-Za-z0-9_.-]{0,99})\}")]
    private static partial Regex Reference();
}
