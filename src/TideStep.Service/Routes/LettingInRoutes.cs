using TideStep.Core.Documents;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>A command line asks to be let in.</summary>
/// <param name="Challenge">The SHA-256, in hexadecimal, of what it alone knows.</param>
/// <param name="Program">What it says of itself, for whoever lets it in.</param>
/// <param name="Here">Whether it waits on the browser's own machine, and gets the last piece by that browser.</param>
public sealed record AskInRequest(string Challenge, string Program, bool Here = false);

/// <summary>Who asks to be let in.</summary>
/// <param name="Address">The page on which somebody lets it in.</param>
public sealed record AskedInView(
    string Code,
    string Address,
    string Program,
    string From,
    bool Here,
    DateTimeOffset Until
);

/// <summary>Whether it is let in.</summary>
public sealed record LetInRequest(bool Let);

/// <summary>What the browser hands over to the command line beside it; empty where it needs nothing.</summary>
public sealed record LetInView(string Piece);

/// <summary>What the command line shows for itself.</summary>
public sealed record TakeRequest(string Verifier, string? Piece = null);

/// <summary>Sign-in of the command line by a browser, its own or another machine's.</summary>
public static class LettingInRoutes
{
    private const int LongestProgram = 100;

    public static void MapLettingIn(this RouteGroupBuilder api)
    {
        api.MapPost("/entries", Ask)
            .Produces<AskedInView>(201)
            .ProducesProblem(429)
            .WithSummary("Ask to be let in by somebody who is signed in to the console");
        api.MapGet("/entries/{code}", (HttpContext http, string code, LettingIn letting) =>
                letting.Find(code) is { } asked ? Results.Ok(ViewOf(http, asked)) : Nobody(code)
            )
            .Produces<AskedInView>()
            .ProducesProblem(404)
            .WithSummary("Who asks to be let in under a code");
        api.MapPost("/entries/{code}", LetAsync)
            .Produces<LetInView>()
            .ProducesProblem(404)
            .WithSummary("Let a command line in as yourself, or not");
        api.MapPost("/entries/{code}/key", TakeAsync)
            .Produces<SignedIn>()
            .Produces(202)
            .ProducesProblem(403)
            .ProducesProblem(410)
            .WithSummary("Take what came of asking to be let in");
    }

    private static IResult Ask(HttpContext http, AskInRequest request, LettingIn letting)
    {
        var program = new string([.. request.Program.Where(c => !char.IsControl(c)).Take(LongestProgram)]);
        if (request.Challenge.Length != 64 || program.Length == 0)
            return Answers.Problem(422, new Problem("a challenge is 64 hexadecimal digits, and a program has a name"));
        return letting.Ask(request.Challenge, program, $"{http.Connection.RemoteIpAddress}", request.Here) is { } asked
            ? Results.Created((string?)null, ViewOf(http, asked))
            : Answers.Problem(429, new Problem("too many wait to be let in already", null, "Wait ten minutes."));
    }

    private static async Task<IResult> LetAsync(
        HttpContext http,
        string code,
        LetInRequest request,
        LettingIn letting,
        AccessDesk desk,
        CancellationToken ct
    )
    {
        if (AccessRules.CallerOf(http) is not { } caller || caller.Kind == Core.Access.CallerKind.Program)
            return Answers.Problem(403, new Problem("a program lets nobody in"));
        if (!request.Let)
            return letting.Refuse(code) ? Results.Ok(new LetInView("")) : Nobody(code);
        var stamp = (await desk.FindPersonAsync(caller.Id, ct))?.Stamp ?? 0;
        return letting.Let(code, caller.Id, stamp) is { } piece ? Results.Ok(new LetInView(piece)) : Nobody(code);
    }

    private static async Task<IResult> TakeAsync(
        HttpContext http,
        string code,
        TakeRequest request,
        LettingIn letting,
        AccessDesk desk,
        CancellationToken ct
    )
    {
        var (state, person, stamp) = letting.Take(code, request.Verifier, request.Piece);
        if (state == AskedInState.LetIn)
        {
            var shown = await desk.BeginAsync(person, stamp, $"{http.Connection.RemoteIpAddress}", ct);
            var name = (await desk.FindPersonAsync(person, ct))?.Name ?? Caller.LocalName;
            return Results.Ok(new SignedIn(name, shown));
        }
        return state switch
        {
            AskedInState.Waiting => Results.Accepted(),
            AskedInState.Refused => Answers.Problem(403, new Problem("whoever was asked did not let it in")),
            _ => Answers.Problem(
                410,
                new Problem("nobody waits under this code any more", null, "Begin again with 'tidestep login'.")
            ),
        };
    }

    private static AskedInView ViewOf(HttpContext http, AskedIn asked) =>
        new(
            asked.Code,
            $"{http.Request.Scheme}://{http.Request.Host}/let-in?code={asked.Code}",
            asked.Program,
            asked.From,
            asked.Here,
            asked.Until
        );

    private static IResult Nobody(string code) =>
        Answers.Problem(
            404,
            new Problem($"nobody waits to be let in under {code}", null, "A code counts for ten minutes, and once.")
        );
}
