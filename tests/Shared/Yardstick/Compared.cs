using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Tests.Yardstick;

/// <summary>The planner's answer to a drawn estate, asked by the documents that users write.</summary>
internal static class Compared
{
    public static PathRequest Request(Drawn d)
    {
        var estate = Fleet.Good(EstateDocument.Read(DrawnTexts.Estate(d), "estate.yaml"));
        var readings = Fleet.Good(ReadingsDocument.Read(DrawnTexts.Readings(d), "readings.yaml", estate));
        var products = Enumerable
            .Range(0, d.Products.Count)
            .Select(p => Fleet.Good(ProductDocument.Read(DrawnTexts.Product(d, p), $"p{p}.yaml")));
        var goal = Fleet.Good(GoalDocument.Read(DrawnTexts.Goal(d), "goal.yaml"));
        var catalogue = Fleet.Good(ProductCatalogue.Create(products));
        return new PathRequest(new EstateIndex(estate, readings, catalogue), goal, goal.Day!.Value);
    }

    /// <summary>The moves as the yardstick writes them, or null where there is no path.</summary>
    public static string? Written(PathAnswer answer) =>
        answer.Found
            ? string.Join(
                " ",
                answer.Moves.Select(m =>
                    $"{m.Written}/{string.Join("+", m.Jumps.Select(j => $"{j.Method}.{j.Jump.Id}"))}"
                )
            )
            : null;

    /// <summary>All documents of a drawn estate, to show a case that fails.</summary>
    public static string Texts(Drawn d) =>
        DrawnTexts.Estate(d)
        + DrawnTexts.Readings(d)
        + string.Concat(Enumerable.Range(0, d.Products.Count).Select(p => DrawnTexts.Product(d, p)))
        + DrawnTexts.Goal(d);
}
