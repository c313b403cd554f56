using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Rehearsals;

/// <summary>Carries a plan out against stand-ins many times over, in simulated time, and says how its end
/// spreads.</summary>
public static class Rehearsing
{
    private const int Named = 6;

    /// <summary>What is wrong with a wish; null where nothing is.</summary>
    public static Problem? WrongOf(RehearsalWish wish, Plan plan)
    {
        if (wish.Draws is < 1 or > RehearsalWish.MostDraws)
            return new Problem($"a rehearsal has 1 to {RehearsalWish.MostDraws} draws", null, "Two hundred tell most.");
        if (wish.FailsPerThousand is < 0 or > 1000 || double.IsNaN(wish.FailsPerThousand))
            return new Problem("of a thousand steps 0 to 1000 fail", null, "Give another number.");
        if (wish.Person < TimeSpan.Zero)
            return new Problem("a person takes no time below nought", null, "Give another time.");
        foreach (var fault in wish.Faults)
        {
            if (fault.Fails is < 0 or > 100 || fault.Longer is not (>= 0 and <= 1000))
                return new Problem(
                    $"the fault of '{fault.Step}' is none that can be drawn",
                    null,
                    "A step fails 0 to 100 times, and takes up to 1000 times as long."
                );
            var steps = plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).ToList();
            if (!steps.Any(s => s.Name == fault.Step || s.Id.Contains(fault.Step, StringComparison.Ordinal)))
                return new Problem(
                    $"no step of the plan is called '{fault.Step}'",
                    null,
                    Nearest.Hint(fault.Step, steps.Select(s => s.Name).Distinct())
                );
        }
        return null;
    }

    public static RehearsalResult Of(Plan plan, Estate estate, RehearsalWish wish, Func<bool>? stopped = null)
    {
        var spreads = SpreadsOf(plan);
        var draws = new List<Draw>();
        for (var i = 0; i < wish.Draws && stopped?.Invoke() != true; i++)
        {
            var draw = new Draw(plan, estate, wish, wish.Seed * 1_000_003 + (ulong)i, spreads);
            draw.Run();
            draws.Add(draw);
        }
        var took = draws.Select(d => d.Took).OfType<TimeSpan>().Select(t => t.TotalSeconds).ToList();
        var times =
            took.Count > 0
                ? Learnt.LearntTimes.Of(took)
                : new Learnt.LearntTime(0, TimeSpan.Zero, TimeSpan.Zero, TimeSpan.Zero);
        var windows = plan
            .Windows.Select(
                (w, i) =>
                    new WindowChance(
                        w.Name,
                        w.To,
                        Share(
                            draws.Count(d =>
                                d.WindowsOver.TryGetValue(i, out var over) && over <= w.To && EndedIn(d, plan, i)
                            ),
                            draws.Count
                        )
                    )
            )
            .ToImmutableArray();
        var all = plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).ToList();
        var whole = all.Sum(s => spreads[s.Id].Median);
        return new RehearsalResult(
            plan.Digest,
            wish,
            plan.Expected,
            times.Low,
            times.Median,
            times.High,
            Share(took.Count, draws.Count),
            windows,
            DecidingOf(draws, all, spreads),
            [
                .. draws
                    .SelectMany(d => d.Halts)
                    .GroupBy(h => h)
                    .OrderByDescending(g => g.Count())
                    .ThenBy(g => g.Key, StringComparer.Ordinal)
                    .Take(Named)
                    .Select(g => $"{g.Key}: {g.Count()} times in {draws.Count}"),
            ],
            whole > 0 ? all.Where(s => spreads[s.Id].Assumed).Sum(s => spreads[s.Id].Median) / whole : 0,
            [.. draws.SelectMany(d => d.Broken).Distinct().Take(Named)]
        );
    }

    // All work of a window is over in it when the draw went on behind its last move, or to the end.
    private static bool EndedIn(Draw draw, Plan plan, int window) =>
        draw.Took is not null || draw.WindowsOver.Keys.Any(w => w > window);

    private static double Share(int some, int all) => all == 0 ? 0 : (double)some / all;

    // By the variance that each step's overruns bring; what several bring together is shared by their own parts.
    private static ImmutableArray<Deciding> DecidingOf(
        List<Draw> draws,
        List<PlanStep> steps,
        IReadOnlyDictionary<string, Spread> spreads
    )
    {
        var found = steps
            .Select(Draw.Key)
            .Distinct()
            .Select(key =>
            {
                var values = draws.Select(d => d.Over.GetValueOrDefault(key)).ToList();
                var mean = values.Count == 0 ? 0 : values.Average();
                return (Key: key, Variance: values.Count == 0 ? 0 : values.Average(v => (v - mean) * (v - mean)));
            })
            .Where(k => k.Variance > 0)
            .OrderByDescending(k => k.Variance)
            .ThenBy(k => k.Key, StringComparer.Ordinal)
            .ToList();
        var sum = found.Sum(k => k.Variance);
        return
        [
            .. found
                .Take(Named)
                .Select(k => new Deciding(
                    k.Key.Split('\n')[0],
                    k.Key.Split('\n')[1],
                    k.Variance / sum,
                    steps.Where(s => Draw.Key(s) == k.Key).Any(s => spreads[s.Id].Assumed)
                )),
        ];
    }

    // A part takes what the catalogue says of it as a whole: what its steps do not say themselves is the wait until the
    // member is in step.
    private static Dictionary<string, Spread> SpreadsOf(Plan plan)
    {
        var spreads = new Dictionary<string, Spread>();
        foreach (var block in plan.Blocks)
        foreach (var lane in block.Lanes)
        {
            var own = lane.Steps.Aggregate(TimeSpan.Zero, (sum, s) => sum + s.Expected);
            var missing = lane.Steps.LastOrDefault(s => s.Do is Catalogue.AwaitAction && s.Learnt is null)
                ?? lane.Steps.LastOrDefault(s => s.Learnt is null);
            foreach (var step in lane.Steps)
                spreads[step.Id] =
                    step == missing && block.Expected > own
                        ? Spread.Assume((step.Expected + block.Expected - own).TotalSeconds)
                        : Spread.Of(step);
        }
        return spreads;
    }
}
