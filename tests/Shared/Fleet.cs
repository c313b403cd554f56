using System.Text;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Tests;

/// <summary>A small builder language for estates and catalogues; texts are the real documents, so that tests read what
/// users write.</summary>
internal sealed class Fleet
{
    private readonly StringBuilder _nodes = new();
    private readonly StringBuilder _components = new();
    private readonly StringBuilder _readings = new();
    private readonly Dictionary<string, string> _products = [];
    private string _windows = "";
    private string _zone = "";
    private string _sites = "  s: {turn: 1}\n";

    public Fleet Sites(string yaml)
    {
        _sites = yaml;
        return this;
    }

    /// <summary>Freezes, as an estate's document has them, after its windows.</summary>
    public Fleet Freezes(string yaml)
    {
        _windows += $"freezes:\n{yaml}";
        return this;
    }

    /// <summary>Sign-offs, as an estate's document has them; none where the text is empty.</summary>
    public Fleet SignOffs(string yaml)
    {
        _windows += yaml.Length == 0 ? "" : $"sign-offs:\n{yaml}";
        return this;
    }

    /// <summary>Windows and a zone, as an estate's document has them.</summary>
    public Fleet Windows(string yaml, string zone = "UTC")
    {
        (_windows, _zone) = ($"windows:\n{yaml}", $", zone: {zone}");
        return this;
    }

    public Fleet Node(string pattern, string rest = "site: s")
    {
        _nodes.Append($"  \"{pattern}\": {{{rest}}}\n");
        return this;
    }

    public Fleet With(string id, string product, string running, string members, string rest = "")
    {
        _components.Append(
            $"  {id}: {{product: {product}, members: [{members}]{(rest.Length > 0 ? ", " + rest : "")}}}\n"
        );
        _readings.Append($"  {id}: {{running: \"{running}\"}}\n");
        return this;
    }

    /// <summary>Whether a component was added.</summary>
    public bool Has(string id) => _components.ToString().Contains($"  {id}: {{", StringComparison.Ordinal);

    public Fleet Product(string id, string body)
    {
        _products[id] =
            $"tidestep: product/1\nproduct: {{id: {id}, roles: [follower, leader], voting: [follower, "
            + $"leader]}}\n{body}";
        return this;
    }

    /// <summary>A product by its whole document.</summary>
    public Fleet Document(string id, string text)
    {
        _products[id] = text;
        return this;
    }

    /// <summary>Releases and a jump between each two that follow one another, by one method text.</summary>
    public Fleet Chain(
        string id,
        string[] releases,
        string methods = "rolling: {member: 5 min, settle: 1 min}",
        string rest = ""
    )
    {
        var text = new StringBuilder("releases:\n");
        foreach (var release in releases)
            text.Append($"  \"{release}\": {{}}\n");
        text.Append("jumps:\n");
        for (var i = 1; i < releases.Length; i++)
            text.Append(
                $"  to-{releases[i]}: {{from: \"={releases[i - 1]}\", to: \"{releases[i]}\", methods: {{{methods}}}}}\n"
            );
        return Product(id, text + rest);
    }

    public string EstateText =>
        $"tidestep: estate/1\nestate: {{id: test, class: test{_zone}}}\n"
        + $"{_windows}sites:\n{_sites}nodes:\n{_nodes}components:\n{_components}";

    /// <summary>The product documents by their identifiers.</summary>
    public IReadOnlyDictionary<string, string> ProductTexts => _products;

    /// <summary>All documents, to show a case that fails.</summary>
    public string Texts => EstateText + string.Join("\n", _products.Values);

    public Estate Estate => Good(EstateDocument.Read(EstateText, "estate.yaml"));

    public ProductCatalogue Catalogue =>
        Good(ProductCatalogue.Create(_products.Select(p => Good(ProductDocument.Read(p.Value, p.Key + ".yaml")))));

    public EstateIndex Index(string members = "")
    {
        var estate = Estate;
        var text =
            $"tidestep: readings/1\ntaken: {Nights.On(-9)}T10:00:00Z\ncomponents:\n"
            + $"{_readings}{(members.Length > 0 ? "members:\n" + members : "")}";
        return new EstateIndex(estate, Good(ReadingsDocument.Read(text, "readings.yaml", estate)), Catalogue);
    }

    public PathAnswer Path(string goal, string members = "") => Good(PathFinder.Find(Request(goal, members)));

    public PathRequest Request(string goal, string members = "") =>
        new(Index(members), Good(GoalDocument.Read($"tidestep: goal/1\n{goal}", "goal.yaml")), Nights.Day(-6));

    public static T Good<T>(Checked<T> read)
        where T : class =>
        read.Ok ? read.Value! : throw new InvalidOperationException(string.Join("\n", read.Problems));
}
