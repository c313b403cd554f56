using System.Diagnostics;
using TideStep.Core.Paths;
using TideStep.Tests;

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
        var (equal, found, ours, theirs) = (0, 0, 0.0, 0.0);
        for (var seed = 0; seed < estates; seed++)
        {
            var (fleet, goal) = TinyEstates.Build(seed);
            var request = fleet.Request(goal);
            var began = Stopwatch.GetTimestamp();
            var answer = PathFinder.Find(request).Value!;
            ours += Stopwatch.GetElapsedTime(began).TotalSeconds;
            began = Stopwatch.GetTimestamp();
            var expected = Exhaustive.Best(request.Index, request.Goal);
            theirs += Stopwatch.GetElapsedTime(began).TotalSeconds;
            if (answer.Found)
                found++;
            if (
                expected?.Path
                == (
                    answer.Found
                        ? string.Join(
                            " ",
                            answer.Moves.Select(m =>
                                $"{m.Written}/{string.Join("+", m.Jumps.Select(j => $"{j.Method}.{j.Jump.Id}"))}"
                            )
                        )
                        : null
                )
            )
                equal++;
            else
                Console.WriteLine($"seed {seed} differs");
        }
        return Task.FromResult<IEnumerable<Figure>>([
            new Figure(
                $"paths on random tiny estates, equal to exhaustive search ({found} have a path)",
                $"{equal}",
                $"{estates}",
                (double)equal / estates,
                "1"
            ),
            new Figure(
                "the same, time against that of the exhaustive search",
                Measure.Write(ours * 1000 / estates, "ms"),
                Measure.Write(theirs * 1000 / estates, "ms"),
                ours / theirs,
                "none"
            ),
        ]);
    }
}
