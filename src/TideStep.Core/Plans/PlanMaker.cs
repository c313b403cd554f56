using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Waves;

namespace TideStep.Core.Plans;

/// <summary>Works a path out into a plan: phases, waves, steps, times, rollback points and the return path after each
/// block.</summary>
public static class PlanMaker
{
    /// <summary>How far ahead windows are looked for.</summary>
    private const int DaysAhead = 370;

    // A resting place: every component steady and no pair that is only tolerated. Measures of a member are taken back
    // before its wave ends.
    private static string? Resting(EstateIndex index, PathAnswer path, int move)
    {
        if (!path.Moves[move - 1].Transitional.IsEmpty)
            return null;
        var settled = path.Moves.Take(move).SelectMany(m => m.Jumps).Select(j => j.Component).ToHashSet();
        var mixed = index.Components.Any(c =>
            !settled.Contains(c.Id)
            && c.Members.Select(m => index.Readings.Of(m).Running).OfType<string>().Distinct().Count() > 1
        );
        return mixed ? null : "every component is steady and every pair supported";
    }

    /// <summary>The plan of a path that was found.</summary>
    /// <param name="index">The estate, its readings and the catalogue.</param>
    /// <param name="path">The path.</param>
    /// <param name="estateRevision">The digest of the estate's document, a premise.</param>
    /// <param name="catalogueRevision">The digest of the catalogue's documents, a premise.</param>
    /// <param name="learnt">What steps took in earlier runs.</param>
    /// <param name="inWindows">Whether the plan keeps to the estate's windows, where it has any.</param>
    public static Checked<Plan> Make(
        EstateIndex index,
        PathAnswer path,
        string estateRevision,
        string catalogueRevision,
        bool inWindows = true,
        Learnt.LearntTimes? learnt = null
    )
    {
        var findings = new Findings();
        var asked = PlanNeeds.Answers(path, findings);
        var maker = new MoveMaker(
            index,
            path,
            asked.ToDictionary(a => a.Id, a => a.Answer),
            findings,
            learnt ?? Learnt.LearntTimes.None
        );
        maker.Early(path.Moves, path.Asked.Early);
        for (var i = 0; i < path.Moves.Length; i++)
            maker.Add(i + 1, path.Moves[i]);
        var (blocks, windows) = (maker.Blocks.ToImmutableArray(), ImmutableArray<PlanWindow>.Empty);
        var zone = TimeZoneInfo.FindSystemTimeZoneById(index.Estate.Zone);
        var freezes = WindowCalendar.Freezes(index.Estate.Freezes, zone, path.Day).ToImmutableArray();
        if (inWindows && !index.Estate.Windows.IsEmpty && maker.Blocks.Count > 0 && !findings.Any)
        {
            // A window that a freeze reaches into is not used, not even the part before it: the way back might need the
            // rest.
            var (open, frozen) = (
                new List<(string Name, DateTimeOffset From, DateTimeOffset To)>(),
                new List<(DateTimeOffset From, string Said)>()
            );
            foreach (var window in WindowCalendar.After(index.Estate.Windows, zone, path.Day, DaysAhead))
                if (freezes.FirstOrDefault(f => f.From < window.To && window.From < f.To) is { } freeze)
                    frozen.Add(
                        (
                            window.From,
                            $"window {window.Name} of {window.From:yyyy-MM-dd} is not used: freeze "
                                + $"{freeze.Name}{(freeze.Why is null ? "" : $", {freeze.Why}")}"
                        )
                    );
                else
                    open.Add(window);
            (blocks, windows) = Schedule.Fit(
                maker.Blocks,
                maker.Back,
                move => Resting(index, path, move),
                open,
                findings
            );
            if (!windows.IsEmpty)
                maker.Notes.AddRange(frozen.Where(f => f.From < windows[^1].To).Select(f => f.Said));
        }
        var premises = new Premises(
            estateRevision,
            catalogueRevision,
            index
                .Components.Where(c => maker.Touched.Contains(c.Id))
                .SelectMany(c => c.Members)
                .ToImmutableSortedDictionary(
                    m => m.Id,
                    m => index.Readings.Of(m).Running ?? RunningText.Nothing,
                    StringComparer.Ordinal
                )
        );
        var plan = new Plan(
            Plan.Upgrade,
            null,
            index.Estate.Id,
            path.Day,
            [.. path.Goal.Select(g => $"{g.Component} {g.From} to {g.To}")],
            premises,
            Planned(index, path),
            [.. maker.Points],
            blocks,
            Length(maker.Blocks),
            [.. path.Notes, .. maker.Notes, .. PlanNeeds.Strays(path)]
        )
        {
            Windows = windows,
            Freezes = freezes,
            Answers = asked,
            Artefacts = PlanNeeds.Artefacts(index, path, findings),
            Tasks = PlanNeeds.Tasks(index, path),
            Asks = PlanNeeds.Asks(index, path, blocks),
            SignOffs = PlannedSignOff.Of(index.Estate, blocks, move => path.Moves[move - 1].Jumps.Select(j => j.Jump)),
            Rehearsal = index.Estate.Rehearsal,
            AllowsUntested = path.Asked.AllowUntested,
            Allowed = path.Asked.Allowed,
            Pairs = path.Pairs,
            Unrelated = path.Unrelated,
        };
        return new Checked<Plan>(findings.Any ? null : plan, findings.All);
    }

    /// <summary>How long blocks take one after another.</summary>
    internal static TimeSpan Length(IEnumerable<Block> blocks) =>
        blocks.Aggregate(TimeSpan.Zero, (sum, b) => sum + b.Expected + b.Settle);

    /// <summary>A path's moves as a plan lists them.</summary>
    internal static ImmutableArray<PlannedMove> Planned(EstateIndex index, PathAnswer path) =>
        [
            .. path.Moves.Select(
                (move, at) =>
                {
                    ImmutableArray<PlannedJump> jumps =
                    [
                        .. move.Jumps.Select(j => new PlannedJump(
                            j.Component,
                            index.Estate.Find(j.Component)!.Product,
                            j.From.Label,
                            j.To.Label,
                            j.Jump.Id,
                            j.Method
                        )),
                    ];
                    var first = jumps[0];
                    return new PlannedMove(
                        at + 1,
                        first.Component,
                        first.Product,
                        first.From,
                        first.To,
                        first.Jump,
                        first.Method,
                        move.Takes,
                        move.OutageTime,
                        move.Out,
                        move.Waves?.Waves.Length ?? Rounds(move),
                        move.Waves?.LowerBound ?? Rounds(move),
                        [.. move.Transitional.Select(t => $"{t.Component} {t.Version} with {t.With} {t.At}")]
                    )
                    {
                        Jumps = jumps,
                        WhyOut = move.WhyOut,
                        Converts = [.. move.Jumps.SelectMany(j => j.Jump.Converts.Select(c => $"{j.Component}: {c}"))],
                    };
                }
            ),
        ];

    // Replaced one after another, as many at once as there are spare members.
    private static int Rounds(Move move)
    {
        var figures = move.Jumps[0].Jump.By(move.Method)!;
        var each = figures.Member + figures.Settle;
        return move.Method == Method.Replace && each > TimeSpan.Zero ? (int)Math.Round(move.Takes / each) : 1;
    }
}
