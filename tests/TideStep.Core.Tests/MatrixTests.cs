using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;

namespace TideStep.Core.Tests;

public sealed class MatrixTests
{
    private static Fleet Engines(string rules) =>
        new Fleet()
            .Node("a[1-2]")
            .Node("b[1-2]")
            .Chain("engine", ["6", "7", "8"], rest: rules)
            .Chain("store", ["1", "2", "3"])
            .With("app", "engine", "6", "\"a[1-2]\"", "depends-on: [db]")
            .With("db", "store", "2", "\"b[1-2]\"");

    private static Matrix Of(Fleet fleet) =>
        Fleet.Good(Matrix.Make(fleet.Catalogue, "engine", "depends-on", "store", fleet.Index()));

    [Fact]
    public void Every_place_has_the_verdict_that_planning_uses_and_the_rules_behind_it()
    {
        var fleet = Engines(
            "rules:\n- {id: old, this: \"<=7\", depends-on: store, at: \"<=2\", verdict: supported}\n"
                + "- {id: bad, this: 7, depends-on: store, at: 1, verdict: unsupported}\n"
        );
        var matrix = Of(fleet);
        Assert.Equal(9, matrix.Places.Length);
        var (engine, store) = (fleet.Catalogue.Find("engine")!, fleet.Catalogue.Find("store")!);
        foreach (var place in matrix.Places)
            Assert.Equal(
                VerdictOf
                    .Pair(
                        engine,
                        engine.Scheme.TryParse(place.This)!,
                        store,
                        store.Scheme.TryParse(place.At)!,
                        Estates.RelationKind.DependsOn
                    )
                    .Verdict,
                place.Verdict
            );
        var refused = matrix.Places.Single(p => p.This == "7" && p.At == "1");
        Assert.Equal(Verdict.Unsupported, refused.Verdict);
        Assert.Equal("engine#bad", Assert.Single(refused.Rules));
    }

    [Fact]
    public void Todays_place_is_marked_with_who_stands_there()
    {
        var place = Assert.Single(Of(Engines("")).Places, p => !p.Today.IsEmpty);
        Assert.Equal(("6", "2", "app with db"), (place.This, place.At, Assert.Single(place.Today)));
    }

    [Fact]
    public void A_row_says_runs_of_neighbours_in_words()
    {
        var matrix = Of(
            Engines(
                "rules:\n- {this: 6, depends-on: store, at: \"<=2\", verdict: supported}\n"
                    + "- {this: 7, depends-on: store, at: 3, verdict: transitional}\n"
            )
        );
        Assert.Equal("supported 1 to 2; untested 3", matrix.Row("6"));
        Assert.Equal("untested 1 to 2; transitional 3", matrix.Row("7"));
    }

    [Fact]
    public void Products_that_say_nothing_of_each_other_have_no_data() =>
        Assert.Equal("no data 1 to 3", Of(Engines("")).Row("8"));

    [Fact]
    public void Unknown_words_are_all_named_with_the_nearest()
    {
        var fleet = Engines("");
        var made = Matrix.Make(fleet.Catalogue, "engin", "depend-on", "stor", null);
        Assert.Equal(3, made.Problems.Length);
        Assert.All(made.Problems, p => Assert.StartsWith("Did you mean", p.Hint));
    }

    [Fact]
    public void Peers_are_seen_from_both_ends()
    {
        var fleet = new Fleet()
            .Sites("  s: {peers: [t]}\n  t: {peers: [s]}\n")
            .Node("a", "site: s")
            .Node("b", "site: t")
            .Chain(
                "engine",
                ["1", "2"],
                rest: "rules:\n- {peer: engine, by: major, older-by: 1, newer-by: 1, verdict: transitional}\n"
            )
            .With("one", "engine", "1", "a", "site: s, peer: [two]")
            .With("two", "engine", "2", "b", "site: t");
        var matrix = Fleet.Good(Matrix.Make(fleet.Catalogue, "engine", "peer", "engine", fleet.Index()));
        Assert.Equal(2, matrix.Places.Count(p => !p.Today.IsEmpty));
        Assert.Equal(Verdict.Transitional, matrix.Places.Single(p => p is { This: "1", At: "2" }).Verdict);
    }
}
