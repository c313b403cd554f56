using System.Diagnostics;
using System.Globalization;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Tests;

namespace TideStep.Bench;

/// <summary>Path and plan of the scenario grown large: how long, how much memory, and how both grow with the members.
/// Measured first, so that the peak is its own.</summary>
internal static class LargeBench
{
    private static readonly int Members = int.TryParse(
        Environment.GetEnvironmentVariable("TIDESTEP_BENCH_MEMBERS"),
        out var given
    )
        ? given
        : 10_000;
    private const int Fewer = 1_000;
    private const int WarmUps = 4;

    public static Task<IEnumerable<Figure>> RunAsync()
    {
        var (path, plan, answer, moves) = Measured(Members);
        var peak =
            long.Parse(
                File.ReadLines("/proc/self/status")
                    .First(l => l.StartsWith("VmHWM", StringComparison.Ordinal))
                    .Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)[1],
                CultureInfo.InvariantCulture
            ) / 1024.0;
        var (lesserPath, lesserPlan, _, _) = Measured(Fewer);
        return Task.FromResult<IEnumerable<Figure>>([
            new Figure(
                $"path and plan, 200 components in {Members} members ({moves} moves, "
                    + $"{(answer.Proved ? "proved" : "not proved")})",
                Measure.Write((path + plan) * 1000, "ms"),
                "1 000 ms",
                path + plan,
                "under 1"
            ),
            new Figure(
                "the same, peak memory of the process",
                Measure.Write(peak, "MB"),
                "400 MB",
                peak / 400,
                "under 1"
            ),
            new Figure(
                $"the same, against ten times the time for {Fewer} members",
                Measure.Write((path + plan) * 1000, "ms"),
                Measure.Write((lesserPath + lesserPlan) * 10_000, "ms"),
                (path + plan) / (lesserPath + lesserPlan) / 10,
                "about 1"
            ),
        ]);
    }

    // The median of five after some that warm up (a service runs long); documents are read anew each time, so that
    // nothing is known from before.
    private static (double Path, double Plan, PathAnswer Answer, int Moves) Measured(int members)
    {
        var texts = LargeEstate.Write(members);
        var (paths, plans) = (new List<double>(), new List<double>());
        PathAnswer answer = null!;
        for (var i = -WarmUps; i < 5; i++)
        {
            var (index, goal) = LargeEstate.Read(texts);
            var began = Stopwatch.GetTimestamp();
            answer = PathFinder.Find(new PathRequest(index, goal, new DateOnly(2026, 11, 23))).Value!;
            var path = Stopwatch.GetElapsedTime(began).TotalSeconds;
            began = Stopwatch.GetTimestamp();
            var plan = PlanMaker.Make(index, answer, "e", "c");
            var took = Stopwatch.GetElapsedTime(began).TotalSeconds;
            if (!plan.Ok)
                throw new InvalidOperationException(
                    string.Join("\n", plan.Problems.Take(5)) + string.Join("\n", answer.Reasons.Take(5))
                );
            if (Environment.GetEnvironmentVariable("TIDESTEP_BENCH_SHOW") is not null)
                Console.WriteLine(
                    $"{members}: {index.Components.Length} components, "
                        + $"{index.Components.Sum(c => c.Members.Length)} members, path {path:0.000} s, plan "
                        + $"{took:0.000} s, {answer.Moves.Length} moves, proved {answer.Proved} "
                        + $"{string.Join("; ", answer.Notes.Take(2))} {string.Join("; ", answer.Reasons.Take(9))}"
                );
            if (i >= 0)
            {
                paths.Add(path);
                plans.Add(took);
            }
        }
        return (Measure.Median(paths), Measure.Median(plans), answer, answer.Moves.Length);
    }
}
