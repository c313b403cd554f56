using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>How a goal item binds its component.</summary>
public enum GoalKind
{
    To,
    Exactly,
    AtLeast,
}

/// <summary>One item of a goal, as written: a component or a product, and where it shall be.</summary>
public sealed record GoalItem(string? Component, string? Product, GoalKind Kind, string Range, Place? Place);

/// <summary>An untested pair that the administrator allows by name.</summary>
public sealed record AllowedPair(string Component, string Version, string With, string At);

/// <summary>What the administrator wants, as written; it is resolved against an estate and a catalogue by the
/// planner.</summary>
public sealed record Goal(
    ImmutableArray<GoalItem> Items,
    DateOnly? SupportedAt,
    bool Newest,
    ImmutableArray<string> Pins,
    bool AllowUntested,
    ImmutableArray<AllowedPair> Allowed,
    ImmutableArray<string> Order,
    DateOnly? Day
)
{
    /// <summary>Components that are made ready as soon as a run starts, before its windows and whatever else it does:
    /// staged, or installed without effect.</summary>
    public ImmutableArray<string> Early { get; init; } = [];

    /// <summary>Answers to what the new versions ask, by the question's identifier.</summary>
    public ImmutableSortedDictionary<string, string> Answers { get; init; } =
        ImmutableSortedDictionary<string, string>.Empty;
}

/// <summary>Reads a <c>goal/1</c> document.</summary>
public static class GoalDocument
{
    public const string Kind = "goal/1";

    /// <summary>The words for criteria 3 to 7, in their normal order.</summary>
    public static readonly string[] OrderWords = ["others", "outage", "closing", "jumps", "minutes"];

    public static Checked<Goal> Read(string text, string file)
    {
        var node = DocumentReader.Read(text, file);
        if (node.Value is null || !node.Problems.IsEmpty)
            return new Checked<Goal>(null, node.Problems);
        var findings = new Findings();
        var form = Form.Open(node.Value, "the document", findings);
        DocumentKinds.Expect(form, Kind);
        ImmutableArray<GoalItem> items = [.. form.List("goal").Select(n => ReadItem(n, findings)).OfType<GoalItem>()];
        var supportedAt = form.Date("supported-at");
        if (items.IsEmpty && supportedAt is null && !findings.Any)
            findings.Add(
                "the goal names nothing",
                form.At,
                "Add 'goal: [{component: ..., to: ...}]' or 'supported-at: 2027-06-30'."
            );
        if (!items.IsEmpty && supportedAt is not null)
            findings.Add("'goal' and 'supported-at' exclude each other", form.PlaceOf("supported-at"));
        var allowed = ImmutableArray.CreateBuilder<AllowedPair>();
        var all = form.Node("allow-untested") is TextNode { Text: "all" };
        if (!all)
            foreach (var item in form.List("allow-untested"))
            {
                var pair = Form.Open(item, "allow-untested", findings);
                allowed.Add(
                    new AllowedPair(
                        pair.Required("component"),
                        pair.Required("version"),
                        pair.Required("with"),
                        pair.Required("at")
                    )
                );
                pair.Close();
            }
        var order = form.Words("order");
        foreach (var (word, at) in order)
            if (!OrderWords.Contains(word))
                findings.Add($"'{word}' is no criterion", at, Nearest.Hint(word, OrderWords));
        var goal = new Goal(
            items,
            supportedAt,
            form.Flag("newest"),
            [.. form.Words("pins").Select(w => w.Text)],
            all,
            allowed.ToImmutable(),
            [.. order.Select(w => w.Text)],
            form.Date("day")
        )
        {
            Early = [.. form.Words("early").Select(w => w.Text)],
            Answers = form.Map("answers")
                .ToImmutableSortedDictionary(
                    a => a.Key,
                    a => a.Value is TextNode text ? text.Text : "",
                    StringComparer.Ordinal
                ),
        };
        form.Close();
        return new Checked<Goal>(findings.Any ? null : goal, findings.All);
    }

    private static GoalItem? ReadItem(Node node, Findings findings)
    {
        var form = Form.Open(node, "goal", findings);
        var (component, product) = (form.Text("component"), form.Text("product"));
        var texts = new[]
        {
            (GoalKind.To, form.Text("to")),
            (GoalKind.Exactly, form.Text("exactly")),
            (GoalKind.AtLeast, form.Text("at-least")),
        }
            .Where(t => t.Item2 is not null)
            .ToList();
        form.Close();
        if ((component is null) == (product is null))
            findings.Add("goal: name either a component or a product", form.At);
        else if (texts.Count != 1)
            findings.Add("goal: say where it shall be with one of to, exactly, at-least", form.At);
        else
            return new GoalItem(component, product, texts[0].Item1, texts[0].Item2!, form.At);
        return null;
    }
}
