using System.Diagnostics;
using TideStep.Core.Paths;

namespace TideStep.Bench;

/// <summary>Paths on random estates of 30 components, 12 releases each and 200 rules: how long, and how many are
/// proved.</summary>
internal static class PathBench
{
    private const int Components = 30;
    private const int Releases = 12;
    private const int Rules = 200;

    public static Task<IEnumerable<Figure>> RunAsync()
    {
        var estates = int.TryParse(Environment.GetEnvironmentVariable("TIDESTEP_BENCH_ESTATES"), out var given)
            ? given
            : 60;
        var times = new List<double>();
        var (proved, found, moves) = (0, 0, 0);
        for (var seed = 0; seed < estates; seed++)
        {
            var request = RandomEstates.Make(seed, Components, Releases, Rules);
            var began = Stopwatch.GetTimestamp();
            var answer = PathFinder.Find(request).Value!;
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            if (answer.Proved)
                proved++;
            if (answer.Found)
            {
                found++;
                moves += answer.Moves.Length;
            }
            if (Environment.GetEnvironmentVariable("TIDESTEP_BENCH_SHOW") is not null)
                Console.WriteLine(
                    $"{seed}: {times[^1]:0} ms, found {answer.Found}, proved {answer.Proved}, "
                        + $"{answer.Moves.Length} moves, {answer.Moves.Count(m => m.IsJoint)} joint, "
                        + $"{answer.Reasons.Length} reasons"
                );
        }
        times.Sort();
        return Task.FromResult<IEnumerable<Figure>>([
            new Figure(
                $"path, {Components} components x {Releases} releases x {Rules} rules, median of {estates} "
                    + $"({found} with a path, {moves / Math.Max(1, found)} moves)",
                Measure.Write(times[times.Count / 2], "ms"),
                "50 ms",
                times[times.Count / 2] / 50,
                "under 1"
            ),
            new Figure("the same, slowest", Measure.Write(times[^1], "ms"), "10 000 ms", times[^1] / 10000, "under 1"),
            new Figure(
                "the same, proved",
                $"{proved}",
                $"{estates} estates",
                (double)proved / estates,
                "at least 0.95"
            ),
        ]);
    }
}
