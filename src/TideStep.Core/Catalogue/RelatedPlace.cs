using TideStep.Core.Documents;

namespace TideStep.Core.Catalogue;

/// <summary>Where a step is done, or a reading taken, that is about a member and does not happen on its own node: at
/// members of a related component, such as the balancer before it (4-execution, A step).</summary>
/// <param name="Relation">How the member's component is related to the other.</param>
/// <param name="Product">The other's product.</param>
/// <param name="First">Whether it is the first of its members alone, not each.</param>
public sealed record RelatedPlace(RelationEnd Relation, string Product, bool First)
{
    /// <summary>How it reads in a document: <c>serves: heron</c>.</summary>
    public override string ToString() => $"{RuleDocument.Ends.First(e => e.End == Relation).Word}: {Product}";

    /// <summary>Reads <c>{serves: PRODUCT, which: each or first}</c>; null, with the problem said, where it is
    /// none.</summary>
    internal static RelatedPlace? Read(Node node, string what, bool first, Findings findings)
    {
        var form = Form.Open(node, what, findings);
        var ends = RuleDocument.Ends.Where(e => form.Has(e.Word)).ToList();
        var place =
            ends.Count == 1
                ? new RelatedPlace(
                    ends[0].End,
                    form.Required(ends[0].Word),
                    first
                        ? form.Word("which", "first", "each") != "each"
                        : form.Word("which", "each", "first") == "first"
                )
                : null;
        if (place is null)
        {
            findings.Add(
                $"{what}: must name one relation",
                node.At,
                $"Write one of {string.Join(", ", RuleDocument.Ends.Select(e => e.Word))} with the other product."
            );
            return null;
        }
        form.Close();
        return place;
    }
}
