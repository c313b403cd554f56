using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Engine;
using TideStep.Engine.Estates;

namespace TideStep.Service.Routes;

/// <summary>How many members of a component run a version.</summary>
public sealed record VersionCount(string Version, int Members);

/// <summary>A component in numbers, without its members.</summary>
/// <param name="Support">ended, soon (within 90 days), supported, or not known, of the oldest release that
/// runs.</param>
public sealed record ComponentSummary(
    string Component,
    string Product,
    string? Site,
    string? Platform,
    IReadOnlyList<VersionCount> Versions,
    int Members,
    int InService,
    int NotRead,
    int Owing,
    int Staged,
    string Support,
    DateOnly? SupportEnds
);

/// <summary>A page of members; <paramref name="Next"/> asks for the one after it.</summary>
public sealed record MemberPage(IReadOnlyList<MemberLine> Members, int Total, string? Next);

/// <summary>Routes of components and members, for estates of any size.</summary>
public static class MemberRoutes
{
    private const int Soon = 90;
    private const int MostAtOnce = 500;

    public static void MapMembers(this RouteGroupBuilder api)
    {
        api.MapGet("/components", async (EstateDesk desk, TimeProvider time, CancellationToken ct) =>
                await desk.IndexAsync(ct) is { } index
                    ? Results.Ok(
                        index.Components.Select(c =>
                            Summary(index, c, DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime))
                        )
                    )
                    : Answers.Problem(404, EstateDesk.NoEstate)
            )
            .Produces<ComponentSummary[]>()
            .WithSummary("Every component in numbers: versions, members in service, not read, restarts owed, support");
        api.MapGet(
                "/members",
                async (
                    string? component,
                    string? site,
                    string? platform,
                    string? text,
                    string? standing,
                    string? after,
                    int? limit,
                    EstateDesk desk,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.IndexAsync(ct) is not { } index)
                        return Answers.Problem(404, EstateDesk.NoEstate);
                    string[] standings = ["out", "not-read", "owing", "staged", "differs"];
                    if (standing is not null && !standings.Contains(standing))
                        return Answers.Problem(
                            400,
                            new Problem($"there is no standing '{standing}'", null, Nearest.Hint(standing, standings))
                        );
                    var found = index
                        .Components.Where(c =>
                            (component is null || c.Id == component) && (platform is null || c.Platform == platform)
                        )
                        .SelectMany(c => Lines(index, c, standing == "differs"))
                        .Where(m =>
                            (site is null || m.Site == site)
                            && (
                                text is null
                                || m.Member.Contains(text, StringComparison.OrdinalIgnoreCase)
                                || m.Running?.Contains(text, StringComparison.OrdinalIgnoreCase) == true
                            )
                            && Stands(m, standing)
                        )
                        .ToList();
                    // Members are in the order of their components' identifiers and then their nodes'; the cursor is
                    // the last one told.
                    var from = after is null ? 0 : found.FindIndex(m => m.Member == after) + 1;
                    var page = found.Skip(from).Take(Math.Clamp(limit ?? 100, 1, MostAtOnce)).ToList();
                    return Results.Ok(
                        new MemberPage(page, found.Count, from + page.Count < found.Count ? page[^1].Member : null)
                    );
                }
            )
            .Produces<MemberPage>()
            .WithSummary(
                "Members, page by page: of a component, site or platform, by a text, or by how they stand "
                    + "(out, not-read, owing, staged, differs)"
            );
    }

    private static bool Stands(MemberLine member, string? standing) =>
        standing switch
        {
            "out" => !member.InService,
            "not-read" => !member.Read,
            "owing" => member.Installed is { } installed && member.Running is { } running && installed != running,
            "staged" => member.Staged is not null,
            _ => true,
        };

    private static IEnumerable<MemberLine> Lines(EstateIndex index, Component component, bool onlyDiffering)
    {
        var differing = onlyDiffering
            ? index.Catalogue.Find(component.Product) is { } product
                ? Drift.OutOfLineMembers(index, component, product).Select(o => o.Member.Id).ToHashSet()
                : []
            : null;
        return component
            .Members.Where(m => differing?.Contains(m.Id) != false)
            .Select(m => EstateRoutes.Line(index.Estate, index.Readings, m));
    }

    private static ComponentSummary Summary(EstateIndex index, Component component, DateOnly day)
    {
        var lines = component.Members.Select(m => EstateRoutes.Line(index.Estate, index.Readings, m)).ToList();
        var product = index.Catalogue.Find(component.Product);
        var running = lines
            .Select(l => l.Running)
            .OfType<string>()
            .GroupBy(v => v)
            .Select(g => (Label: g.Key, Version: product?.Scheme.TryParse(g.Key), Count: g.Count()))
            .OrderBy(v => v.Version)
            .ThenBy(v => v.Label, StringComparer.Ordinal)
            .ToList();
        var ends =
            running.Count > 0 && running[0].Version is { } oldest && product!.ReleaseOf(oldest) is { } release
                ? release.Ends
                : null;
        var support =
            ends is null ? "not known"
            : ends < day ? "ended"
            : ends.Value.DayNumber - day.DayNumber < Soon ? "soon"
            : "supported";
        return new ComponentSummary(
            component.Id,
            component.Product,
            component.Site,
            component.Platform,
            [.. running.Select(v => new VersionCount(v.Label, v.Count))],
            lines.Count,
            lines.Count(l => l.InService),
            lines.Count(l => !l.Read),
            lines.Count(l => Stands(l, "owing")),
            lines.Count(l => l.Staged is not null),
            support,
            ends
        );
    }
}
