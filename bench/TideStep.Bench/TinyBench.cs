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
        var estates = Given("TIDESTEP_BENCH_ESTATES", 10_000);
        // A few in a hundred cost the exhaustive search more than all others together; for many estates they are left
        // out earlier.
        var most = Given("TIDESTEP_BENCH_STATES", 1_500);
        var (equal, compared, found, theirs) = (0, 0, 0, 0.0);
        var times = new List<double>();
        var lockAround = new Lock();
        Parallel.For(0, estates, seed =>
        {
            var drawn = Draw.Of(seed);
            var began = Stopwatch.GetTimestamp();
            var (right, tooMany) = Checker.Best(drawn, most);
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

    private static int Given(string name, int otherwise) =>
        int.TryParse(Environment.GetEnvironmentVariable(name), out var given) ? given : otherwise;
}
