using TideStep.Core.Catalogue;

namespace TideStep.Service.Routes;

/// <summary>A one-time link into the console.</summary>
public sealed record LinkView(string Link);

/// <summary>A document that was kept, under the revision it got.</summary>
public sealed record SavedView(string Kind, string Id, long Revision, string Digest);

/// <summary>A run that was opened.</summary>
public sealed record OpenedRun(string Run);

/// <summary>A fetch that has begun.</summary>
public sealed record FetchBegun(string Name);

/// <summary>What was taken out of a folder, and what could not be.</summary>
public sealed record FolderView(IReadOnlyList<string> Taken, IReadOnlyList<string> Problems);

/// <summary>What a plan does otherwise than an earlier one, in words.</summary>
public sealed record PlanDifferences(IReadOnlyList<string> Differences);

/// <summary>This service.</summary>
/// <param name="Pace">What settle times and limits are divided by.</param>
/// <param name="Guide">Whether it was started with a guide of what to try.</param>
public sealed record ServiceView(string Version, string Installation, double Pace, bool Guide);

/// <summary>What to try on this service, as whoever started it wrote it.</summary>
/// <param name="Text">Markdown.</param>
public sealed record GuideView(string Text);

/// <summary>A member that a survey could not read, and why.</summary>
public sealed record UnreachedLine(string Member, string Why);

/// <summary>What a survey read.</summary>
/// <param name="Of">What was surveyed, in words.</param>
/// <param name="Members">How many members were read.</param>
/// <param name="Missed">How many values of theirs could not be read.</param>
public sealed record SurveyAnswer(
    DateTimeOffset Taken,
    string Of,
    int Members,
    IReadOnlyList<UnreachedLine> Unreached,
    int Missed
);

/// <summary>The return path of a run from where it stands: its length, loss and parts, or why there is none.</summary>
public sealed record ReturnPathView(bool Open)
{
    public TimeSpan? Length { get; init; }
    public IReadOnlyList<string>? Loss { get; init; }
    public IReadOnlyList<string>? Goal { get; init; }
    public IReadOnlyList<string>? Blocks { get; init; }
    public IReadOnlyList<string>? Why { get; init; }
}

/// <summary>A release of a product.</summary>
public sealed record ReleaseView(
    string Label,
    ReleaseLine? Line,
    DateOnly? Since,
    DateOnly? Ends,
    IReadOnlyList<string> Brings,
    IReadOnlyList<string> Removes,
    IReadOnlyList<string> Changes,
    IReadOnlyList<KnownProblem> Problems
);

/// <summary>What a jump asks of another product.</summary>
public sealed record JumpDemand(string Product, string Range);

/// <summary>A jump of a product.</summary>
public sealed record ProductJump(
    string Id,
    string From,
    string To,
    bool Down,
    IReadOnlyList<Method> Methods,
    string? Closes,
    IReadOnlyList<JumpDemand> Requires
);

/// <summary>A relation of a product to another.</summary>
public sealed record RelatedProduct(RelationEnd Relation, string Other);

/// <summary>A product with its releases and jumps.</summary>
public sealed record ProductView(
    string Id,
    string? Title,
    IReadOnlyList<ReleaseView> Releases,
    IReadOnlyList<ProductJump> Jumps,
    IReadOnlyList<RelatedProduct> Related
)
{
    public static ProductView Of(Product product) =>
        new(
            product.Id,
            product.Title,
            [
                .. product.Releases.Select(r => new ReleaseView(
                    r.Label,
                    r.Line,
                    r.Since,
                    r.Ends,
                    r.Brings,
                    r.Removes,
                    r.Changes,
                    r.Problems
                )),
            ],
            [
                .. product.Jumps.Select(j => new ProductJump(
                    j.Id,
                    j.From.Text,
                    j.To.Label,
                    j.Down,
                    [.. j.Methods.Select(m => m.Method)],
                    j.Closes,
                    [.. j.Requires.Select(r => new JumpDemand(r.Product, r.Range.Text))]
                )),
            ],
            [
                .. product
                    .Rules.Where(r =>
                        r.End is RelationEnd.DependsOn or RelationEnd.StandsOn or RelationEnd.Inside or RelationEnd.Peer
                    )
                    .Select(r => new RelatedProduct(r.End, r.Other))
                    .Distinct(),
            ]
        );
}
