using System.Diagnostics;
using TideStep.Core.Paths;
using TideStep.Tests.Yardstick;

namespace TideStep.Bench;

/// <summary>Every answer on random tiny estates against a walk over all sequences of moves, which shares no search code
/// with the planner.</summary>
internal static class TinyBench
{
    public static Task<IEnumerable<Figure>> RunAsync()
    {
        var estates = int.TryParse(Environment.GetEnvironmentVariable("TIDESTEP_BENCH_ESTATES"), out var given)
            ? given
            : 10_000;
        var (equal, compared, found, theirs) = (0, 0, 0, 0.0);
        var times = new List<double>();
        var lockAround = new Lock();
        Parallel.For(0, estates, seed =>
        {
            var drawn = Draw.Of(seed);
            var began = Stopwatch.GetTimestamp();
            var (right, tooMany) = Checker.Best(drawn);
            var took = Stopwatch.GetElapsedTime(began).TotalSeconds;
            if (tooMany)
                return;
            var request = Compared.Request(drawn) with { WithReasons = false };
            began = Stopwatch.GetTimestamp();
            var answer = PathFinder.Find(request).Value!;
            var mine = Stopwatch.GetElapsedTime(began).TotalSeconds;
            lock (lockAround)
            {
                (compared, theirs) = (compared + 1, theirs + took);
                times.Add(mine);
                found += answer.Found ? 1 : 0;
                if (answer.Proved && Compared.Written(answer) == right?.Moves)
                    equal++;
                else
                    Console.WriteLine($"seed {seed} differs");
            }
        });
        times.Sort();
        return Task.FromResult<IEnumerable<Figure>>([
            new Figure(
                $"paths on random tiny estates, equal to exhaustive search ({found} have a path)",
                $"{equal}",
                $"{compared}",
                (double)equal / compared,
                "1"
            ),
            new Figure(
                "the same, time against that of the exhaustive search",
                Measure.Write(times.Sum() * 1000 / compared, "ms"),
                Measure.Write(theirs * 1000 / compared, "ms"),
                times.Sum() / theirs,
                "none"
            ),
        ]);
    }
}
