using System.Diagnostics;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;

namespace TideStep.Bench;

/// <summary>The matrix of two products of forty releases each, with eighty rules between them.</summary>
internal static class MatrixBench
{
    private const int Releases = 40;

    public static Task<IEnumerable<Figure>> RunAsync()
    {
        var random = new Random(7);
        var releases = string.Join(", ", Enumerable.Range(1, Releases).Select(r => $"\"{r}.0\": {{}}"));
        var rules = string.Concat(
            Enumerable
                .Range(0, 80)
                .Select(_ =>
                    $"- {{this: \">={random.Next(1, 30)} <={random.Next(30, 41)}\", depends-on: b, at: "
                    + $"\">={random.Next(1, 30)} <={random.Next(20, 41)}\", verdict: "
                    + $"{(random.Next(8) == 0 ? "transitional" : "supported")}}}\n"
                )
        );
        var catalogue = Good(
            ProductCatalogue.Create([
                Good(
                    ProductDocument.Read(
                        $"tidestep: product/1\nproduct: a\nreleases: {{{releases}}}\nrules:\n{rules}",
                        "a.yaml"
                    )
                ),
                Good(
                    ProductDocument.Read(
                        $"tidestep: product/1\nproduct: b\nreleases: {{{releases}}}\n"
                            + $"rules:\n- {{serves: a, by: major, older-by: 4, newer-by: 9}}\n",
                        "b.yaml"
                    )
                ),
            ])
        );
        var times = new List<double>();
        for (var i = 0; i < 200; i++)
        {
            var began = Stopwatch.GetTimestamp();
            if (Matrix.Make(catalogue, "a", "depends-on", "b", null).Value!.Places.Length != Releases * Releases)
                throw new InvalidOperationException("the matrix has not all its places");
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        var median = Measure.Median(times.Skip(100));
        return Task.FromResult<IEnumerable<Figure>>([
            new Figure(
                $"matrix of {Releases} x {Releases} releases with 81 rules, median",
                Measure.Write(median, "ms"),
                "5 ms",
                median / 5,
                "under 1"
            ),
        ]);
    }

    private static T Good<T>(Checked<T> read)
        where T : class =>
        read.Ok ? read.Value! : throw new InvalidOperationException(string.Join("\n", read.Problems.Take(5)));
}
