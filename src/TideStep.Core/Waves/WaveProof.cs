using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>What one wave does to one component that loses members in it: the numbers that show that its guard
/// holds.</summary>
/// <param name="Of">Members that count for this guard: all, or the voting ones under a quorum.</param>
/// <param name="OutBefore">Those of them that are out of service anyway.</param>
/// <param name="GoOut">Those that the wave takes out.</param>
/// <param name="Left">Those that stay in service: never fewer than <paramref name="Keeps"/>.</param>
/// <param name="Keeps">How many must stay.</param>
/// <param name="By">quorum, guard or at-once: what asks for it.</param>
public sealed record GuardLine(
    int Wave,
    string Component,
    int Of,
    int OutBefore,
    int GoOut,
    int Left,
    int Keeps,
    string By
);

/// <summary>The proof that no wave breaks a guard, written by the planner and verified by <see cref="WaveChecker"/>,
/// which shares nothing with it.</summary>
public sealed record WaveProof(ImmutableArray<GuardLine> Lines)
{
    /// <summary>The proof of waves: a line for every wave, component and guard concerned.</summary>
    public static WaveProof Of(EstateIndex index, WavePlan plan)
    {
        var lines = ImmutableArray.CreateBuilder<GuardLine>();
        for (var w = 0; w < plan.Waves.Length; w++)
            foreach (
                var group in plan.Waves[w]
                    .Members.Concat(plan.Waves[w].AlsoOut)
                    .GroupBy(m => m.Component)
                    .OrderBy(g => g.Key, StringComparer.Ordinal)
            )
            {
                var number = index.NumberOf(group.Key);
                var c = index.Components[number];
                var leaving = group.Where(m => !index.IsOut(m)).ToList();
                if (leaving.Count == 0)
                    continue; // all of these are out already
                if (c.Guard.Quorum && leaving.Any(m => index.Votes(number, m)))
                    lines.Add(
                        Line(
                            w,
                            c,
                            [.. c.Members.Where(m => index.Votes(number, m))],
                            [.. leaving.Where(m => index.Votes(number, m))],
                            Service.GuardOf(index, number),
                            "quorum",
                            index
                        )
                    );
                else if (!c.Guard.Quorum && Service.GuardOf(index, number) is > 0 and var guard)
                    lines.Add(Line(w, c, c.Members, leaving, guard, "guard", index));
                lines.Add(
                    Line(w, c, c.Members, leaving, Math.Max(0, c.Members.Length - c.Guard.AtOnce), "at-once", index)
                );
            }
        return new WaveProof(lines.ToImmutable());
    }

    private static GuardLine Line(
        int wave,
        Component c,
        ImmutableArray<Member> all,
        List<Member> leaving,
        int keeps,
        string by,
        EstateIndex index
    )
    {
        var before = all.Count(index.IsOut);
        return new GuardLine(
            wave + 1,
            c.Id,
            all.Length,
            before,
            leaving.Count,
            all.Length - before - leaving.Count,
            keeps,
            by
        );
    }
}
