using System.Collections.Immutable;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Core.Checks;

/// <summary>What the library holds of a file.</summary>
/// <param name="Name">The file's name in the library.</param>
/// <param name="Sha256">Its checksum as it was reckoned when it came in, in hexadecimal.</param>
/// <param name="Whole">Whether it is all there, and still is what it was when it came in.</param>
public sealed record HeldArtefact(string Name, long Bytes, string Sha256, bool Whole)
{
    /// <summary>The nodes on which it lies ready, verified there.</summary>
    public ImmutableArray<string> Staged { get; init; } = [];
}

/// <summary>Whether what the plan and its return path need is at hand, whole, and what the catalogue says it
/// is.</summary>
internal static class ArtefactChecks
{
    public static IEnumerable<Finding> Of(Plan plan, CheckContext context) =>
        Held(plan, context).Concat(WithoutChecksum(plan));

    // Without one nobody can say that a file is what its maker published.
    private static IEnumerable<Finding> WithoutChecksum(Plan plan) =>
        plan
            .Artefacts.Where(a => a.Sha256 is null)
            .GroupBy(a => a.File ?? a.Id)
            .Select(g => new Finding(
                "checksum",
                g.Key,
                Level.Caution,
                CheckResult.Failed,
                "the catalogue names no checksum: it is taken as it was given",
                "Enter the one that its maker publishes: sha256.",
                [.. g.SelectMany(a => a.Moves).Distinct().Order()]
            ));

    private static IEnumerable<Finding> Held(Plan plan, CheckContext context)
    {
        if (context.Library is not { } library)
            yield break;
        foreach (var need in plan.Artefacts.GroupBy(a => a.File ?? a.Id))
        {
            var (name, all) = (need.Key, need.ToList());
            var back = all.All(a => a.ForReturn);
            yield return Say(
                back ? "artefact-for-return" : "artefact",
                name,
                [.. all.SelectMany(a => a.Moves).Distinct().Order()],
                Judge(
                    name,
                    all.Select(a => a.Sha256).FirstOrDefault(s => s is not null),
                    all.Select(a => a.Bytes).FirstOrDefault(b => b is not null),
                    library
                ),
                all.Sum(a => a.Nodes.Length)
            );
        }
        // Files that steps send are needed as much, though no jump lists them.
        var listed = plan.Artefacts.Select(a => a.File ?? a.Id).ToHashSet();
        foreach (
            var sent in plan
                .Blocks.SelectMany(b =>
                    b.Lanes.SelectMany(l => l.Steps)
                        .Where(s => s.Do is Catalogue.SendAction)
                        .Select(s => (((Catalogue.SendAction)s.Do).Artefact, b.Move, s.Node))
                )
                .Where(s => !listed.Contains(s.Artefact))
                .GroupBy(s => s.Artefact)
        )
            yield return Say(
                "artefact",
                sent.Key,
                [.. sent.Select(s => s.Move).Distinct().Order()],
                Judge(sent.Key, null, null, library),
                sent.Select(s => s.Node).Distinct().Count()
            );
    }

    private static (bool Holds, string What, string Remedy) Judge(
        string name,
        string? sha256,
        long? bytes,
        IReadOnlyDictionary<string, HeldArtefact> library
    )
    {
        if (!library.TryGetValue(name, out var held))
            return (false, "it is not in the library", $"Add it: tidestep artefact add {name}");
        if (!held.Whole)
            return (false, "it is in the library, but not whole", "Go on with its upload, or add it again.");
        if (sha256 is not null && !held.Sha256.Equals(sha256, StringComparison.OrdinalIgnoreCase))
            return (
                false,
                $"its checksum is {held.Sha256[..12]}…, the catalogue says "
                    + $"{sha256[..Math.Min(12, sha256.Length)]}…: it is not the file that is meant, or was changed",
                "Fetch it again from where its maker publishes it."
            );
        if (bytes is { } length && held.Bytes != length)
            return (
                false,
                $"it has {Units.WriteBytes(held.Bytes)}, the catalogue says {Units.WriteBytes(length)}",
                "Fetch it again from where its maker publishes it."
            );
        return (
            true,
            $"{Units.WriteBytes(held.Bytes)}, "
                + $"whole{(sha256 is null ? "; the catalogue names no checksum" : ", as the catalogue says")}"
                + $"{(held.Staged.IsEmpty ? "" : $"; staged on {held.Staged.Length} nodes")}",
            ""
        );
    }

    private static Finding Say(
        string check,
        string name,
        ImmutableArray<int> moves,
        (bool Holds, string What, string Remedy) judged,
        int nodes
    ) =>
        new(
            check,
            name,
            Level.Blocker,
            judged.Holds ? CheckResult.Passed : CheckResult.Failed,
            judged.What + (judged.Holds ? "" : $" (needed for {nodes} node{(nodes == 1 ? "" : "s")})"),
            judged.Holds ? null : judged.Remedy,
            moves
        );
}
