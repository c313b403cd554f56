using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Versions;

namespace TideStep.Core.Paths;

/// <summary>The rules on which an answer of planning rests: those without which, one at a time, it would be another
/// answer. Of rules that say the same twice neither is among them.</summary>
public static class RulesRelied
{
    /// <summary>The rules; the question is asked anew without each rule in turn, so this takes as many searches as
    /// there are rules between related products.</summary>
    public static ImmutableArray<CompatibilityRule> Of(PathRequest request, PathAnswer answer)
    {
        var related = request
            .Index.Pairs.SelectMany(p =>
                new[] { request.Index.Components[p.A].Product, request.Index.Components[p.B].Product }
            )
            .ToHashSet();
        return
        [
            .. request
                .Index.Catalogue.Products.Where(p => related.Contains(p.Id))
                .SelectMany(p => p.Rules)
                .Where(rule => !Same(Ask(request, Without(request.Index.Catalogue, rule)), answer)),
        ];
    }

    /// <summary>The upper bounds on which it rests as well: rules that would give another answer if one of their ranges
    /// went on for ever; with the range as it is written.</summary>
    public static ImmutableArray<(RangeRule Rule, VersionRange Bounded)> Bounds(PathRequest request, PathAnswer answer)
    {
        var catalogue = request.Index.Catalogue;
        var deciding =
            from product in catalogue.Products
            from rule in product.Rules.OfType<RangeRule>()
            where rule.Verdict != Verdict.Unsupported
            from wider in new[]
            {
                (rule.This, Rule: rule.This.WithoutUpperBound() is { } mine ? rule with { This = mine } : null),
                (rule.At, Rule: rule.At.WithoutUpperBound() is { } its ? rule with { At = its } : null),
            }
            where wider.Rule is not null
            let others = catalogue.Products.Select(p =>
                p.Rules.Contains(rule) ? p with { Rules = p.Rules.Replace(rule, wider.Rule) } : p
            )
            where !Same(Ask(request, others), answer)
            select (rule, wider.Item1);
        return [.. deciding];
    }

    private static IEnumerable<Product> Without(ProductCatalogue catalogue, CompatibilityRule rule) =>
        catalogue.Products.Select(p => p.Rules.Contains(rule) ? p with { Rules = p.Rules.Remove(rule) } : p);

    /// <summary>The answer to the same question with other rules.</summary>
    public static PathAnswer? Ask(PathRequest request, IEnumerable<Product> products) =>
        ProductCatalogue.Create(products).Value is { } catalogue
            ? PathFinder
                .Find(request with { Index = new EstateIndex(request.Index.Estate, request.Index.Readings, catalogue) })
                .Value
            : null;

    /// <summary>Whether two answers are the same: found or not, and the same jumps by the same methods in the same
    /// order.</summary>
    public static bool Same(PathAnswer? one, PathAnswer other) =>
        one is not null
        && one.Found == other.Found
        && one.Moves.Select(m => string.Join('+', m.Jumps.Select(j => $"{j.Component} {j.Jump.Id} {j.Method}")))
            .SequenceEqual(
                other.Moves.Select(m => string.Join('+', m.Jumps.Select(j => $"{j.Component} {j.Jump.Id} {j.Method}")))
            );
}
