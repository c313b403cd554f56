using System.CommandLine;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep catalogue check</c>: what reads well in the catalogue and yet can't be meant.</summary>
public static class CheckCommand
{
    private static readonly Option<string?> Catalogue = new("--catalogue")
    {
        Description = "the folder of product documents; with it no service is asked",
    };

    private static readonly Option<string?> Estate = new("--estate")
    {
        Description = "on files: the estate that the catalogue is for; what jumps require must be related to there",
    };

    public static Command Create(Context context) =>
        context.Command(
            "check",
            "Look through the whole catalogue: rules of unknown products, jumps from nowhere, "
                + "contradictions, releases out of reach",
            async (result, output, ct) =>
            {
                IReadOnlyList<Problem> found;
                if (result.GetValue(Catalogue) is { } folder)
                    found = CatalogueReview.Of(
                        Files.Products(folder),
                        result.GetValue(Estate) is { } estate ? Files.Index(estate, null, folder) : null
                    );
                else
                {
                    using var client = Profile.Connect(result.GetValue(context.Server));
                    found = await client.GetAsync<List<Problem>>("/api/catalogue/findings", ct);
                }
                output.Write(
                    found,
                    () =>
                    {
                        if (found.Count == 0)
                            output.Line("Nothing was found.");
                        foreach (var problem in found)
                            output.Line(problem.ToString());
                    },
                    found.Select(p => new
                    {
                        file = p.At?.File,
                        line = p.At?.Line,
                        column = p.At?.Column,
                        p.What,
                        p.Hint,
                    })
                );
                return found.Count == 0 ? Exit.Done : Exit.No;
            },
            Catalogue,
            Estate
        );
}
