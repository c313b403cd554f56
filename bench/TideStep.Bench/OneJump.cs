using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Plans;

namespace TideStep.Bench;

/// <summary>An estate of one component <c>app</c> of a product <c>p</c> at 1, and its plan to 2.</summary>
internal sealed record OneJump(Estate Estate, ProductCatalogue Catalogue, Plan Plan)
{
    public static OneJump Of(string estateText, string productText)
    {
        var estate = EstateDocument.Read(estateText, "estate").Value!;
        var catalogue = ProductCatalogue.Create([ProductDocument.Read(productText, "p").Value!]).Value!;
        var readings = ReadingsDocument
            .Read(
                "tidestep: readings/1\ntaken: 2026-11-20T10:00:00Z\ncomponents: {app: {running: \"1\"}}\n",
                "r",
                estate
            )
            .Value!;
        var index = new EstateIndex(estate, readings, catalogue);
        var goal = GoalDocument.Read("tidestep: goal/1\ngoal: [{component: app, to: \"2\"}]\n", "g").Value!;
        return new OneJump(
            estate,
            catalogue,
            PlanMaker
                .Make(index, PathFinder.Find(new PathRequest(index, goal, new DateOnly(2026, 11, 23))).Value!, "e", "c")
                .Value!
        );
    }
}
