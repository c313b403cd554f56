using System.Text;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Bench;

/// <summary>Random estates for paths: releases of one time go together along a band, with exceptions.</summary>
internal static class RandomEstates
{
    /// <summary>The request of a seed: so many components, releases of each and rules between them.</summary>
    public static PathRequest Make(int seed, int components, int releases, int allRules)
    {
        var random = new Random(seed);
        var estate = new StringBuilder(
            "tidestep: estate/1\nestate: bench\nsites: {s: {turn: 1}, t: {turn: 2}}\nnodes:\n"
        );
        var related = new List<int>[components];
        for (var c = 0; c < components; c++)
            estate.Append(
                $"  \"n{c:00}x[1-{random.Next(2, 7)}]\": {{site: {(c % 2 == 0 ? "s" : "t")}}}\n".Replace("x[1-", "x[1-")
            );
        estate.Append("components:\n");
        for (var c = 0; c < components; c++)
        {
            related[c] = [.. Enumerable.Range(0, c).OrderBy(_ => random.Next()).Take(Math.Min(c, random.Next(0, 4)))];
            estate.Append(
                $"  c{c:00}: {{product: p{c:00}, members: [\"n{c:00}x1\", \"n{c:00}x2\"]"
                    + (
                        related[c].Count > 0
                            ? $", depends-on: [{string.Join(", ", related[c].Select(o => $"c{o:00}"))}]"
                            : ""
                    )
                    + $"}}\n"
            );
        }
        var pairs = Enumerable.Range(0, components).SelectMany(c => related[c].Select(o => (c, o))).ToList();
        var rules = Enumerable.Range(0, components).Select(_ => new StringBuilder()).ToArray();
        for (var r = 0; r < allRules; r++)
        {
            var (c, o) = pairs[r % pairs.Count];
            // A band along the diagonal: releases of one time go together; every pair has about five such rules, some
            // of them exceptions.
            var from = 1 + r / pairs.Count * 3;
            rules[c]
                .Append(
                    r / pairs.Count < 4
                        ? $"- {{this: \">={from} <={from + 3}\", depends-on: p{o:00}, at: "
                            + $"\">={Math.Max(1, from - random.Next(2, 5))} <={from + random.Next(5, 10)}\", "
                            + $"verdict: {(random.Next(10) == 0 ? "transitional" : "supported")}}}\n"
                        : $"- {{this: \"={random.Next(1, releases + 1)}\", depends-on: p{o:00}, at: "
                            + $"\"={random.Next(1, releases + 1)}\", verdict: unsupported}}\n"
                );
        }
        var products = new List<Product>();
        for (var c = 0; c < components; c++)
        {
            var text = new StringBuilder(
                $"tidestep: product/1\nproduct: p{c:00}\nreleases: "
                    + $"{{{string.Join(", ", Enumerable.Range(1, releases).Select(r => $"\"{r}\": {{}}"))}}}\n"
                    + $"steps: {{convert: {{do: {{command: [x]}}}}}}\njumps:\n"
            );
            for (var r = 2; r <= releases; r++)
                text.Append(
                    $"  to-{r}: {{from: \">={Math.Max(1, r - random.Next(1, 4))} <{r}\", to: \"{r}\", "
                        + $"methods: {{rolling: {{member: {random.Next(2, 9)} min, settle: 1 min}}"
                        + (random.Next(3) == 0 ? $", offline: {{outage: {random.Next(2, 30)} min, settle: 2 min}}" : "")
                        + $"}}{(random.Next(15) == 0 ? ", closes: convert, after-all: [convert]" : "")}}}\n"
                );
            if (rules[c].Length > 0)
                text.Append("rules:\n").Append(rules[c]);
            products.Add(Good(ProductDocument.Read(text.ToString(), $"p{c:00}.yaml")));
        }
        var read = Good(EstateDocument.Read(estate.ToString(), "estate.yaml"));
        var readings = Good(
            ReadingsDocument.Read(
                $"tidestep: readings/1\ntaken: 2026-11-20T10:00:00Z\ncomponents: {{"
                    + (
                        string.Join(
                            ", ",
                            Enumerable
                                .Range(0, components)
                                .Select(c => $"c{c:00}: {{running: \"{random.Next(releases / 4, releases / 2)}\"}}")
                        )
                    )
                    + $"}}\n",
                "readings.yaml",
                read
            )
        );
        var goals = Enumerable
            .Range(0, components)
            .OrderBy(_ => random.Next())
            .Take(4)
            .Select(c =>
                $"{{component: c{c:00}, to: \">={random.Next(releases / 2, releases * 3 / 4)} <={releases * 5 / 6}\"}}"
            );
        var goal = Good(GoalDocument.Read($"tidestep: goal/1\ngoal: [{string.Join(", ", goals)}]\n", "goal.yaml"));
        return new PathRequest(
            new EstateIndex(read, readings, Good(ProductCatalogue.Create(products))),
            goal,
            new DateOnly(2026, 11, 23)
        );
    }

    private static T Good<T>(Checked<T> read)
        where T : class =>
        read.Ok ? read.Value! : throw new InvalidOperationException(string.Join("\n", read.Problems.Take(5)));
}
