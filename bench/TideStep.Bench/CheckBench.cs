using System.Diagnostics;
using TideStep.Core.Catalogue;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Plans;

namespace TideStep.Bench;

/// <summary>Five hundred prerequisites over the readings of ten thousand members, each asked of each member of its
/// component, with everything that is checked besides.</summary>
internal static class CheckBench
{
    private const int Components = 50,
        Members = 200,
        Each = 10;

    public static Task<IEnumerable<Figure>> RunAsync()
    {
        var estate = EstateDocument
            .Read(
                "tidestep: estate/1\nestate: bench\nsites: {s: {}}\nnodes:\n"
                    + string.Concat(
                        Enumerable.Range(0, Components).Select(c => $"  \"n{c:00}x[1-{Members}]\": {{site: s}}\n")
                    )
                    + "components:\n"
                    + string.Concat(
                        Enumerable
                            .Range(0, Components)
                            .Select(c =>
                                $"  c{c:00}: {{product: p{c:00}, members: [\"n{c:00}x[1-{Members}]\"], "
                                + $"domains: ignored, guard: {{keep: 50%, at-once: 20}}}}\n"
                            )
                    ),
                "e"
            )
            .Value!;
        var products = Enumerable
            .Range(0, Components)
            .Select(c =>
                ProductDocument
                    .Read(
                        $"tidestep: product/1\nproduct: p{c:00}\nreleases: {{\"1\": {{}}, \"2\": {{}}}}\n"
                            + $"readings: {{size: {{by: field, unit: bytes}}, lag: {{by: field, unit: bytes}}, "
                            + $"state: {{by: field, unit: text}}}}\nsteps: {{put: {{do: {{command: [x]}}}}}}\n"
                            + $"jumps:\n  to-2:\n    from: \"1\"\n    to: \"2\"\n"
                            + $"    methods: {{rolling: {{member: 1 min}}}}\n    change: [put]\n    prerequisites:\n"
                            + string.Concat(
                                Enumerable
                                    .Range(0, Each)
                                    .Select(i =>
                                        $"      - {{id: r{i}, per: member, holds: '"
                                        + (i % 3) switch
                                        {
                                            0 => $"free(\"/data\") >= {1 + i / 10.0:0.0} * size",
                                            1 => $"lag <= {i} MiB and state = \"in step\"",
                                            _ => $"size < {100 + i} GiB",
                                        }
                                        + $"'}}\n"
                                    )
                            ),
                        "p"
                    )
                    .Value!
            );
        var catalogue = ProductCatalogue.Create(products).Value!;
        var readings = ReadingsDocument
            .Read(
                "tidestep: readings/1\ntaken: 2026-11-20T10:00:00Z\ncomponents: {"
                    + string.Join(
                        ", ",
                        Enumerable
                            .Range(0, Components)
                            .Select(c =>
                                $"c{c:00}: {{running: \"1\", values: {{size: 12 GiB, lag: 1 MiB, state: in "
                                + $"step, \"free(\\\"/data\\\")\": 64 GiB}}}}"
                            )
                    )
                    + "}\n",
                "r",
                estate
            )
            .Value!;
        var index = new EstateIndex(estate, readings, catalogue);
        var goal = GoalDocument
            .Read(
                "tidestep: goal/1\ngoal: ["
                    + string.Join(
                        ", ",
                        Enumerable.Range(0, Components).Select(c => $"{{component: c{c:00}, to: \"2\"}}")
                    )
                    + "]\n",
                "g"
            )
            .Value!;
        var plan = PlanMaker
            .Make(index, PathFinder.Find(new PathRequest(index, goal, new DateOnly(2026, 11, 23))).Value!, "e", "c")
            .Value!;
        var (times, findings) = (new List<double>(), 0);
        for (var i = 0; i < 9; i++)
        {
            var began = Stopwatch.GetTimestamp();
            findings = PlanChecks.Of(index, plan, new CheckContext(readings.Taken)).Findings.Length;
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        var median = Measure.Median(times.Skip(3));
        return Task.FromResult<IEnumerable<Figure>>([
            new Figure(
                $"{Components * Each} checks over the readings of {Components * Members} members ({findings} findings)",
                Measure.Write(median, "ms"),
                "300 ms",
                median / 300,
                "under 1"
            ),
        ]);
    }
}
