using System.Diagnostics;
using System.Text;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Bench;

/// <summary>Paths on random estates of 30 components, 12 releases each and 200 rules: how long, and how many are proved.</summary>
internal static class PathBench
{
    private const int Components = 30;
    private const int Releases = 12;
    private const int Rules = 200;

    public static Task<IEnumerable<Figure>> RunAsync()
    {
        var estates = int.TryParse(Environment.GetEnvironmentVariable("TIDESTEP_BENCH_ESTATES"), out var given) ? given : 60;
        var times = new List<double>();
        var (proved, found, moves) = (0, 0, 0);
        for (var seed = 0; seed < estates; seed++)
        {
            var request = Make(seed);
            var began = Stopwatch.GetTimestamp();
            var answer = PathFinder.Find(request).Value!;
            times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            if (answer.Proved) proved++;
            if (answer.Found) { found++; moves += answer.Moves.Length; }
            if (Environment.GetEnvironmentVariable("TIDESTEP_BENCH_SHOW") is not null) Console.WriteLine($"{seed}: {times[^1]:0} ms, found {answer.Found}, proved {answer.Proved}, {answer.Moves.Length} moves, {answer.Moves.Count(m => m.IsJoint)} joint, {answer.Reasons.Length} reasons");
        }
        times.Sort();
        return Task.FromResult<IEnumerable<Figure>>([
            new Figure($"path, {Components} components x {Releases} releases x {Rules} rules, median of {estates} ({found} with a path, {moves / Math.Max(1, found)} moves)", Measure.Write(times[times.Count / 2], "ms"), "50 ms", times[times.Count / 2] / 50, "under 1"),
            new Figure("the same, slowest", Measure.Write(times[^1], "ms"), "10 000 ms", times[^1] / 10000, "under 1"),
            new Figure("the same, proved", $"{proved}", $"{estates} estates", (double)proved / estates, "at least 0.95"),
        ]);
    }

    private static PathRequest Make(int seed)
    {
        var random = new Random(seed);
        var estate = new StringBuilder("tidestep: estate/1\nestate: bench\nsites: {s: {turn: 1}, t: {turn: 2}}\nnodes:\n");
        var related = new List<int>[Components];
        for (var c = 0; c < Components; c++) estate.Append($"  \"n{c:00}x[1-{random.Next(2, 7)}]\": {{site: {(c % 2 == 0 ? "s" : "t")}}}\n".Replace("x[1-", "x[1-"));
        estate.Append("components:\n");
        for (var c = 0; c < Components; c++)
        {
            related[c] = [.. Enumerable.Range(0, c).OrderBy(_ => random.Next()).Take(Math.Min(c, random.Next(0, 4)))];
            estate.Append($"  c{c:00}: {{product: p{c:00}, members: [\"n{c:00}x1\", \"n{c:00}x2\"]{(related[c].Count > 0 ? $", depends-on: [{string.Join(", ", related[c].Select(o => $"c{o:00}"))}]" : "")}}}\n");
        }
        var pairs = Enumerable.Range(0, Components).SelectMany(c => related[c].Select(o => (c, o))).ToList();
        var rules = Enumerable.Range(0, Components).Select(_ => new StringBuilder()).ToArray();
        for (var r = 0; r < Rules; r++)
        {
            var (c, o) = pairs[r % pairs.Count];
            // A band along the diagonal: releases of one time go together; every pair has about five such rules, some of them exceptions.
            var from = 1 + r / pairs.Count * 3;
            rules[c].Append(r / pairs.Count < 4
                ? $"- {{this: \">={from} <={from + 3}\", depends-on: p{o:00}, at: \">={Math.Max(1, from - random.Next(2, 5))} <={from + random.Next(5, 10)}\", verdict: {(random.Next(10) == 0 ? "transitional" : "supported")}}}\n"
                : $"- {{this: \"={random.Next(1, Releases + 1)}\", depends-on: p{o:00}, at: \"={random.Next(1, Releases + 1)}\", verdict: unsupported}}\n");
        }
        var products = new List<Product>();
        for (var c = 0; c < Components; c++)
        {
            var text = new StringBuilder($"tidestep: product/1\nproduct: p{c:00}\nreleases: {{{string.Join(", ", Enumerable.Range(1, Releases).Select(r => $"\"{r}\": {{}}"))}}}\nsteps: {{convert: {{do: {{command: [x]}}}}}}\njumps:\n");
            for (var r = 2; r <= Releases; r++)
                text.Append($"  to-{r}: {{from: \">={Math.Max(1, r - random.Next(1, 4))} <{r}\", to: \"{r}\", methods: {{rolling: {{member: {random.Next(2, 9)} min, settle: 1 min}}{(random.Next(3) == 0 ? $", offline: {{outage: {random.Next(2, 30)} min, settle: 2 min}}" : "")}}}{(random.Next(15) == 0 ? ", closes: convert, after-all: [convert]" : "")}}}\n");
            if (rules[c].Length > 0) text.Append("rules:\n").Append(rules[c]);
            products.Add(Good(ProductDocument.Read(text.ToString(), $"p{c:00}.yaml")));
        }
        var read = Good(EstateDocument.Read(estate.ToString(), "estate.yaml"));
        var readings = Good(ReadingsDocument.Read($"tidestep: readings/1\ntaken: 2026-11-20T10:00:00Z\ncomponents: {{{string.Join(", ", Enumerable.Range(0, Components).Select(c => $"c{c:00}: {{running: \"{random.Next(3, 6)}\"}}"))}}}\n", "readings.yaml", read));
        var goals = Enumerable.Range(0, Components).OrderBy(_ => random.Next()).Take(4).Select(c => $"{{component: c{c:00}, to: \">={random.Next(6, 9)} <=10\"}}");
        var goal = Good(GoalDocument.Read($"tidestep: goal/1\ngoal: [{string.Join(", ", goals)}]\n", "goal.yaml"));
        return new PathRequest(new EstateIndex(read, readings, Good(ProductCatalogue.Create(products))), goal, new DateOnly(2026, 11, 23));
    }

    private static T Good<T>(Checked<T> read) where T : class => read.Ok ? read.Value! : throw new InvalidOperationException(string.Join("\n", read.Problems.Take(5)));
}
