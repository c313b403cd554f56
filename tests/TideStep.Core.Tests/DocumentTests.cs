using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Tests;

public sealed class DocumentTests
{
    [Fact]
    public void All_errors_of_a_document_come_at_once_each_with_its_place()
    {
        var read = EstateDocument.Read(
            "tidestep: estate/1\nestate: {id: x, class: prodction}\n"
                + "sites: {s: {}}\nnodes:\n  n1: {site: t}\ncomponents:\n"
                + "  app: {product: p, membrs: [n1], members: [n2], depends-on: [ap]}\n",
            "e.yaml"
        );
        Assert.Null(read.Value);
        var lines = read.Problems.Select(p => (p.At!.Line, p.What)).ToList();
        Assert.Contains(lines, l => l.Line == 2 && l.What.Contains("prodction"));
        Assert.Contains(lines, l => l.Line == 5 && l.What.Contains("no site 't'"));
        Assert.Contains(lines, l => l.Line == 7 && l.What.Contains("'membrs' is no key here"));
        Assert.Contains(lines, l => l.Line == 7 && l.What.Contains("no node 'n2'"));
        Assert.Contains(lines, l => l.Line == 7 && l.What.Contains("no component 'ap'"));
        Assert.Contains(read.Problems, p => p.Hint == "Did you mean 'production'?");
        Assert.Contains(read.Problems, p => p.Hint == "Did you mean 'members'?");
    }

    [Fact]
    public void Scalars_are_read_as_the_text_that_stands_there()
    {
        var product = Fleet.Good(
            ProductDocument.Read("tidestep: product/1\nproduct: on\nreleases:\n  6.10: {}\n  6.9: {}\n", "p.yaml")
        );
        Assert.Equal("on", product.Id);
        Assert.Equal(["6.9", "6.10"], product.Releases.Select(r => r.Label));
    }

    [Fact]
    public void Json_is_read_as_well_with_its_places()
    {
        var read = ProductDocument.Read(
            "{\"tidestep\": \"product/1\",\n \"product\": {\"id\": \"a\"},\n \"relases\": {}}",
            "p.json"
        );
        var problem = Assert.Single(read.Problems);
        Assert.Equal((3, 2), (problem.At!.Line, problem.At.Column));
        Assert.Equal("Did you mean 'releases'?", problem.Hint);
    }

    [Theory]
    [InlineData("a: &x 1\nb: *x\n", "anchors and aliases")]
    [InlineData("a: 1\na: 2\n", "twice")]
    [InlineData("a: [1\n", "")]
    [InlineData("", "empty")]
    public void Unreadable_documents_say_why(string text, string part) =>
        Assert.Contains(EstateDocument.Read(text, "x.yaml").Problems, p => p.What.Contains(part) && p.At is not null);

    [Fact]
    public void A_circle_of_layers_is_an_error()
    {
        var read = EstateDocument.Read(
            "tidestep: estate/1\nestate: x\nsites: {s: {}}\nnodes: {n1: {site: s}}\n"
                + "components:\n  a: {product: p, members: [n1], stands-on: [b]}\n"
                + "  b: {product: p, members: [n1], stands-on: [a]}\n",
            "e.yaml"
        );
        Assert.Contains(read.Problems, p => p.What.Contains("a -> b -> a"));
    }

    [Fact]
    public void Expressions_are_checked_when_the_catalogue_is_read()
    {
        var read = ProductDocument.Read(
            "tidestep: product/1\nproduct: p\nreadings: {lag: {by: field, unit: bytes}}\n"
                + "steps:\n  a: {do: {start: x}, verify: 'lgg <= 1 MiB'}\n"
                + "  b: {do: {start: x}, verify: 'lag <= 1 min'}\n  c: {do: {start: x}, verify: 'lag <='}\n",
            "p.yaml"
        );
        Assert.Contains(read.Problems, p => p.What.Contains("'lgg' is not declared") && p.Hint!.Contains("lag"));
        Assert.Contains(read.Problems, p => p.What.Contains("size can't be compared with a time"));
        Assert.Contains(read.Problems, p => p.What.Contains("not understood at character 7"));
    }
}
