using CsCheck;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Tests;

/// <summary>What is cited for an answer is what it rests on: a smallest choice of rules, tried rule by rule.</summary>
public sealed class CitedRulesTests
{
    private static string Rules(Random random, string other, string end) =>
        string.Concat(
            Enumerable
                .Range(0, random.Next(4))
                .Select(_ =>
                    random.Next(4) == 0
                        ? $"- {{{end}: {other}, by: {(random.Next(2) == 0 ? "major" : "minor")}, older-by: "
                            + $"{random.Next(3)}, newer-by: {random.Next(2)}}}\n"
                        : $"- {{this: \">={random.Next(1, 4)} <={random.Next(2, 5)}\", {end}: {other}, at: "
                            + $"\">={random.Next(1, 4)}\", verdict: "
                            + (
                                random.Next(4) switch
                                {
                                    0 => "unsupported",
                                    1 => "transitional",
                                    2 => "untested",
                                    _ => "supported",
                                }
                            )
                            + $"}}\n"
                )
        );

    private static Product Make(Random random, string id, string other, string end) =>
        Fleet.Good(
            ProductDocument.Read(
                $"tidestep: product/1\nproduct: {id}\nreleases: {{\"1\": {{}}, \"2\": {{}}, \"3\": {{}}, "
                    + $"\"4\": {{}}}}\n"
                    + $"{(Rules(random, other, end) is { Length: > 0 } rules ? "rules:\n" + rules : "")}",
                id + ".yaml"
            )
        );

    [Fact]
    public void With_the_cited_rules_alone_a_verdict_is_the_same_and_without_any_one_of_them_it_is_not() =>
        Gen.Int[0, int.MaxValue]
            .Sample(
                seed =>
                {
                    var random = new Random(seed);
                    var catalogue = Fleet.Good(
                        ProductCatalogue.Create([
                            Make(random, "a", "b", "depends-on"),
                            Make(random, "b", "a", "serves"),
                        ])
                    );
                    var (a, b) = (catalogue.Find("a")!, catalogue.Find("b")!);
                    foreach (var va in a.Releases)
                    foreach (var vb in b.Releases)
                    {
                        var whole = VerdictOf.Pair(a, va.Version, b, vb.Version, RelationKind.DependsOn);
                        var cited = VerdictOf
                            .Cited(a, va.Version, b, vb.Version, RelationKind.DependsOn)
                            .Rules.ToHashSet();
                        (Verdict, bool) With(Func<CompatibilityRule, bool> keep) =>
                            VerdictOf.Pair(
                                a with
                                {
                                    Rules = [.. a.Rules.Where(keep)],
                                },
                                va.Version,
                                b with
                                {
                                    Rules = [.. b.Rules.Where(keep)],
                                },
                                vb.Version,
                                RelationKind.DependsOn
                            )
                                is var v
                                ? (v.Verdict, v.NoData)
                                : default;
                        Assert.Equal((whole.Verdict, whole.NoData), With(cited.Contains));
                        foreach (var one in cited)
                            Assert.NotEqual((whole.Verdict, whole.NoData), With(r => r != one && cited.Contains(r)));
                    }
                },
                iter: 400
            );

    private static (EstateIndex Index, Goal Goal) Demo()
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "TideStep.slnx")))
            root = Path.GetDirectoryName(root)!;
        string Text(string name) => File.ReadAllText(Path.Combine(root, "demo", name));
        var estate = Fleet.Good(EstateDocument.Read(Text("estate.yaml"), "estate.yaml"));
        var catalogue = Fleet.Good(
            ProductCatalogue.Create(
                Directory
                    .GetFiles(Path.Combine(root, "demo/catalogue"))
                    .Order(StringComparer.Ordinal)
                    .Select(f => Fleet.Good(ProductDocument.Read(File.ReadAllText(f), f)))
            )
        );
        Assert.Empty(CatalogueReview.Of(catalogue));
        return (
            new EstateIndex(
                estate,
                Fleet.Good(ReadingsDocument.Read(Text("readings.yaml"), "readings.yaml", estate)),
                catalogue
            ),
            Fleet.Good(GoalDocument.Read(Text("goals/season.yaml"), "season.yaml"))
        );
    }

    [Fact]
    public void The_rules_that_the_seasons_path_rests_on_are_all_needed_and_no_other_is()
    {
        var (index, goal) = Demo();
        var request = new PathRequest(index, goal, Nights.Day(-6), Joint: false);
        var answer = Fleet.Good(PathFinder.Find(request));
        var relied = RulesRelied.Of(request, answer).ToHashSet();
        Assert.InRange(relied.Count, 5, 20);
        foreach (var one in index.Catalogue.Products.SelectMany(p => p.Rules))
        {
            var without = index.Catalogue.Products.Select(p => p with { Rules = [.. p.Rules.Where(r => r != one)] });
            Assert.Equal(!relied.Contains(one), RulesRelied.Same(RulesRelied.Ask(request, without), answer));
        }
    }

    [Fact]
    public void Each_component_that_moves_unnamed_is_told_why()
    {
        var (index, goal) = Demo();
        var answer = Fleet.Good(PathFinder.Find(new PathRequest(index, goal, Nights.Day(-6), Joint: false)));
        Assert.Equal(
            answer
                .Moves.SelectMany(m => m.Jumps)
                .Select(j => j.Component)
                .Distinct()
                .Except(answer.Goal.Select(g => g.Component))
                .Order(StringComparer.Ordinal),
            answer.Driven.Select(d => d.Component)
        );
        Assert.All(answer.Driven, d => Assert.NotEmpty(d.Because));
        Assert.Contains(
            "tickets-south 7.2 that stands on os-south 11.4 is untested",
            answer.Driven.Single(d => d.Component == "os-south").Because[0]
        );
        Assert.Contains(answer.Notes, n =>
            n.StartsWith(
                "untested, and relied on because the goal allows it: knot 4.0 with curlew 7.2 at ",
                StringComparison.Ordinal
            ) && n.Contains("seat-map-north, tickets-north", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void The_states_of_a_path_are_told_with_every_pair_that_changed()
    {
        var (index, goal) = Demo();
        var answer = Fleet.Good(PathFinder.Find(new PathRequest(index, goal, Nights.Day(-6), Joint: false)));
        foreach (var move in answer.Moves)
            Assert.Equal(
                index.Pairs.Count(p =>
                    (index.Components[p.A].Id == move.Component || index.Components[p.B].Id == move.Component)
                    // What runs nothing meets nobody.
                    && !index.IsAbsent(p.A)
                    && !index.IsAbsent(p.B)
                ),
                move.Pairs.Length
            );
        Assert.Contains(answer.Moves.SelectMany(m => m.Pairs), p =>
            p is { Component: "ledger-north", With: "ledger-south", Verdict: Verdict.Transitional, Inherited: false }
        );
        Assert.DoesNotContain(answer.Moves[^1].Pairs, p => p.Verdict == Verdict.Transitional);
    }
}
