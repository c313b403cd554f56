using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>A member as the estate page shows it.</summary>
public sealed record MemberLine(
    string Member,
    string Node,
    string Site,
    string? Domain,
    string? Role,
    string? Running,
    string? Installed,
    string? Staged,
    bool InService,
    bool Read
)
{
    /// <summary>Why the last survey could not read it; null where it could.</summary>
    public string? Unreached { get; init; }

    /// <summary>What it ran when it was last read, and when that was.</summary>
    public string? LastKnown { get; init; }

    /// <inheritdoc cref="LastKnown"/>
    public DateTimeOffset? KnownAt { get; init; }
}

/// <summary>A component with its members.</summary>
public sealed record ComponentLine(
    string Component,
    string Product,
    string? Site,
    string? Platform,
    string Versions,
    bool Mixed,
    IReadOnlyList<MemberLine> Members
);

/// <summary>The estate as it was last read.</summary>
public sealed record EstateView(
    string Estate,
    string Title,
    string Class,
    string Zone,
    DateTimeOffset? Surveyed,
    IReadOnlyList<ComponentLine> Components
);

/// <summary>A relation of one component to another.</summary>
/// <param name="Optional">Whether what depends serves on without it.</param>
public sealed record RelationLine(string From, RelationKind Relation, string To, bool Optional);

/// <summary>Routes of the estate and the catalogue.</summary>
public static class EstateRoutes
{
    public static void MapEstate(this RouteGroupBuilder api)
    {
        api.MapGet("/estate", async (EstateDesk desk, CancellationToken ct) =>
                await desk.CurrentEstateAsync(ct) is { } estate && await desk.ReadingsAsync(ct) is var readings
                    ? Results.Ok(View(Membership.AsFound(estate, readings), readings))
                    : Answers.Problem(404, EstateDesk.NoEstate)
            )
            .Produces<EstateView>()
            .WithSummary("The estate with what was last read of it");
        api.MapGet("/estate/relations", async (EstateDesk desk, CancellationToken ct) =>
                await desk.CurrentEstateAsync(ct) is { } estate
                    ? Results.Ok(
                        estate.Components.SelectMany(c =>
                            c.Relations.Select(r => new RelationLine(c.Id, r.Kind, r.To, r.Optional))
                        )
                    )
                    : Answers.Problem(404, EstateDesk.NoEstate)
            )
            .Produces<RelationLine[]>()
            .WithSummary("What depends on what: the relations of all components");
        api.MapGet("/estate/drift", async (EstateDesk desk, RunTraces traces, CancellationToken ct) =>
                await desk.DriftAsync(await traces.LastLeftAsync(ct), ct) is { } drift
                    ? Results.Ok(drift)
                    : Answers.Problem(404, EstateDesk.NoEstate)
            )
            .Produces<Difference[]>()
            .WithSummary("What stands out of line: expected and found side by side, only what differs");
        api.MapGet("/catalogue", async (EstateDesk desk, CancellationToken ct) =>
                (await desk.CatalogueAsync(ct)).Products.Select(ProductView.Of)
            )
            .WithSummary("The products with their releases and jumps");
        api.MapGet("/catalogue/findings", async (EstateDesk desk, CancellationToken ct) =>
                CatalogueReview.Of(await desk.CatalogueAsync(ct), await desk.IndexAsync(ct))
            )
            .WithSummary("What reads well in the catalogue and yet can't be meant");
        api.MapGet(
                "/catalogue/changes",
                async (string product, string from, string to, EstateDesk desk, CancellationToken ct) =>
                {
                    var changes = ReleaseChanges.Of(await desk.CatalogueAsync(ct), product, from, to);
                    return changes.Ok
                        ? Results.Ok(changes.Value)
                        : Answers.Problems(404, "there are no such releases to compare", changes.Problems);
                }
            )
            .Produces<ReleaseChanges>()
            .WithSummary("What lies between two releases of a product");
        api.MapGet(
                "/catalogue/matrix",
                async (string product, string other, string? relation, EstateDesk desk, CancellationToken ct) =>
                {
                    var made = Core.Compatibility.Matrix.Make(
                        await desk.CatalogueAsync(ct),
                        product,
                        relation ?? "depends-on",
                        other,
                        await desk.IndexAsync(ct)
                    );
                    return made.Ok ? Results.Ok(made.Value) : Answers.Problems(404, "no such matrix", made.Problems);
                }
            )
            .Produces<Core.Compatibility.Matrix>()
            .WithSummary("The verdict of every pair of releases of two products in a relation");
    }

    /// <summary>A member with what was last read of it.</summary>
    internal static MemberLine Line(Estate estate, Readings readings, Member member)
    {
        var (reading, lost, node) = (
            readings.Of(member),
            readings.Lost.GetValueOrDefault(member.Id),
            estate.Nodes[member.Node]
        );
        var read = readings.Members.ContainsKey(member.Id);
        return new MemberLine(
            member.Id,
            member.Node,
            node.Site,
            node.Domain,
            reading.Role ?? member.Role,
            reading.Running,
            reading.Installed,
            reading.Staged,
            reading.InService,
            read
        )
        {
            Unreached = lost?.Why,
            LastKnown = lost?.Last?.Running,
            KnownAt = lost?.At ?? (read ? readings.TakenOf(member.Id) : null),
        };
    }

    private static EstateView View(Estate estate, Readings readings) =>
        new(
            estate.Id,
            estate.Title,
            estate.Class.ToString().ToLowerInvariant(),
            estate.Zone,
            readings.Taken == DateTimeOffset.MinValue ? null : readings.Taken,
            [
                .. estate.Components.Select(c =>
                {
                    var members = c.Members.Select(m => (Member: m, Reading: readings.Of(m))).ToList();
                    var versions = members
                        .Where(m => !readings.Lost.ContainsKey(m.Member.Id))
                        .Select(m => m.Reading.RunsNothing ? RunningText.Nothing : m.Reading.Running ?? "unknown")
                        .DefaultIfEmpty("unknown")
                        .Distinct()
                        .Order(StringComparer.Ordinal)
                        .ToList();
                    return new ComponentLine(
                        c.Id,
                        c.Product,
                        c.Site,
                        c.Platform,
                        string.Join(", ", versions),
                        versions.Count > 1,
                        [.. members.Select(m => Line(estate, readings, m.Member))]
                    );
                }),
            ]
        );
}
