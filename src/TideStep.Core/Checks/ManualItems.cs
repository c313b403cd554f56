using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Plans;

namespace TideStep.Core.Checks;

/// <summary>A person's word that a manual prerequisite is done, with what proves it.</summary>
/// <param name="Item">Which one, by <see cref="ManualItem.Key"/>.</param>
public sealed record SignedItem(string Item, string By, DateTimeOffset At, string Evidence)
{
    /// <summary>A file that shows it; null where words were enough.</summary>
    public EvidenceFile? File { get; init; }

    /// <summary>The run that it was used for; a later run needs another signature. Null until one starts.</summary>
    public string? Run { get; init; }
}

/// <summary>A file kept as evidence, found again by its checksum (SHA-256 in hexadecimal).</summary>
public sealed record EvidenceFile(string Name, long Bytes, string Sha256)
{
    /// <summary>What was said with it, and the file that shows it.</summary>
    public static string Beside(string evidence, EvidenceFile? file) =>
        file is null ? evidence : $"{evidence}; with {file.Name}";
}

/// <summary>Something that people have to have done before a run starts.</summary>
/// <param name="Title">What, in words.</param>
/// <param name="For">The components it is done for, with the versions they go to: another upgrade asks anew.</param>
/// <param name="Due">By when: the beginning of the window of its first move, or as long before it as the catalogue
/// asks; null where the plan has none.</param>
public sealed record ManualItem(
    string Title,
    ImmutableArray<string> For,
    ImmutableArray<int> Moves,
    DateTimeOffset? Due
)
{
    /// <summary>How it is done, where the catalogue says more than its title.</summary>
    public string? Instructions { get; init; }

    /// <summary>Whose it is; null where nobody is named.</summary>
    public string? Owner { get; init; }

    /// <summary>The name under which it is signed.</summary>
    public string Key => $"{Title} ({string.Join(", ", For)})";

    /// <summary>The manual prerequisites of a plan: its tasks before the window, each once.</summary>
    public static ImmutableArray<ManualItem> Of(Plan plan) =>
        [
            .. plan
                .Tasks.Where(t => t.When == TaskTime.Before)
                .GroupBy(t => t.Title)
                .Select(g =>
                {
                    var first = g.Min(t => t.Move);
                    string To(PlannedTask task) =>
                        plan.Moves[task.Move - 1].Jumps.Last(j => j.Component == task.Component).To;
                    return new ManualItem(
                        g.Key,
                        [.. g.Select(t => $"{t.Component} to {To(t)}").Distinct()],
                        [.. g.Select(t => t.Move).Distinct().Order()],
                        plan.Windows.FirstOrDefault(w => w.FirstMove <= first && first <= w.LastMove)?.From
                            - g.Max(t => t.Ahead ?? TimeSpan.Zero)
                    )
                    {
                        Instructions = g.Select(t => t.Instructions).FirstOrDefault(i => i is not null),
                        Owner = g.Select(t => t.Owner).FirstOrDefault(o => o is not null),
                    };
                }),
        ];
}
