using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Core.Tests;

/// <summary>Small documents that stand for very much are refused at their place before anything is made of
/// them.</summary>
public sealed class BudgetTests
{
    private static IReadOnlyList<Problem> Problems(string nodes, string components) =>
        EstateDocument
            .Read(
                $"tidestep: estate/1\nestate: big\nsites: {{s: {{}}}}\nnodes:\n{nodes}components:\n{components}",
                "e.yaml"
            )
            .Problems;

    [Fact]
    public void An_estate_of_millions_of_nodes_is_counted_before_it_is_made()
    {
        var nodes = string.Concat(
            Enumerable.Range(0, 40).Select(i => $"  \"n{i}x[1-100000]\": {{site: s, reach: {{by: stand-in}}}}\n")
        );
        var before = GC.GetAllocatedBytesForCurrentThread();
        var problem = Assert.Single(Problems(nodes, "  app: {product: p, members: [n0x1]}\n"), p =>
            p.What.Contains("more than 250000 nodes", StringComparison.Ordinal)
        );
        Assert.Equal(7, problem.At!.Line);
        Assert.True(GC.GetAllocatedBytesForCurrentThread() - before < 400L << 20);
    }

    [Fact]
    public void Components_that_name_the_same_nodes_again_and_again_are_counted_too()
    {
        var components = string.Concat(
            Enumerable.Range(0, 30).Select(i => $"  c{i}: {{product: p, members: [\"n[1-50000]\"]}}\n")
        );
        var problem = Assert.Single(Problems("  \"n[1-50000]\": {site: s, reach: {by: stand-in}}\n", components), p =>
            p.What.Contains("more than 1000000 nodes in all", StringComparison.Ordinal)
        );
        Assert.Equal(27, problem.At!.Line);
    }

    [Theory]
    [InlineData("n[1-999999999]", null)]
    [InlineData("n[1-100000,1-100000,1-100000]", null)]
    [InlineData("[1-1000]x[1-1000]", null)]
    [InlineData("n[3-1]", null)]
    [InlineData("n[,]", null)]
    [InlineData("n]1[", null)]
    [InlineData("n[01-12]-[a,b]", 24)]
    [InlineData("n", 1)]
    public void A_patterns_names_are_counted_as_they_are_made(string pattern, int? count)
    {
        Assert.Equal(count, NodePattern.CountOf(pattern));
        Assert.Equal(count, NodePattern.Expand(pattern)?.Length);
    }

    [Theory]
    [InlineData("tidestep: estate/1\nestate: {id: big, class: {0}}\n")]
    [InlineData("{\"tidestep\": \"estate/1\",\n\"estate\": {\"id\": \"big\", \"class\": \"{0}\"}}")]
    public void A_text_of_megabytes_is_refused_and_not_repeated(string document)
    {
        var problem = Assert.Single(
            EstateDocument
                .Read(document.Replace("{0}", new string('x', 8 << 20), StringComparison.Ordinal), "e.yaml")
                .Problems,
            p => p.What == $"a text of {8 << 20} characters"
        );
        Assert.Equal(2, problem.At!.Line);
        Assert.True(problem.ToString().Length < 200);
    }
}
