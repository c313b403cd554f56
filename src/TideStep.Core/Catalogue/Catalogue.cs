using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Core.Catalogue;

/// <summary>All products together, with every range read by the scheme of the product it speaks of.</summary>
public sealed class ProductCatalogue
{
    private readonly Dictionary<string, Product> _products;

    private readonly Lazy<ILookup<string, Reference>> _asked;

    private ProductCatalogue(Dictionary<string, Product> products)
    {
        _products = products;
        _asked = new(() =>
            products
                .Values.SelectMany(p => p.Jumps)
                .SelectMany(j => j.Prerequisites)
                .SelectMany(p => p.Holds.OfRelated)
                .Distinct()
                .ToLookup(r => r.Product, r => r.Reading)
        );
    }

    /// <summary>The readings of a product's members that prerequisites of related products ask for.</summary>
    public IEnumerable<Reference> AskedByOthers(string product) => _asked.Value[product];

    public static readonly ProductCatalogue Empty = new([]);

    public IEnumerable<Product> Products => _products.Values.OrderBy(p => p.Id, StringComparer.Ordinal);

    /// <summary>The product of that identifier, or null.</summary>
    public Product? Find(string id) => _products.GetValueOrDefault(id);

    /// <summary>Puts products together; two of one identifier or ranges that the other product's scheme can't read are
    /// problems.</summary>
    public static Checked<ProductCatalogue> Create(IEnumerable<Product> products)
    {
        var findings = new Findings();
        var found = new Dictionary<string, Product>();
        foreach (var product in products)
            if (!found.TryAdd(product.Id, product))
                findings.Add($"two documents describe the product '{product.Id}'", null, "Keep one of the two.");
        var bound = found.Values.ToDictionary(p => p.Id, p => Bind(p, found, findings));
        return new Checked<ProductCatalogue>(findings.Any ? null : new ProductCatalogue(bound), findings.All);
    }

    private static Product Bind(Product product, Dictionary<string, Product> all, Findings findings)
    {
        VersionRange Reread(VersionRange range, string other, string what, Place? place)
        {
            if (!all.TryGetValue(other, out var its))
                return range;
            if (VersionRange.TryParse(range.Text, its.Scheme, out var reason) is { } read)
                return read;
            findings.Add($"{what}: '{range.Text}' is no range of {other}: {reason}", place);
            return range;
        }
        return product with
        {
            Rules = [.. product.Rules.Select(r => r with { At = Reread(r.At, r.Other, $"rule {r.Id}", r.Place) })],
            Jumps =
            [
                .. product.Jumps.Select(j =>
                    j with
                    {
                        Requires =
                        [
                            .. j.Requires.Select(q =>
                                q with
                                {
                                    Range = Reread(q.Range, q.Product, $"jump {j.Id}", j.Place),
                                }
                            ),
                        ],
                        Together =
                        [
                            .. j.Together.Select(q =>
                                q with
                                {
                                    Range = Reread(q.Range, q.Product, $"jump {j.Id}", j.Place),
                                }
                            ),
                        ],
                    }
                ),
            ],
        };
    }
}
