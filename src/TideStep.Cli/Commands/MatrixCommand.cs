using System.CommandLine;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep catalogue matrix</c>: which releases of two products may meet.</summary>
public static class MatrixCommand
{
    private static readonly Argument<string> Product = new("product")
    {
        Description = "the product that declares the relation",
    };
    private static readonly Argument<string> Other = new("other") { Description = "the product at the other end" };
    private static readonly Option<string> Relation = new("--relation")
    {
        Description = "depends-on, stands-on, inside or peer",
        DefaultValueFactory = _ => "depends-on",
    };
    private static readonly Option<string?> Catalogue = new("--catalogue")
    {
        Description = "the folder of product documents; with it no service is asked",
    };
    private static readonly Option<string?> Estate = new("--estate")
    {
        Description = "the estate document, to mark today's pairs",
    };
    private static readonly Option<string?> Readings = new("--readings")
    {
        Description = "the readings document, to mark today's pairs",
    };

    public static Command Create(Context context) =>
        context.Command(
            "matrix",
            "Which releases of two products may meet, with the rules behind each verdict",
            async (result, output, ct) =>
            {
                var (product, other, relation) = (
                    result.GetValue(Product)!,
                    result.GetValue(Other)!,
                    result.GetValue(Relation)!
                );
                Matrix matrix;
                if (result.GetValue(Catalogue) is { } folder)
                {
                    var (estate, readings) = (result.GetValue(Estate), result.GetValue(Readings));
                    if (estate is null != readings is null)
                        throw new MisusedException([
                            new Problem(
                                "--estate and --readings go together",
                                null,
                                "Give both to mark today's pairs, or neither."
                            ),
                        ]);
                    var index = estate is null ? null : Files.Index(estate, readings!, folder);
                    var made = Matrix.Make(index?.Catalogue ?? Files.Products(folder), product, relation, other, index);
                    matrix = made.Ok ? made.Value! : throw new MisusedException(made.Problems);
                }
                else
                {
                    using var client = Profile.Connect(result.GetValue(context.Server));
                    matrix = await client.GetAsync<Matrix>(
                        $"/api/catalogue/matrix?product={Uri.EscapeDataString(product)}&relation="
                            + $"{Uri.EscapeDataString(relation)}&other={Uri.EscapeDataString(other)}",
                        ct
                    );
                }
                output.Write(matrix, () => Show(matrix, output), matrix.Places);
                return Exit.Done;
            },
            Product,
            Other,
            Relation,
            Catalogue,
            Estate,
            Readings
        );

    private static void Show(Matrix matrix, Output output)
    {
        output.Heading($"{matrix.Product} {matrix.Relation} {matrix.Other}");
        var room = matrix.These.Max(t => t.Length) + 2;
        foreach (var release in matrix.These)
            output.Line($"  {release.PadRight(room)}{matrix.Row(release)}");
        foreach (var place in matrix.Places.Where(p => !p.Today.IsEmpty))
            output.Line(
                $"today: {place.This} with {place.At}, {place.Verdict.ToString().ToLowerInvariant()}: "
                    + $"{string.Join(", ", place.Today)}"
            );
    }
}
