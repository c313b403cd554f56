using System.Text;
using Microsoft.AspNetCore.Http.Features;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;
using TideStep.Engine;
using TideStep.Engine.Artefacts;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>An artefact as lists show it.</summary>
/// <param name="NeededBy">Plans made in the last weeks that need it and were not carried out to their end.</param>
public sealed record ArtefactLine(
    string Name,
    long Bytes,
    string Sha256,
    string Kind,
    string Origin,
    string By,
    DateTimeOffset Added,
    string? Version,
    string? Variant,
    string? Signature,
    bool Whole,
    IReadOnlyList<string> Staged,
    IReadOnlyList<string> NeededBy,
    bool SafeToRemove
);

/// <summary>What is in the library, what plans miss in it, and what is being fetched.</summary>
public sealed record LibraryView(
    IReadOnlyList<ArtefactLine> Artefacts,
    IReadOnlyList<MissingLine> Missing,
    IReadOnlyCollection<FetchStanding> Fetching
);

/// <summary>A file that a plan needs and the library does not have.</summary>
public sealed record MissingLine(string Name, IReadOnlyList<string> Plans, int Nodes);

/// <summary>An address to fetch from.</summary>
public sealed record FetchRequest(string Url, string? Name, string? Sha256, string? Version, string? Variant);

/// <summary>A folder on the service's machine.</summary>
public sealed record FolderRequest(string Folder);

/// <summary>What to stage: what a plan wants, or artefacts by name on nodes by name.</summary>
public sealed record StagingRequest(
    string? Plan,
    IReadOnlyList<string>? Artefacts,
    IReadOnlyList<string>? Nodes,
    long? BytesPerSecond
);

/// <summary>Routes of the artefact library: what is there, uploads by the tus protocol, fetching, staging.</summary>
public static class ArtefactRoutes
{
    private const string Tus = "1.0.0";
    private const string Extensions = "creation,termination";

    public static void MapArtefacts(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/artefacts",
                async (ArtefactLibrary library, Fetching fetching, ArtefactNeeds needs, CancellationToken ct) =>
                    await ViewAsync(library, fetching, needs, ct)
            )
            .Produces<LibraryView>()
            .WithSummary(
                "The artefacts of the library: what each is, where it is staged, which plans need it; and "
                    + "what plans miss"
            );
        api.MapGet(
                "/artefacts/{name}",
                async (
                    string name,
                    ArtefactLibrary library,
                    Fetching fetching,
                    ArtefactNeeds needs,
                    CancellationToken ct
                ) =>
                    (await ViewAsync(library, fetching, needs, ct)).Artefacts.FirstOrDefault(a => a.Name == name)
                        is { } line
                        ? Results.Ok(line)
                        : Answers.Problem(404, await NoneAsync(library, name, ct))
            )
            .Produces<ArtefactLine>()
            .WithSummary("An artefact");
        api.MapDelete(
                "/artefacts/{name}",
                async (
                    string name,
                    bool? anyway,
                    ArtefactLibrary library,
                    Fetching fetching,
                    ArtefactNeeds needs,
                    CancellationToken ct
                ) =>
                {
                    if (
                        (await ViewAsync(library, fetching, needs, ct)).Artefacts.FirstOrDefault(a => a.Name == name)
                        is not { } line
                    )
                        return Answers.Problem(404, await NoneAsync(library, name, ct));
                    if (!line.SafeToRemove && anyway != true)
                        return Answers.Problem(
                            409,
                            new Problem(
                                $"{name} is still needed",
                                $"by {string.Join(", ", line.NeededBy)}",
                                "Add --anyway if you mean it."
                            )
                        );
                    await library.RemoveAsync(name, ct);
                    return Results.NoContent();
                }
            )
            .Produces(204)
            .WithSummary("Give an artefact up; refused while a plan needs it, unless 'anyway'");
        api.MapPost("/artefacts/fetch", (HttpContext http, FetchRequest request, Fetching fetching) =>
            {
                var name = request.Name
                    ?? (
                        Uri.TryCreate(request.Url, UriKind.Absolute, out var address)
                            ? Path.GetFileName(address.LocalPath)
                            : ""
                    );
                var wrong = fetching.Begin(
                    request.Url,
                    new Incoming(name, request.Url, AccessRules.ActorOf(http), request.Sha256)
                    {
                        Version = request.Version,
                        Variant = request.Variant,
                    }
                );
                return wrong is null
                    ? Results.Accepted($"/api/artefacts/fetch/{name}", new FetchBegun(name))
                    : Answers.Problem(422, wrong);
            })
            .Produces<FetchBegun>(202)
            .WithSummary("Fetch a file from an address into the library");
        api.MapGet(
                "/artefacts/fetch/{name}",
                async (string name, bool? wait, Fetching fetching, CancellationToken ct) =>
                    (
                        wait == true
                            ? await fetching.EndOfAsync(name, ct)
                            : fetching.All.FirstOrDefault(f => f.Name == name)
                    )
                        is { } standing
                        ? Results.Ok(standing)
                        : Answers.Problem(404, new Problem($"'{name}' is not being fetched"))
            )
            .Produces<FetchStanding>()
            .WithSummary("How far a fetch has come; 'wait' answers at its end");
        api.MapPost(
                "/artefacts/folder",
                async (HttpContext http, FolderRequest request, ArtefactLibrary library, CancellationToken ct) =>
                {
                    var (taken, problems) = await library.TakeFolderAsync(
                        request.Folder,
                        AccessRules.ActorOf(http),
                        ct
                    );
                    return taken.Count == 0 && problems.Count > 0
                        ? Answers.Problems(422, "nothing was taken in", problems)
                        : Results.Ok(
                            new FolderView([.. taken.Select(t => t.Name)], [.. problems.Select(p => p.ToString())])
                        );
                }
            )
            .Produces<FolderView>()
            .WithSummary("Take in every file of a folder on the service's machine");
        api.MapPost(
                "/artefacts/staging",
                async (
                    HttpContext http,
                    StagingRequest request,
                    EstateDesk estates,
                    Staging staging,
                    CancellationToken ct
                ) =>
                {
                    if (await estates.CurrentEstateAsync(ct) is not { } estate)
                        return Answers.Problem(404, EstateDesk.NoEstate);
                    var index = await estates.IndexAsync(ct);
                    string FileFor(string name, string node) =>
                        index is null ? name : Staging.FileFor(index, name, node);
                    List<(string, string)> wanted = [];
                    if (request.Plan is { } digest)
                    {
                        if (await estates.FindPlanAsync(digest, ct) is not { } plan)
                            return Answers.Problem(404, RunDesk.NoPlan(digest));
                        wanted =
                        [
                            .. Staging
                                .WantedBy(plan)
                                .Where(w =>
                                    request.Artefacts is not { Count: > 0 } only
                                    || only.Any(name => name == w.Artefact || FileFor(name, w.Node) == w.Artefact)
                                )
                                .Where(w => request.Nodes is not { Count: > 0 } only || only.Contains(w.Node)),
                        ];
                    }
                    else
                        wanted =
                        [
                            .. (request.Artefacts ?? []).SelectMany(a =>
                                (request.Nodes ?? []).Select(n => (FileFor(a, n), n))
                            ),
                        ];
                    var begun = await staging.BeginAsync(estate, wanted, Math.Max(0, request.BytesPerSecond ?? 0), ct);
                    return begun.Ok
                        ? Results.Accepted($"/api/artefacts/staging/{begun.Value!.Id}", begun.Value)
                        : Answers.Problems(422, "nothing is staged", begun.Problems);
                }
            )
            .Produces<StagingView>(202)
            .WithSummary("Lay artefacts ready on nodes, without effect there: what a plan wants, or by name");
        api.MapGet("/artefacts/staging/{id?}", async (string? id, bool? wait, Staging staging, CancellationToken ct) =>
                (id is not null && wait == true ? await staging.EndOfAsync(id, ct) : staging.Find(id)) is { } view
                    ? Results.Ok(view)
                    : Answers.Problem(404, new Problem("nothing was staged by this service since its start"))
            )
            .Produces<StagingView>()
            .WithSummary("How a staging stands, the last where none is named; 'wait' answers at its end");
        MapUploads(api);
    }

    // The tus protocol 1.0.0, with creation and termination.
    private static void MapUploads(RouteGroupBuilder api)
    {
        var uploads = api.MapGroup("/artefacts/uploads")
            .AddEndpointFilter(
                async (context, next) =>
                {
                    context.HttpContext.Response.Headers["Tus-Resumable"] = Tus;
                    context.HttpContext.Response.Headers.CacheControl = "no-store";
                    if (
                        context.HttpContext.Request.Method != "OPTIONS"
                        && context.HttpContext.Request.Headers["Tus-Resumable"] != Tus
                    )
                    {
                        context.HttpContext.Response.Headers["Tus-Version"] = Tus;
                        return Answers.Problem(
                            412,
                            new Problem(
                                "this is not the tus protocol that is spoken here",
                                null,
                                $"Send 'Tus-Resumable: {Tus}'."
                            )
                        );
                    }
                    return await next(context);
                }
            );
        uploads
            .MapMethods("/", ["OPTIONS"], (HttpContext http) =>
            {
                http.Response.Headers["Tus-Version"] = Tus;
                http.Response.Headers["Tus-Extension"] = Extensions;
                return Results.NoContent();
            })
            .Produces(204)
            .WithSummary("What of the tus protocol is spoken");
        uploads
            .MapPost("/", async (HttpContext http, Uploads desk, CancellationToken ct) =>
            {
                if (!long.TryParse(http.Request.Headers["Upload-Length"], out var length) || length < 0)
                    return Answers.Problem(
                        400,
                        new Problem("how long the upload will be is not said", null, "Send 'Upload-Length: BYTES'.")
                    );
                var said = Metadata(http.Request.Headers["Upload-Metadata"].ToString());
                var begun = await desk.BeginAsync(
                    length,
                    new Incoming(
                        said.GetValueOrDefault("filename", ""),
                        "upload",
                        AccessRules.ActorOf(http),
                        said.GetValueOrDefault("sha256")
                    )
                    {
                        Version = said.GetValueOrDefault("version"),
                        Variant = said.GetValueOrDefault("variant"),
                        Signature = said.GetValueOrDefault("signature"),
                    },
                    ct
                );
                return begun.Ok
                    ? Results.Created($"/api/artefacts/uploads/{begun.Value!.Id}", null)
                    : Answers.Problems(422, "the upload is refused", begun.Problems);
            })
            .Produces(201)
            .WithSummary("Begin an upload (tus creation); one of the same file that broke off is taken up");
        uploads
            .MapMethods("/{id}", ["HEAD"], (HttpContext http, string id, Uploads desk) =>
            {
                if (desk.Find(id) is not var (upload, offset))
                    return Results.NotFound();
                (http.Response.Headers["Upload-Offset"], http.Response.Headers["Upload-Length"]) = (
                    offset.ToString(),
                    upload.Length.ToString()
                );
                return Results.Ok();
            })
            .Produces(200)
            .WithSummary("How much of an upload is here");
        uploads
            .MapPatch("/{id}", async (HttpContext http, string id, Uploads desk, CancellationToken ct) =>
            {
                if (http.Request.ContentType != "application/offset+octet-stream")
                    return Answers.Problem(
                        415,
                        new Problem("a piece of an upload is sent as application/offset+octet-stream")
                    );
                if (!long.TryParse(http.Request.Headers["Upload-Offset"], out var offset))
                    return Answers.Problem(
                        400,
                        new Problem("where the piece belongs is not said", null, "Send 'Upload-Offset: BYTES'.")
                    );
                if (http.Features.Get<IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } size)
                    size.MaxRequestBodySize = null;
                if (desk.Find(id) is null)
                    return Answers.Problem(404, new Problem("there is no such upload", null, "Begin it again."));
                var (at, taken) = await desk.AppendAsync(id, offset, http.Request.Body, ct);
                if (at < 0)
                    return Answers.Problem(
                        409,
                        new Problem(
                            $"the piece does not begin where the upload ends",
                            $"it ends at {desk.Find(id)?.Offset}",
                            "Ask with HEAD how much is here, and go on from there."
                        )
                    );
                http.Response.Headers["Upload-Offset"] = at.ToString();
                return taken is { Ok: false }
                    ? Answers.Problems(460, "what was uploaded is refused", taken.Problems)
                    : Results.NoContent();
            })
            .Produces(204)
            .WithSummary("Send a piece of an upload from its offset on");
        uploads
            .MapDelete("/{id}", (string id, Uploads desk) => desk.Remove(id) ? Results.NoContent() : Results.NotFound())
            .Produces(204)
            .WithSummary("Give an upload up (tus termination)");
    }

    // Names and values in base64, with commas between.
    private static Dictionary<string, string> Metadata(string header)
    {
        var found = new Dictionary<string, string>();
        foreach (var pair in header.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            var parts = pair.Split(' ', 2);
            var buffer = new byte[parts.Length > 1 ? parts[1].Length : 0];
            if (parts.Length > 1 && Convert.TryFromBase64String(parts[1], buffer, out var length))
                found[parts[0]] = Encoding.UTF8.GetString(buffer, 0, length);
        }
        return found;
    }

    private static async Task<LibraryView> ViewAsync(
        ArtefactLibrary library,
        Fetching fetching,
        ArtefactNeeds needs,
        CancellationToken ct
    )
    {
        var (all, held, needed) = (await library.AllAsync(ct), await library.HeldAsync(ct), await needs.FindAsync(ct));
        var here = all.Select(a => a.Name).ToHashSet();
        return new LibraryView(
            [
                .. all.Select(a => new ArtefactLine(
                    a.Name,
                    a.Bytes,
                    a.Sha256,
                    a.Kind,
                    a.Origin,
                    a.By,
                    a.Added,
                    a.Version,
                    a.Variant,
                    a.Signature,
                    held[a.Name].Whole,
                    [.. a.Staged.Keys],
                    [.. needed.GetValueOrDefault(a.Name)?.Select(n => n.Plan).Distinct() ?? []],
                    !needed.ContainsKey(a.Name)
                )),
            ],
            [
                .. needed
                    .Where(n => !here.Contains(n.Key))
                    .OrderBy(n => n.Key, StringComparer.Ordinal)
                    .Select(n => new MissingLine(
                        n.Key,
                        [.. n.Value.Select(v => v.Plan).Distinct()],
                        n.Value.Select(v => v.Node).Distinct().Count()
                    )),
            ],
            fetching.All
        );
    }

    private static async Task<Problem> NoneAsync(ArtefactLibrary library, string name, CancellationToken ct) =>
        new(
            $"there is no artefact '{name}'",
            null,
            Nearest.Hint(name, (await library.AllAsync(ct)).Select(a => a.Name))
        );
}
