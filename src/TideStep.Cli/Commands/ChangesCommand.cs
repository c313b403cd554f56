using System.CommandLine;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep catalogue changes</c>: what lies between two releases of a product.</summary>
public static class ChangesCommand
{
    private static readonly Argument<string> Product = new("product") { Description = "the product" };
    private static readonly Argument<string> From = new("from") { Description = "the earlier release" };
    private static readonly Argument<string> To = new("to") { Description = "the later release" };
    private static readonly Option<string?> Catalogue = new("--catalogue")
    {
        Description = "the folder of product documents; with it no service is asked",
    };

    public static Command Create(Context context) =>
        context.Command(
            "changes",
            "What lies between two releases of a product: its parts, and what the releases on the way bring, "
                + "remove and change",
            async (result, output, ct) =>
            {
                var (product, from, to) = (result.GetValue(Product)!, result.GetValue(From)!, result.GetValue(To)!);
                ReleaseChanges changes;
                if (result.GetValue(Catalogue) is { } folder)
                {
                    var made = ReleaseChanges.Of(Files.Products(folder), product, from, to);
                    changes = made.Ok ? made.Value! : throw new MisusedException(made.Problems);
                }
                else
                {
                    using var client = Profile.Connect(result.GetValue(context.Server));
                    changes = await client.GetAsync<ReleaseChanges>(
                        $"/api/catalogue/changes?product={Uri.EscapeDataString(product)}&from="
                            + $"{Uri.EscapeDataString(from)}&to={Uri.EscapeDataString(to)}",
                        ct
                    );
                }
                output.Write(changes, () => Show(changes, output), changes.Notes);
                return Exit.Done;
            },
            Product,
            From,
            To,
            Catalogue
        );

    private static void Show(ReleaseChanges changes, Output output)
    {
        output.Heading($"{changes.Product} {changes.From} to {changes.To}");
        foreach (var part in changes.Added)
            output.Line($"  part added: {part}");
        foreach (var part in changes.Dropped)
            output.Line($"  part dropped: {part}");
        foreach (var part in changes.Renamed)
            output.Line($"  part renamed: {part.Was} is now {part.Is[0]}");
        foreach (var part in changes.Split)
            output.Line($"  part split: {part.Was} is now {string.Join(" and ", part.Is)}");
        if (changes.Added.IsEmpty && changes.Dropped.IsEmpty && changes.Renamed.IsEmpty && changes.Split.IsEmpty)
            output.Line("  its parts are the same, or the catalogue does not name them");
        output.Line();
        output.Table(["release", "it", "what"], changes.Notes.Select(n => new[] { n.Release, n.Kind, n.What }));
    }
}
