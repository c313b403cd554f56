using TideStep.Core.Catalogue;

namespace TideStep.Core.Tests;

/// <summary>What reads well and yet can't be meant is found, with its place; what is meant is left alone.</summary>
public sealed class CatalogueReviewTests
{
    private const string Good =
        "releases: {\"1\": {}, \"2\": {}, \"3\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", methods: "
        + "{offline: {outage: 1 min}}}\n  to-3: {from: \"=2\", to: \"3\", methods: {offline: {outage: 1 min}}}\n";

    private static string Only(string engine, string other = Good)
    {
        var problem = Assert.Single(
            CatalogueReview.Of(new Fleet().Product("engine", engine).Product("other", other).Catalogue)
        );
        Assert.NotNull(problem.At);
        return $"{problem.At.File}:{problem.At.Line} {problem.What} {problem.Hint}";
    }

    [Fact]
    public void A_catalogue_that_is_in_order_has_nothing() =>
        Assert.Empty(
            CatalogueReview.Of(
                new Fleet()
                    .Product(
                        "engine",
                        Good + "rules:\n- {this: \">=2\", depends-on: other, at: \"*\", verdict: supported}\n"
                    )
                    .Product("other", Good)
                    .Catalogue
            )
        );

    [Fact]
    public void A_part_that_comes_from_none_before_is_found_with_the_nearest() =>
        Assert.Contains(
            "the part sails comes from 'rigs', which no release before it has Did you mean 'rig'?",
            Only(
                Good.Replace(
                    "\"1\": {}, \"2\": {}",
                    "\"1\": {parts: [rig]}, \"2\": {parts: [{name: sails, was: rigs}]}",
                    StringComparison.Ordinal
                )
            )
        );

    [Fact]
    public void Jumps_that_ask_one_question_in_two_ways_are_found() =>
        Assert.Contains(
            "the jumps to-2 and to-3 ask 'keep' in different words",
            Only(
                Good.Replace(
                        "to: \"2\",",
                        "to: \"2\", answers: [{id: keep, asks: Keep it?, otherwise: \"yes\"}],",
                        StringComparison.Ordinal
                    )
                    .Replace(
                        "to: \"3\",",
                        "to: \"3\", answers: [{id: keep, asks: Keep it?, otherwise: \"no\"}],",
                        StringComparison.Ordinal
                    )
            )
        );

    [Fact]
    public void A_rule_of_an_unknown_product_names_the_nearest() =>
        Assert.Contains(
            "speaks of 'othr', which is no product of the catalogue Did you mean 'other'?",
            Only(Good + "rules:\n- {this: \"*\", depends-on: othr, at: \"*\", verdict: supported}\n")
        );

    [Theory]
    [InlineData("this: \">=4\", depends-on: other, at: \"*\"", "covers no release of engine: >=4")]
    [InlineData("this: \"*\", depends-on: other, at: \"<1\"", "covers no release of other: <1")]
    public void A_rule_that_covers_nothing_is_found_where_it_stands(string rule, string says)
    {
        var found = Only(Good + $"rules:\n- {{{rule}, verdict: supported}}\n");
        Assert.Contains(says, found);
        Assert.StartsWith("engine.yaml:8 ", found);
    }

    [Theory]
    [InlineData(
        "to-3: {from: \"=9\", to: \"3\"",
        "jump to-3 of engine leads from no release below 3: 9",
        "no jump leads to engine 3"
    )]
    [InlineData("to-3: {from: \"=3\", to: \"3\"", "leads from no release below 3", "no jump leads to engine 3")]
    public void A_jump_from_nowhere_is_found_and_what_it_was_to_reach(string jump, string says, string and)
    {
        var found = CatalogueReview.Of(
            new Fleet()
                .Product("engine", Good.Replace("to-3: {from: \"=2\", to: \"3\"", jump))
                .Product("other", Good)
                .Catalogue
        );
        Assert.Contains(found, p => p.What.Contains(says.Replace(": 9", ""), StringComparison.Ordinal));
        Assert.Contains(found, p => p.What == and);
    }

    [Fact]
    public void A_release_that_no_jump_reaches_is_found() =>
        Assert.Contains("no jump leads to engine 2.5", Only(Good.Replace("\"3\": {}}", "\"3\": {}, \"2.5\": {}}")));

    [Theory]
    [InlineData("requires: [{product: nothing, range: \"*\"}]", "asks for 'nothing'")]
    [InlineData("requires: [{product: other, range: \">=9\"}]", "which is no release of it")]
    public void A_jump_that_asks_for_what_is_not_there_is_found(string requires, string says) =>
        Assert.Contains(says, Only(Good.Replace("to: \"3\", ", $"to: \"3\", {requires}, ")));

    [Theory]
    [InlineData("*", "*", "=2", "=2", "unsupported", false)] // an exception within a wider rule is meant
    [InlineData("=2", "=2", "=2", "=2", "unsupported", true)]
    [InlineData("<=2", "*", ">=2", "*", "unsupported", true)]
    [InlineData("<=2", "*", ">=2", "*", "supported", false)]
    [InlineData("<2", "*", ">=2", "*", "unsupported", false)]
    public void Rules_that_say_different_things_of_the_same_pairs_contradict_each_other(
        string a,
        string aAt,
        string b,
        string bAt,
        string verdict,
        bool contradict
    )
    {
        var found = CatalogueReview.Of(
            new Fleet()
                .Product(
                    "engine",
                    Good
                        + $"rules:\n- {{this: \"{a}\", depends-on: other, at: \"{aAt}\", verdict: supported}}\n"
                        + $"- {{this: \"{b}\", depends-on: other, at: \"{bAt}\", verdict: {verdict}}}\n"
                )
                .Product("other", Good)
                .Catalogue
        );
        Assert.Equal(contradict, found.Any(p => p.What.Contains("contradict each other", StringComparison.Ordinal)));
    }
}
