using System.Collections.Immutable;
using System.Globalization;
using TideStep.Core.Access;
using TideStep.Core.Documents;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>A person to come. Roles as in <c>run</c>, or <c>run@ESTATE</c> for one estate.</summary>
public sealed record PersonRequest(string Name, IReadOnlyList<string> Roles);

/// <summary>Other roles for somebody.</summary>
public sealed record RolesRequest(IReadOnlyList<string> Roles);

/// <summary>A token for a program.</summary>
/// <param name="LastDay">The last day on which it counts, as 2027-03-31.</param>
public sealed record TokenRequest(string Name, IReadOnlyList<string> Roles, string LastDay);

/// <summary>A person.</summary>
/// <param name="State">invited, active, removed, or set aside where the row is not what was written.</param>
public sealed record PersonView(
    string Id,
    string Name,
    IReadOnlyList<string> Roles,
    string State,
    DateTimeOffset MadeAt,
    string MadeBy,
    DateTimeOffset? RemovedAt
);

/// <summary>A person who was invited, and the link by which they choose a password; it is told once.</summary>
public sealed record InvitedView(PersonView Person, string Link, DateTimeOffset Until);

/// <summary>A program's token.</summary>
/// <param name="State">active, ended or revoked.</param>
public sealed record TokenView(
    string Id,
    string Name,
    IReadOnlyList<string> Roles,
    string State,
    string LastDay,
    DateTimeOffset MadeAt,
    string MadeBy,
    DateTimeOffset? UsedAt
);

/// <summary>A token that was made, and what the program shows; it is told once.</summary>
public sealed record MadeToken(TokenView Token, string Shown);

/// <summary>Routes of people and of programs' tokens.</summary>
public static class PeopleRoutes
{
    public static void MapPeople(this RouteGroupBuilder api)
    {
        api.MapGet("/people", async (AccessDesk desk, CancellationToken ct) =>
                (await desk.PeopleAsync(ct)).Select(ViewOf).ToList()
            )
            .WithSummary("Everybody who may come in, and those who might once");
        api.MapPost("/people", InviteAsync)
            .Produces<InvitedView>(201)
            .ProducesProblem(422)
            .WithSummary("Invite somebody, with roles");
        api.MapPut(
                "/people/{id}",
                async (HttpContext http, string id, RolesRequest request, AccessDesk desk, CancellationToken ct) =>
                    Read(request.Roles) is var (roles, wrong) && wrong.Count > 0
                        ? Answers.Problems(422, "these are no roles", wrong)
                        : await ChangeAsync(http, id, p => p with { Roles = roles }, roles, desk, ct)
            )
            .Produces<PersonView>()
            .ProducesProblem(404)
            .ProducesProblem(409)
            .ProducesProblem(422)
            .WithSummary("Give somebody other roles; their sessions end");
        api.MapDelete(
                "/people/{id}",
                async (HttpContext http, string id, AccessDesk desk, TimeProvider time, CancellationToken ct) =>
                    await ChangeAsync(
                        http,
                        id,
                        p => p with { RemovedAt = time.GetUtcNow(), Roles = [], Password = null, Invitation = null },
                        [],
                        desk,
                        ct
                    )
            )
            .Produces<PersonView>()
            .ProducesProblem(404)
            .ProducesProblem(409)
            .WithSummary("Let somebody in no more; what they did keeps their name");
        api.MapPost(
                "/people/{id}/invitations",
                async (HttpContext http, string id, AccessDesk desk, CancellationToken ct) =>
                    await desk.FindPersonAsync(id, ct) is { RemovedAt: null }
                    && await desk.InviteAsync(id, ct) is { } invitation
                        ? Results.Ok(InvitedOf(http, (await desk.FindPersonAsync(id, ct))!, invitation))
                        : Nobody(id)
            )
            .Produces<InvitedView>()
            .ProducesProblem(404)
            .WithSummary("A new invitation for somebody; their password counts no more");
        MapTokens(api);
    }

    private static void MapTokens(RouteGroupBuilder api)
    {
        api.MapGet("/tokens", async (AccessDesk desk, TimeProvider time, CancellationToken ct) =>
                (await desk.TokensAsync(ct)).Select(t => ViewOf(t, time.GetUtcNow())).ToList()
            )
            .WithSummary("Programs' tokens; what they show is kept nowhere");
        api.MapPost(
                "/tokens",
                async (
                    HttpContext http,
                    TokenRequest request,
                    AccessDesk desk,
                    TimeProvider time,
                    CancellationToken ct
                ) =>
                {
                    var (roles, wrong) = Read(request.Roles);
                    if (
                        !DateOnly.TryParseExact(
                            request.LastDay,
                            "yyyy-MM-dd",
                            CultureInfo.InvariantCulture,
                            DateTimeStyles.None,
                            out var last
                        )
                    )
                        wrong.Add(
                            new Problem($"lastDay: '{request.LastDay}' is no day", null, "Write it as in 2027-03-31.")
                        );
                    if (wrong.Count > 0)
                        return Answers.Problems(422, "the token is refused", wrong);
                    var (token, shown, refused) = await desk.AddTokenAsync(
                        request.Name,
                        roles,
                        last,
                        AccessRules.ActorOf(http),
                        ct
                    );
                    return token is null
                        ? Answers.Problem(422, refused!)
                        : Results.Created(
                            $"/api/tokens/{token.Id}",
                            new MadeToken(ViewOf(token, time.GetUtcNow()), shown)
                        );
                }
            )
            .Produces<MadeToken>(201)
            .ProducesProblem(422)
            .WithSummary("Make a token for a program");
        api.MapDelete("/tokens/{id}", async (string id, AccessDesk desk, TimeProvider time, CancellationToken ct) =>
                await desk.RevokeAsync(id, ct) is { } revoked
                    ? Results.Ok(ViewOf(revoked, time.GetUtcNow()))
                    : Answers.Problem(
                        404,
                        new Problem($"there is no token '{id}' that counts", null, "See 'tidestep token list'.")
                    )
            )
            .Produces<TokenView>()
            .ProducesProblem(404)
            .WithSummary("Revoke a token");
    }

    private static async Task<IResult> InviteAsync(
        HttpContext http,
        PersonRequest request,
        AccessDesk desk,
        CancellationToken ct
    )
    {
        var (roles, wrong) = Read(request.Roles);
        if (wrong.Count > 0)
            return Answers.Problems(422, "these are no roles", wrong);
        if (AccountRules.WrongName(request.Name) is { } name)
            return Answers.Problem(422, name);
        // Who comes first has to be able to let others in: else only the local key could.
        if (!await desk.AnybodyAsync(ct) && !roles.Any(r => r is { Role: Role.Administer, Estate: null }))
            return Answers.Problem(
                422,
                new Problem("the first person has to be an administrator", null, "Give the role 'administer' as well.")
            );
        var (person, invitation, refused) = await desk.AddPersonAsync(
            request.Name,
            roles,
            AccessRules.ActorOf(http),
            ct
        );
        return person is null
            ? Answers.Problem(422, refused!)
            : Results.Created($"/api/people/{person.Id}", InvitedOf(http, person, invitation));
    }

    private static async Task<IResult> ChangeAsync(
        HttpContext http,
        string id,
        Func<Person, Person> change,
        ImmutableArray<Grant> roles,
        AccessDesk desk,
        CancellationToken ct
    )
    {
        if (await desk.FindPersonAsync(id, ct) is not { RemovedAt: null } person)
            return Nobody(id);
        // Nobody locks the last administrator out, by mistake least of all.
        if (
            person.Roles.Give(Role.Administer, null)
            && !roles.Give(Role.Administer, null)
            && !(await desk.PeopleAsync(ct)).Any(p =>
                p.Id != id && p.RemovedAt is null && p.Roles.Give(Role.Administer, null)
            )
        )
            return Answers.Problem(
                409,
                new Problem($"{person.Name} is the only administrator", null, "Make somebody else one first.")
            );
        return await desk.ChangePersonAsync(id, change, ct) is { } changed ? Results.Ok(ViewOf(changed)) : Nobody(id);
    }

    private static (ImmutableArray<Grant> Roles, List<Problem> Wrong) Read(IReadOnlyList<string> texts)
    {
        var wrong = texts
            .Where(t => Grants.TryParse(t) is null)
            .Select(t => new Problem(
                $"'{t}' is no role",
                null,
                Nearest.Hint(t, Grants.All.Select(g => g.Role.Word()))
                    ?? $"There are {Grants.Words(Grants.All)}; for one estate as in run@ESTATE."
            ))
            .ToList();
        return ([.. texts.Select(Grants.TryParse).OfType<Grant>().Distinct()], wrong);
    }

    private static InvitedView InvitedOf(HttpContext http, Person person, string invitation) =>
        new(
            ViewOf(person),
            $"{AddressFor(http)}/join#{invitation}",
            person.InvitedUntil ?? person.MadeAt + AccessDesk.Invited
        );

    // Whoever invites on the service's own machine sends the link to people who are elsewhere.
    private static string AddressFor(HttpContext http) =>
        http.RequestServices.GetRequiredService<ServiceSettings>().Doors.Url?.GetLeftPart(UriPartial.Authority)
        ?? $"{http.Request.Scheme}://{http.Request.Host}";

    private static PersonView ViewOf(Person person) =>
        new(
            person.Id,
            person.Name,
            [.. person.Roles.Select(r => r.ToString())],
            person.SetAside ? "set aside"
                : person.RemovedAt is not null ? "removed"
                : person.Password is null ? "invited"
                : "active",
            person.MadeAt,
            person.MadeBy,
            person.RemovedAt
        );

    private static TokenView ViewOf(ProgramToken token, DateTimeOffset now) =>
        new(
            token.Id,
            token.Name,
            [.. token.Roles.Select(r => r.ToString())],
            token.RevokedAt is not null ? "revoked"
                : DateOnly.FromDateTime(now.UtcDateTime) > token.LastDay ? "ended"
                : "active",
            token.LastDay.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
            token.MadeAt,
            token.MadeBy,
            token.UsedAt
        );

    private static IResult Nobody(string id) =>
        Answers.Problem(404, new Problem($"there is no person '{id}'", null, "See 'tidestep person list'."));
}
