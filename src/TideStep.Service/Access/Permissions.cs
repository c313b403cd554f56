using System.Collections.Frozen;
using System.Text.RegularExpressions;
using TideStep.Core.Access;

namespace TideStep.Service.Access;

/// <summary>What a call takes.</summary>
/// <param name="Any">Any of these roles is enough; everybody who is known where there is none.</param>
/// <param name="Anonymous">Whether even who is unknown may call.</param>
/// <param name="Own">Whether somebody's own word is asked for: two people have to be two, and neither a program nor
/// whoever has the key of the data folder is one of them.</param>
public sealed record Permission(IReadOnlyList<Role> Any, bool Anonymous = false, bool Own = false);

/// <summary>Which role each route takes: all of them in one table (11-access). A route that is not in it answers
/// nobody.</summary>
public static partial class Permissions
{
    private const string OwnWord = ", one's own word";

    private static readonly (string Takes, string Routes)[] Table =
    [
        ("anonymous", "POST /api/sign-in; POST /api/join; POST /api/entries; POST /api/entries/{code}/key"),
        (
            "known",
            """
            GET /api/me; POST /api/sign-out; POST /api/links; GET /api/service; GET /api/guide;
            GET /api/entries/{code}; POST /api/entries/{code}
            """
        ),
        (
            "look",
            """
            GET /api/artefacts; GET /api/artefacts/fetch/{name}; GET /api/artefacts/staging/{id};
            GET /api/artefacts/{name}; OPTIONS /api/artefacts/uploads; GET /api/catalogue;
            GET /api/catalogue/changes; GET /api/catalogue/findings; GET /api/catalogue/matrix; GET /api/components;
            GET /api/documents; POST /api/documents/check; GET /api/documents/{kind}/{id};
            GET /api/documents/{kind}/{id}/revisions; GET /api/estate; GET /api/estate/drift;
            GET /api/estate/relations; GET /api/evidence/{sha256}; GET /api/follow-ups; GET /api/keeping;
            GET /api/members; GET /api/members/{component}/{node}; GET /api/members/{component}/{node}/history;
            GET /api/notices; GET /api/notices/rules; GET /api/plans; GET /api/plans/{digest};
            GET /api/plans/{digest}/calendar; GET /api/plans/{digest}/checks; GET /api/plans/{digest}/differences;
            GET /api/plans/{digest}/rehearsals; GET /api/plans/{digest}/return; GET /api/plans/{digest}/sign-offs;
            GET /api/points; GET /api/runs; GET /api/runs/{run}; GET /api/runs/{run}/changes;
            GET /api/runs/{run}/differences; GET /api/runs/{run}/events; GET /api/runs/{run}/guards;
            GET /api/runs/{run}/journal; GET /api/runs/{run}/log; GET /api/runs/{run}/outputs/{attempt};
            GET /api/runs/{run}/report; GET /api/runs/{run}/return-path; GET /api/searches/{id}; GET /api/surveys;
            GET /api/surveys/current; GET /api/surveys/schedule; GET /api/surveys/{number}/differences;
            GET /api/times; GET /api/waivers
            """
        ),
        ("survey", "POST /api/surveys; PUT /api/surveys/schedule; POST /api/plans/{digest}/checks"),
        (
            "plan",
            """
            POST /api/paths; POST /api/plans; POST /api/plans/{digest}/rehearsals;
            POST /api/plans/{digest}/rehearsals/evidence; DELETE /api/searches/{id}
            """
        ),
        ("plan run", "POST /api/waivers"),
        (
            "run",
            """
            POST /api/runs; POST /api/runs/{run}/decisions; POST /api/runs/{run}/go-on; POST /api/runs/{run}/hold;
            POST /api/runs/{run}/orders; POST /api/runs/{run}/return; POST /api/runs/{run}/start;
            POST /api/runs/{run}/signatures; POST /api/plans/{digest}/signatures; POST /api/points/give-up;
            POST /api/follow-ups
            """
        ),
        (
            "sign, one's own word",
            """
            POST /api/plans/{digest}/sign-offs; DELETE /api/plans/{digest}/sign-offs; POST /api/runs/{run}/sign-offs;
            POST /api/waivers/second
            """
        ),
        ("keep run", "POST /api/artefacts/staging"),
        (
            "keep",
            """
            POST /api/artefacts/fetch; POST /api/artefacts/folder; POST /api/artefacts/uploads;
            HEAD /api/artefacts/uploads/{id}; PATCH /api/artefacts/uploads/{id}; DELETE /api/artefacts/uploads/{id};
            DELETE /api/artefacts/{name}; POST /api/catalogue/rules; POST /api/catalogue/tables; POST /api/documents;
            GET /api/secrets; PUT /api/secrets/{name}; DELETE /api/secrets/{name}; POST /api/secrets/rotation;
            POST /api/notices/rules/{rule}/try
            """
        ),
        (
            "administer",
            """
            PUT /api/keeping; POST /api/keeping/rebuild; GET /api/people; POST /api/people; PUT /api/people/{id};
            DELETE /api/people/{id}; POST /api/people/{id}/invitations; GET /api/tokens; POST /api/tokens;
            DELETE /api/tokens/{id}; GET /api/record; GET /api/record/verify; GET /api/record/export
            """
        ),
    ];

    /// <summary>All routes, as method and pattern, with what each takes.</summary>
    public static FrozenDictionary<string, Permission> All { get; } =
        Table
            .SelectMany(t =>
                t.Routes.Split(';', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                    .Select(route => (Route: route, Takes: Read(t.Takes)))
            )
            .ToFrozenDictionary(r => r.Route, r => r.Takes);

    // What a place in a pattern must be like stands behind a colon; that it may be missing is a question mark.
    [GeneratedRegex(@"[:?][^{}]*(?=\})")]
    private static partial Regex Constraint { get; }

    /// <summary>What a route takes; null where the table does not have it.</summary>
    public static Permission? Of(string method, string pattern) =>
        All.GetValueOrDefault($"{method} {Constraint.Replace(pattern, "").TrimEnd('/')}");

    private static Permission Read(string takes) =>
        takes switch
        {
            "anonymous" => new Permission([], true),
            "known" => new Permission([]),
            _ when takes.EndsWith(OwnWord, StringComparison.Ordinal) => Read(takes[..^OwnWord.Length]) with
            {
                Own = true,
            },
            _ => new Permission([.. takes.Split(' ').Select(r => Grants.TryParse(r)!.Role)]),
        };
}
