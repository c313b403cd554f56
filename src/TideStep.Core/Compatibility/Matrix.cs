using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Core.Compatibility;

/// <summary>One place of a matrix: what the rules say of two releases, which rules, and the components that stand there
/// today.</summary>
public sealed record MatrixPlace(
    string This,
    string At,
    Verdict Verdict,
    bool NoData,
    ImmutableArray<string> Rules,
    ImmutableArray<string> Today
);

/// <summary>The verdict of every pair of releases of two products in a relation, seen from the first one's
/// end.</summary>
public sealed record Matrix(
    string Product,
    string Relation,
    string Other,
    ImmutableArray<string> These,
    ImmutableArray<string> Ats,
    ImmutableArray<MatrixPlace> Places
)
{
    /// <summary>The words by which relations are named, from the declaring component's end.</summary>
    public static readonly ImmutableDictionary<string, RelationKind> Relations = new Dictionary<string, RelationKind>
    {
        ["depends-on"] = RelationKind.DependsOn,
        ["stands-on"] = RelationKind.StandsOn,
        ["inside"] = RelationKind.Inside,
        ["peer"] = RelationKind.Peer,
    }.ToImmutableDictionary();

    /// <summary>Makes the matrix; an unknown product or relation is named with the nearest word.</summary>
    /// <param name="catalogue">The products.</param>
    /// <param name="product">The product that declares the relation.</param>
    /// <param name="relation">depends-on, stands-on, inside or peer.</param>
    /// <param name="other">The product at the other end.</param>
    /// <param name="index">The estate whose pairs of today are marked, or null.</param>
    public static Checked<Matrix> Make(
        ProductCatalogue catalogue,
        string product,
        string relation,
        string other,
        EstateIndex? index
    )
    {
        var findings = new Findings();
        if (catalogue.Find(product) is not { } mine)
            findings.Add(
                $"the catalogue has no product '{product}'",
                null,
                Nearest.Hint(product, catalogue.Products.Select(p => p.Id))
            );
        if (catalogue.Find(other) is not { } theirs)
            findings.Add(
                $"the catalogue has no product '{other}'",
                null,
                Nearest.Hint(other, catalogue.Products.Select(p => p.Id))
            );
        if (!Relations.TryGetValue(relation, out var kind))
            findings.Add($"'{relation}' is no relation", null, Nearest.Hint(relation, Relations.Keys));
        if (findings.Any)
            return new Checked<Matrix>(null, findings.All);
        var (a, b) = (catalogue.Find(product)!, catalogue.Find(other)!);
        var (these, ats) = (
            a.Releases.OrderBy(r => r.Version).ToImmutableArray(),
            b.Releases.OrderBy(r => r.Version).ToImmutableArray()
        );
        var today = Today(index, a, b, kind);
        var judge = new PairJudge(a, [.. these.Select(r => r.Version)], b, [.. ats.Select(r => r.Version)], kind);
        var named = new Dictionary<CompatibilityRule, string>(ReferenceEqualityComparer.Instance);
        string Name(CompatibilityRule rule) =>
            named.TryGetValue(rule, out var known)
                ? known
                : named[rule] = rule.Source is { } source ? $"{rule.Id}, {source.Title}" : rule.Id;
        ImmutableArray<string> Names(ImmutableArray<CompatibilityRule> rules)
        {
            var names = ImmutableArray.CreateBuilder<string>(rules.Length);
            foreach (var rule in rules)
                names.Add(Name(rule));
            return names.MoveToImmutable();
        }
        var places = ImmutableArray.CreateBuilder<MatrixPlace>(these.Length * ats.Length);
        for (var i = 0; i < these.Length; i++)
        for (var j = 0; j < ats.Length; j++)
        {
            var verdict = judge.At(i, j);
            places.Add(
                new MatrixPlace(
                    these[i].Label,
                    ats[j].Label,
                    verdict.Verdict,
                    verdict.NoData,
                    Names(verdict.Rules),
                    today.Count == 0
                        ? []
                        :
                        [
                            .. today
                                .Where(t => t.This.Equals(these[i].Version) && t.At.Equals(ats[j].Version))
                                .Select(t => t.Who),
                        ]
                )
            );
        }
        return new Checked<Matrix>(
            new Matrix(
                a.Id,
                relation,
                b.Id,
                [.. these.Select(r => r.Label)],
                [.. ats.Select(r => r.Label)],
                places.ToImmutable()
            ),
            []
        );
    }

    private static List<(Versions.Version This, Versions.Version At, string Who)> Today(
        EstateIndex? index,
        Product a,
        Product b,
        RelationKind kind
    )
    {
        var found = new List<(Versions.Version, Versions.Version, string)>();
        if (index is null)
            return found;
        foreach (var pair in index.Pairs.Where(p => p.Kind == kind))
        foreach (
            var (mine, other) in kind == RelationKind.Peer
                ? [(pair.A, pair.B), (pair.B, pair.A)]
                : new[] { (pair.A, pair.B) }
        )
            if (index.Components[mine].Product == a.Id && index.Components[other].Product == b.Id)
                foreach (var one in Running(index, mine, a))
                foreach (var two in Running(index, other, b))
                    found.Add((one, two, $"{index.Components[mine].Id} with {index.Components[other].Id}"));
        return found;
    }

    private static IEnumerable<Versions.Version> Running(EstateIndex index, int component, Product product) =>
        index
            .Components[component]
            .Members.Select(m => index.Readings.Of(m).Running)
            .OfType<string>()
            .Select(l => product.Scheme.TryParse(l))
            .OfType<Versions.Version>()
            .Distinct();

    /// <summary>A release's row in words: runs of neighbouring releases with one verdict, <c>supported 8.2 to 8.4;
    /// untested 9.0</c>.</summary>
    public string Row(string release)
    {
        var runs = new List<(string Verdict, string First, string Last)>();
        foreach (var place in Places.Where(p => p.This == release))
        {
            var word = place.NoData ? "no data" : place.Verdict.ToString().ToLowerInvariant();
            if (runs.Count > 0 && runs[^1].Verdict == word)
                runs[^1] = runs[^1] with { Last = place.At };
            else
                runs.Add((word, place.At, place.At));
        }
        return string.Join(
            "; ",
            runs.Select(r => r.First == r.Last ? $"{r.Verdict} {r.First}" : $"{r.Verdict} {r.First} to {r.Last}")
        );
    }
}
