using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Core.Catalogue;

/// <summary>Looks through a whole catalogue for what reads well and yet can't be meant: each with its place. None of it
/// is refused, since a catalogue grows document by document.</summary>
public static class CatalogueReview
{
    /// <summary>What was found, in the order of the documents.</summary>
    /// <param name="catalogue">The catalogue.</param>
    /// <param name="estate">The estate that it is for, where there is one: what the jumps require must be related to
    /// something there.</param>
    public static ImmutableArray<Problem> Of(ProductCatalogue catalogue, EstateIndex? estate = null)
    {
        var findings = new Findings();
        foreach (var product in catalogue.Products)
        {
            if (estate is not null)
                Unrelated(catalogue, product, estate, findings);
            foreach (var rule in product.Rules)
                Rule(catalogue, product, rule, findings);
            foreach (var jump in product.Jumps)
                Jump(catalogue, product, jump, findings);
            Contradictions(catalogue, product, findings);
            Parts(product, findings);
            Voids(catalogue, product, findings);
            Questions(product, findings);
            Reach(product, findings);
        }
        return findings.All;
    }

    private static void Rule(ProductCatalogue catalogue, Product product, CompatibilityRule rule, Findings findings)
    {
        if (catalogue.Find(rule.Other) is not { } other)
        {
            findings.Add(
                $"rule {rule.Id} speaks of '{rule.Other}', which is no product of the catalogue",
                rule.Place,
                Nearest.Hint(rule.Other, catalogue.Products.Select(p => p.Id))
            );
            return;
        }
        if (!Any(product, rule.This))
            findings.Add(
                $"rule {rule.Id} covers no release of {product.Id}: {rule.This.Text}",
                rule.Place,
                $"Known are {Known(product)}."
            );
        if (!Any(other, rule.At))
            findings.Add(
                $"rule {rule.Id} covers no release of {other.Id}: {rule.At.Text}",
                rule.Place,
                $"Known are {Known(other)}."
            );
    }

    private static void Jump(ProductCatalogue catalogue, Product product, Jump jump, Findings findings)
    {
        if (!jump.FromNone && !product.Releases.Any(r => jump.LeadsFrom(r.Version, product.IsRelease)))
            findings.Add(
                $"jump {jump.Id} of {product.Id} leads from no release {(jump.Down ? "above" : "below")} "
                    + $"{jump.To}: {jump.From.Text}",
                jump.Place,
                $"Known are {Known(product)}."
            );
        foreach (var wish in jump.Points.Where(w => w.Of is not null))
            PointOf(catalogue, product, jump, wish, findings);
        foreach (var prerequisite in jump.Prerequisites)
            OfRelated(catalogue, product, jump, prerequisite, findings);
        foreach (var requirement in jump.Requires.Concat(jump.Together))
        {
            if (catalogue.Find(requirement.Product) is not { } other)
                findings.Add(
                    $"jump {jump.Id} of {product.Id} asks for '{requirement.Product}', which is no product of "
                        + $"the catalogue",
                    jump.Place,
                    Nearest.Hint(requirement.Product, catalogue.Products.Select(p => p.Id))
                );
            else if (!Any(other, requirement.Range))
                findings.Add(
                    $"jump {jump.Id} of {product.Id} asks for {requirement.Product} {requirement.Range.Text}, "
                        + $"which is no release of it",
                    jump.Place,
                    $"Known are {Known(other)}."
                );
        }
    }

    // What is asked of related components is a product of the catalogue, and a reading that it has; only here it is
    // known of what kind that is.
    private static void OfRelated(
        ProductCatalogue catalogue,
        Product product,
        Jump jump,
        Prerequisite prerequisite,
        Findings findings
    )
    {
        var what = $"jump {jump.Id} of {product.Id}, prerequisite {prerequisite.Id}";
        foreach (var id in prerequisite.Holds.References.Where(r => r.Name == "related").SelectMany(r => r.Arguments))
            if (catalogue.Find(id) is null)
                findings.Add(
                    $"{what} asks of '{id}', which is no product of the catalogue",
                    jump.Place,
                    Nearest.Hint(id, catalogue.Products.Select(p => p.Id))
                );
        if (prerequisite.Holds.OfRelated.Any(r => catalogue.Find(r.Product) is null))
            return;
        foreach (var mistake in TypeCheck.Check(prerequisite.Holds, r => KindOf(catalogue, product, r)))
            findings.Add(
                $"{what}: {mistake.What}",
                jump.Place,
                prerequisite
                    .Holds.OfRelated.Where(r => KindOf(catalogue, catalogue.Find(r.Product)!, r.Reading) is null)
                    .Select(r => Nearest.Hint(r.Reading.Key, KnownReadings.Names(catalogue.Find(r.Product)!.Readings)))
                    .FirstOrDefault(),
                $"at character {mistake.Offset + 1} of {prerequisite.Holds.Text}"
            );
    }

    private static ValueKind? KindOf(ProductCatalogue catalogue, Product product, Reference reference) =>
        reference.OfRelated is { } related
            ? KnownReadings.KindOf(related.Reading, catalogue.Find(related.Product)!.Readings)
            : KnownReadings.KindOf(reference, product.Readings);

    // What is captured of another product is a capture there.
    private static void PointOf(
        ProductCatalogue catalogue,
        Product product,
        Jump jump,
        PointWish wish,
        Findings findings
    )
    {
        if (catalogue.Find(wish.Of!) is not { } other)
            findings.Add(
                $"jump {jump.Id} of {product.Id} wants a point of '{wish.Of}', which is no product of the catalogue",
                wish.Place,
                Nearest.Hint(wish.Of!, catalogue.Products.Select(p => p.Id))
            );
        else if (!other.Steps.TryGetValue(wish.Capture, out var step) || step.Do is not CaptureAction)
            findings.Add(
                $"jump {jump.Id} of {product.Id} wants '{wish.Capture}' of {other.Id}, which captures nothing there",
                wish.Place,
                Nearest.Hint(wish.Capture, other.Steps.Values.Where(s => s.Do is CaptureAction).Select(s => s.Name))
            );
    }

    // A requirement on a product that nothing in the estate is related to is never asked (3-planning, Moves).
    private static void Unrelated(ProductCatalogue catalogue, Product product, EstateIndex estate, Findings findings)
    {
        var uses = Enumerable
            .Range(0, estate.Components.Length)
            .Where(c => estate.Components[c].Product == product.Id)
            .ToList();
        if (uses.Count == 0)
            return;
        foreach (var jump in product.Jumps)
        foreach (var requirement in jump.Requires.Where(r => !uses.Any(c => estate.IsRelatedTo(c, r.Product))))
            findings.Add(
                $"jump {jump.Id} of {product.Id} requires {requirement.Product} {requirement.Range.Text}, and no "
                    + $"{product.Id} of the estate is related to any: it would never be asked",
                jump.Place,
                $"Relate {string.Join(" or ", uses.Select(c => estate.Components[c].Id).Take(3))} to a component of "
                    + $"{requirement.Product}, or mend the product that the jump names."
                    + (catalogue.Find(requirement.Product) is null ? " The catalogue has no such product." : "")
            );
    }

    // What a step makes void of another product has to be a capture there.
    private static void Voids(ProductCatalogue catalogue, Product product, Findings findings)
    {
        foreach (var step in product.Steps.Values)
        foreach (var (id, capture) in step.Voids.Select(CaptureName.Of))
            if (id is null)
                continue;
            else if (catalogue.Find(id) is not { } other)
                findings.Add(
                    $"step {step.Name} of {product.Id} makes points of '{id}' void, which is no product of "
                        + $"the catalogue",
                    step.Place,
                    Nearest.Hint(id, catalogue.Products.Select(p => p.Id))
                );
            else if (!other.Steps.TryGetValue(capture, out var captures) || captures.Do is not CaptureAction)
                findings.Add(
                    $"step {step.Name} of {product.Id} makes '{capture}' of {id} void, which captures nothing there",
                    step.Place,
                    Nearest.Hint(capture, other.Steps.Values.Where(s => s.Do is CaptureAction).Select(s => s.Name))
                );
    }

    // A part that comes from another has to have one of that name in a release before.
    private static void Parts(Product product, Findings findings)
    {
        var releases = product.Releases.OrderBy(r => r.Version).ToList();
        for (var i = 0; i < releases.Count; i++)
            foreach (var part in releases[i].Origins.Where(o => releases.Take(i).All(r => !r.Parts.Contains(o.Value))))
                findings.Add(
                    $"{product.Id} {releases[i].Label}: the part {part.Key} comes from '{part.Value}', which "
                        + $"no release before it has",
                    releases[i].Place,
                    Nearest.Hint(part.Value, releases.Take(i).SelectMany(r => r.Parts).Distinct())
                );
    }

    // One question has one wording and one answer where nobody gives any; jumps that disagree would be answered by
    // chance.
    private static void Questions(Product product, Findings findings)
    {
        foreach (
            var question in product
                .Jumps.SelectMany(j => j.Questions.Select(q => (Jump: j, Question: q)))
                .GroupBy(q => q.Question.Id)
        )
            if (question.Select(q => q.Question).Distinct().Count() > 1)
                findings.Add(
                    $"{product.Id}: the jumps {string.Join(" and ", question.Select(q => q.Jump.Id))} ask "
                        + $"'{question.Key}' in different words or take different answers where nobody gives one",
                    question.Last().Jump.Place,
                    "Give it the same words and the same answer, or another name."
                );
    }

    // An exception within a wider rule is meant; rules that overlap otherwise, or cover the same, and say different
    // things can't both be.
    private static void Contradictions(ProductCatalogue catalogue, Product product, Findings findings)
    {
        foreach (var about in product.Rules.OfType<RangeRule>().GroupBy(r => (r.End, r.Other)))
        {
            if (catalogue.Find(about.Key.Other) is not { } other)
                continue;
            var covered = about
                .Select(r => (Rule: r, Pairs: Pairs(product, other, r)))
                .Where(r => r.Pairs.Count > 0)
                .ToList();
            for (var i = 0; i < covered.Count; i++)
            for (var j = i + 1; j < covered.Count; j++)
            {
                var ((one, mine), (two, theirs)) = (covered[i], covered[j]);
                if (
                    one.Verdict == two.Verdict
                    || !mine.Overlaps(theirs)
                    || mine.IsProperSubsetOf(theirs)
                    || theirs.IsProperSubsetOf(mine)
                )
                    continue;
                var (a, b) = mine.Intersect(theirs).First();
                findings.Add(
                    $"rules {one.Id} and {two.Id} contradict each other: {product.Id} {a} with {other.Id} {b} "
                        + $"is {Word(one)} by the one and {Word(two)} by the other",
                    two.Place,
                    $"{Word(one.Verdict < two.Verdict ? Stronger(one, two) : Stronger(two, one))} is what "
                        + $"counts; narrow one of them."
                );
            }
        }
    }

    private static RangeRule Stronger(RangeRule better, RangeRule worse) =>
        worse.Verdict == Verdict.Unsupported ? worse : better;

    private static string Word(RangeRule rule) => rule.Verdict.ToString().ToLowerInvariant();

    private static HashSet<(string, string)> Pairs(Product product, Product other, RangeRule rule) =>
        [
            .. product
                .Releases.Where(r => rule.This.Contains(r.Version, product.IsRelease))
                .SelectMany(r =>
                    other
                        .Releases.Where(o => rule.At.Contains(o.Version, other.IsRelease))
                        .Select(o => (r.Label, o.Label))
                ),
        ];

    // The lowest release is where one starts; any other that no jump leads to can't be had by an upgrade.
    private static void Reach(Product product, Findings findings)
    {
        if (product.Jumps.IsEmpty)
            return;
        foreach (var release in product.Releases.OrderBy(r => r.Version).Skip(1))
            if (
                !product.Jumps.Any(j =>
                    j.To.Equals(release.Version) && j.FromNone
                    || j.To.Equals(release.Version)
                        && product.Releases.Any(r => j.LeadsFrom(r.Version, product.IsRelease))
                )
            )
                findings.Add(
                    $"no jump leads to {product.Id} {release.Label}",
                    release.Place,
                    "Describe the jump, or leave the release out."
                );
    }

    private static bool Any(Product product, VersionRange range) =>
        product.Releases.Any(r => range.Contains(r.Version, product.IsRelease));

    private static string Known(Product product) =>
        string.Join(", ", product.Releases.Select(r => r.Label).TakeLast(8));
}
