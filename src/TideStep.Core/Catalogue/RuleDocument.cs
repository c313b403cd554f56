using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Versions;

namespace TideStep.Core.Catalogue;

/// <summary>Reads the compatibility and distance rules of a product.</summary>
internal static class RuleDocument
{
    /// <summary>The relation words as rules write them, by the end they speak from.</summary>
    public static readonly (string Word, RelationEnd End)[] Ends =
    [
        ("depends-on", RelationEnd.DependsOn),
        ("serves", RelationEnd.Serves),
        ("stands-on", RelationEnd.StandsOn),
        ("carries", RelationEnd.Carries),
        ("inside", RelationEnd.Inside),
        ("hosts", RelationEnd.Hosts),
        ("peer", RelationEnd.Peer),
    ];

    public static ImmutableArray<CompatibilityRule> Read(
        string product,
        Form document,
        VersionScheme scheme,
        Findings findings
    )
    {
        var rules = ImmutableArray.CreateBuilder<CompatibilityRule>();
        foreach (var node in document.List("rules"))
        {
            var form = Form.Open(node, $"rule {rules.Count + 1}", findings);
            if (ReadRule($"{product}#{form.Text("id") ?? (rules.Count + 1).ToString()}", form, scheme) is { } rule)
                rules.Add(rule);
            form.Close();
        }
        foreach (var twin in rules.GroupBy(r => r.Id).Where(g => g.Count() > 1))
            findings.Add($"two rules are called '{twin.Key}'", twin.Last().Place);
        return rules.ToImmutable();
    }

    private static CompatibilityRule? ReadRule(string id, Form form, VersionScheme scheme)
    {
        var ends = Ends.Where(e => form.Has(e.Word)).ToList();
        if (ends.Count != 1)
        {
            form.Findings.Add(
                $"{form.What}: must name one relation",
                form.At,
                $"Write one of {string.Join(", ", Ends.Select(e => e.Word))} with the other product."
            );
            foreach (var (word, _) in Ends)
                form.Node(word);
        }
        var (end, other) = ends.Count == 1 ? (ends[0].End, form.Required(ends[0].Word)) : (RelationEnd.Peer, "");
        var range = form.Range("this", scheme) ?? VersionRange.Any;
        var verdict = form.Word("verdict", "supported", "transitional", "untested", "unsupported");
        // The other product's scheme is not known yet: its range is read again, by that scheme, when the catalogue is
        // put together.
        var at = form.Text("at") ?? "*";
        var source = ReadSource(form);
        var mayRest = form.Flag("may-rest");
        if (form.Word("by", "major", "minor") is { } by)
            return new DistanceRule(
                id,
                end,
                other,
                range,
                Unread(at),
                by == "major",
                form.Count("older-by") ?? 0,
                form.Count("newer-by") ?? 0,
                Parse(verdict),
                source,
                form.At
            );
        form.Node("older-by");
        form.Node("newer-by");
        if (form.Has("older-by") || form.Has("newer-by"))
            form.Findings.Add($"{form.What}: a distance needs 'by: major' or 'by: minor'", form.At);
        else if (verdict is null && !form.Has("verdict"))
            form.Findings.Add(
                $"{form.What}: 'verdict' is missing",
                form.At,
                "Write supported, transitional, untested or unsupported."
            );
        return new RangeRule(id, end, other, range, Unread(at), Parse(verdict), mayRest, source, form.At);
    }

    // Dotted reading keeps the text; Catalogue.Create replaces it by the other product's own reading.
    private static VersionRange Unread(string text) =>
        VersionRange.TryParse(text, VersionScheme.Dotted, out _) ?? VersionRange.FromTerms(text, []);

    private static Verdict Parse(string? verdict) =>
        verdict switch
        {
            "transitional" => Verdict.Transitional,
            "untested" => Verdict.Untested,
            "unsupported" => Verdict.Unsupported,
            _ => Verdict.Supported,
        };

    private static RuleSource? ReadSource(Form form)
    {
        if (form.Node("source") is not { } node)
            return null;
        var source = Form.OpenOrWord(node, "title", "source", form.Findings);
        var read = new RuleSource(source.Required("title"), source.Date("date"));
        source.Close();
        return read;
    }
}
