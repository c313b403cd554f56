using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Learnt;
using TideStep.Core.Notices;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Engine.Estates;

/// <summary>A document as it comes in: its text and what to call it in messages.</summary>
public sealed record IncomingDocument(string Name, string Text);

/// <summary>A survey in a list.</summary>
public sealed record SurveyLine(long Number, DateTimeOffset Taken, string By, int Members, int Unreached);

/// <summary>The estate, catalogue and readings as they stand, and what can be asked of them.</summary>
public sealed partial class EstateDesk(IDocumentStore store, MemberReader reader, TimeProvider time)
{
    private const string ReadingsKind = "readings";

    private (string Revision, Estate? Estate, string CatalogueRevision, ProductCatalogue Catalogue)? _current;
    private readonly SemaphoreSlim _loading = new(1, 1);

    /// <summary>Imports documents, all or nothing; every problem of all of them comes at once. Earlier revisions are
    /// kept.</summary>
    public async Task<(IReadOnlyList<StoredDocument> Saved, ImmutableArray<Problem> Problems)> ImportAsync(
        IReadOnlyList<IncomingDocument> documents,
        string by,
        CancellationToken ct
    ) => await ImportAsync(documents, by, after: null, ct);

    /// <summary>The same; where <paramref name="after"/> is given, only if that still is the last revision of the one
    /// document.</summary>
    public async Task<(IReadOnlyList<StoredDocument> Saved, ImmutableArray<Problem> Problems)> ImportAsync(
        IReadOnlyList<IncomingDocument> documents,
        string by,
        long? after,
        CancellationToken ct
    )
    {
        var (incoming, problems) = await ReadAsync(documents, by, ct);
        if (!problems.IsEmpty)
            return ([], problems);
        if (after is { } known)
        {
            if (incoming is not [var only])
                return ([], [new Problem("a revision can be named for a single document only")]);
            if (!await store.SaveAfterAsync(only, known, ct))
                return (
                    [],
                    [
                        new Problem(
                            $"{only.Kind} '{only.Id}' was changed meanwhile",
                            $"what was sent was made from revision {known}",
                            "Look at what changed, and send it again with the last revision."
                        )
                        {
                            Conflict = true,
                        },
                    ]
                );
            incoming = [only with { Revision = known + 1 }];
        }
        else
            incoming = await store.SaveAsync(incoming, ct);
        _current = null;
        return (incoming, []);
    }

    /// <summary>Everything that would keep documents from being imported; nothing is kept.</summary>
    public async Task<ImmutableArray<Problem>> CheckAsync(
        IReadOnlyList<IncomingDocument> documents,
        CancellationToken ct
    ) => (await ReadAsync(documents, "", ct)).Problems;

    private async Task<(IReadOnlyList<StoredDocument> Read, ImmutableArray<Problem> Problems)> ReadAsync(
        IReadOnlyList<IncomingDocument> documents,
        string by,
        CancellationToken ct
    )
    {
        var findings = new Findings();
        var (incoming, withReadings) = (new List<StoredDocument>(), new List<IncomingDocument>());
        var (estate, catalogue) = await ReadableAsync(ct);
        foreach (var document in documents)
        {
            var kind = KindOf(document, findings);
            switch (kind)
            {
                case EstateDocument.Kind:
                    var read = EstateDocument.Read(document.Text, document.Name);
                    findings.AddRange(read.Problems);
                    if (read.Value is { } value)
                    {
                        estate = value;
                        incoming.Add(Stored("estate", "estate", document.Text, by));
                    }
                    break;
                case ProductDocument.Kind:
                    var product = ProductDocument.Read(document.Text, document.Name);
                    findings.AddRange(product.Problems);
                    if (product.Value is { } its)
                    {
                        if (incoming.Any(i => i.Kind == "product" && i.Id == its.Id))
                            findings.Add(
                                $"two documents describe the product '{its.Id}'",
                                new Place(document.Name, 1, 1)
                            );
                        catalogue[its.Id] = its;
                        incoming.Add(Stored("product", its.Id, document.Text, by));
                    }
                    break;
                case NoticesDocument.Kind:
                    var notices = NoticesDocument.Read(document.Text, document.Name);
                    findings.AddRange(notices.Problems);
                    if (notices.Value is not null)
                        incoming.Add(Stored(NoticesKind, NoticesKind, document.Text, by));
                    break;
                case ReadingsDocument.Kind:
                    withReadings.Add(document);
                    break;
                case GoalDocument.Kind:
                    findings.Add(
                        "a goal is not imported",
                        new Place(document.Name, 1, 1),
                        "Name it when a path or a plan is asked for."
                    );
                    break;
            }
        }
        findings.AddRange(ProductCatalogue.Create(catalogue.Values).Problems);
        foreach (var document in withReadings)
        {
            if (estate is null)
            {
                findings.Add(
                    "readings need an estate",
                    new Place(document.Name, 1, 1),
                    "Import the estate first, or with them."
                );
                continue;
            }
            var readings = ReadingsDocument.Read(document.Text, document.Name, estate);
            findings.AddRange(readings.Problems);
            if (readings.Value is not null)
                incoming.Add(Stored(ReadingsKind, estate.Id, document.Text, by));
        }
        return findings.Any ? ([], findings.All) : (incoming, []);
    }

    // What is damaged is put right by what comes in: it is left out here.
    private async Task<(Estate? Estate, Dictionary<string, Product> Catalogue)> ReadableAsync(CancellationToken ct)
    {
        var catalogue = new Dictionary<string, Product>();
        foreach (var document in await store.LatestAsync("product", ct))
            if (document.Damaged is null && ProductDocument.Read(document.Body, document.Id).Value is { } product)
                catalogue[product.Id] = product;
        try
        {
            return await store.FindAsync("estate", "estate", ct) is { } kept
                ? (EstateDocument.Read(kept.Body, "estate").Value, catalogue)
                : (null, catalogue);
        }
        catch (DamagedRecordException)
        {
            return (null, catalogue);
        }
    }

    internal const string NoticesKind = "notices";

    private StoredDocument Stored(string kind, string id, string text, string by) =>
        new(kind, id, 0, Json.DigestOfText(text), text, time.GetUtcNow(), by);

    // Where it stands as it is usually written, the document need not be read for it; what reads it then says what is
    // wrong with it.
    [GeneratedRegex(@"^tidestep:[ \t]*(?<kind>[a-z]+/\d+)[ \t]*\r?$", RegexOptions.Multiline)]
    private static partial Regex UsualKind { get; }

    private static readonly string[] Kinds =
    [
        EstateDocument.Kind,
        ProductDocument.Kind,
        ReadingsDocument.Kind,
        GoalDocument.Kind,
        NoticesDocument.Kind,
    ];

    private static string? KindOf(IncomingDocument document, Findings findings)
    {
        if (UsualKind.Match(document.Text) is { Success: true } usual && Kinds.Contains(usual.Groups["kind"].Value))
            return usual.Groups["kind"].Value;
        var node = DocumentReader.Read(document.Text, document.Name);
        if (node.Value is null)
        {
            findings.AddRange(node.Problems);
            return null;
        }
        if (
            node.Value is MapNode map
            && map.Entries.FirstOrDefault(e => e.Key.Text == "tidestep").Value is TextNode kind
        )
        {
            if (Kinds.Contains(kind.Text))
                return kind.Text;
            findings.Add($"'{kind.Text}' is no kind of document", kind.At, Nearest.Hint(kind.Text, Kinds));
            return null;
        }
        findings.Add(
            "the document does not say what it is",
            node.Value.At,
            "Its first line must be 'tidestep: KIND/1'."
        );
        return null;
    }

    private async Task<(
        string Revision,
        Estate? Estate,
        string CatalogueRevision,
        ProductCatalogue Catalogue
    )> LoadAsync(CancellationToken ct)
    {
        if (_current is { } known)
            return known;
        await _loading.WaitAsync(ct);
        try
        {
            var document = await store.FindAsync("estate", "estate", ct);
            var products = await store.LatestAsync("product", ct);
            var estate = document is null ? null : Whole(document, EstateDocument.Read(document.Body, "estate"));
            var made = ProductCatalogue.Create(
                products.Select(p =>
                    p.Damaged is { } damaged
                        ? throw new DamagedRecordException(damaged)
                        : Whole(p, ProductDocument.Read(p.Body, p.Id))
                )
            );
            var catalogue = made.Value
                ?? throw new DamagedRecordException($"the catalogue does not fit together: {made.Problems[0].What}");
            var loaded = (
                document?.Digest ?? "",
                estate,
                Json.DigestOfText(string.Join(",", products.Select(p => p.Digest))),
                catalogue
            );
            _current = loaded;
            return loaded;
        }
        finally
        {
            _loading.Release();
        }
    }

    // Without one of its documents everything that is said of the estate would be said of another one.
    private static T Whole<T>(StoredDocument document, Checked<T> read)
        where T : class =>
        read.Value
        ?? throw new DamagedRecordException(
            $"the {document.Kind} '{document.Id}', revision {document.Revision}, can't be read any more: "
                + $"{read.Problems[0]}"
        );

    public async Task<Estate?> CurrentEstateAsync(CancellationToken ct) => (await LoadAsync(ct)).Estate;

    public async Task<ProductCatalogue> CatalogueAsync(CancellationToken ct) => (await LoadAsync(ct)).Catalogue;

    /// <summary>The digests of the estate and of the whole catalogue as they stand.</summary>
    public async Task<(string Estate, string Catalogue)> RevisionsAsync(CancellationToken ct) =>
        await LoadAsync(ct) is var l ? (l.Revision, l.CatalogueRevision) : default;

    /// <summary>The last readings, or none at all where nothing was surveyed yet.</summary>
    public async Task<Readings> ReadingsAsync(CancellationToken ct)
    {
        var estate = await CurrentEstateAsync(ct);
        if (estate is null || await LastSurveyAsync(estate, ct) is not { } document)
            return new Readings(DateTimeOffset.MinValue, ImmutableDictionary<string, MemberReading>.Empty);
        // Of thousands of members reading the text takes longer than all that is asked of them.
        if (_readings is { } known && known.Digest == document.Digest && ReferenceEquals(known.Estate, estate))
            return known.Readings;
        if (ReadingsDocument.Read(document.Body, "readings", estate).Value is not { } readings)
            return new Readings(DateTimeOffset.MinValue, ImmutableDictionary<string, MemberReading>.Empty);
        _readings = (document.Digest, estate, readings);
        return readings;
    }

    private (string Digest, Estate Estate, Readings Readings)? _readings;

    // Readings that were damaged are as good as none: the next survey takes their place.
    private async Task<StoredDocument?> LastSurveyAsync(Estate estate, CancellationToken ct)
    {
        try
        {
            return await store.FindAsync(ReadingsKind, estate.Id, ct);
        }
        catch (DamagedRecordException)
        {
            return null;
        }
    }

    /// <summary>The survey that is being taken here now, or null.</summary>
    public SurveyProgress? Surveying { get; private set; }

    /// <summary>Reads every member live and keeps the readings; members that can't be reached are told apart.</summary>
    public Task<(Readings Readings, IReadOnlyList<(string Member, string Why)> Unreached)> SurveyAsync(
        string by,
        CancellationToken ct
    ) => SurveyAsync(by, SurveyScope.Everything, ct);

    /// <summary>The same of a part of the estate: what is not in it keeps its readings, as old as they are.</summary>
    public async Task<(Readings Readings, IReadOnlyList<(string Member, string Why)> Unreached)> SurveyAsync(
        string by,
        SurveyScope scope,
        CancellationToken ct
    )
    {
        var (_, estate, _, catalogue) = await LoadAsync(ct);
        if (estate is null)
            return (new Readings(time.GetUtcNow(), ImmutableDictionary<string, MemberReading>.Empty), []);
        var all = Membership.Candidates(estate).ToList();
        // Of nodes that only people reach the readings are what people entered.
        var asked = all.Where(m => scope.Holds(estate, m) && estate.Nodes[m.Node].Reach.By != "person").ToList();
        var (count, begun) = (0, time.GetUtcNow());
        Surveying = new SurveyProgress(scope.Words, 0, asked.Count, begun);
        try
        {
            var found = await reader.SurveyAsync(estate, catalogue, asked, ct, () =>
                Surveying = new SurveyProgress(scope.Words, Interlocked.Increment(ref count), asked.Count, begun)
            );
            var kept = all.Select(m => m.Id).Except(found.Keys).ToHashSet();
            // Surveys of several parts may overlap, of several instances as well: what is not in this one is as the
            // last of them left it.
            while (true)
            {
                var revision = await store.RevisionAsync(ReadingsKind, estate.Id, ct);
                var before = await ReadingsAsync(ct);
                var taken = new Readings(
                    time.GetUtcNow(),
                    found
                        .Where(f => f.Value.Reachable)
                        .Select(f => KeyValuePair.Create(f.Key, f.Value.Reading))
                        .Concat(
                            before
                                .Members.Where(m => kept.Contains(m.Key))
                                .Select(m => KeyValuePair.Create(m.Key, m.Value with { At = before.TakenOf(m.Key) }))
                        )
                        .ToImmutableDictionary()
                )
                {
                    Lost = found
                        .Where(f => !f.Value.Reachable)
                        .Select(f =>
                            KeyValuePair.Create(
                                f.Key,
                                before.Members.TryGetValue(f.Key, out var last)
                                        ? new LostReading(f.Value.Why ?? "", last, before.TakenOf(f.Key))
                                    : before.Lost.TryGetValue(f.Key, out var still)
                                        ? still with
                                        {
                                            Why = f.Value.Why ?? "",
                                        }
                                    : new LostReading(f.Value.Why ?? "", null, null)
                            )
                        )
                        .Concat(before.Lost.Where(l => kept.Contains(l.Key)))
                        .ToImmutableDictionary(),
                };
                if (!await store.SaveAfterAsync(Stored(ReadingsKind, estate.Id, Write(taken), by), revision, ct))
                    continue;
                return (
                    taken,
                    [
                        .. found
                            .Where(f => !f.Value.Reachable)
                            .Select(f => (f.Key, f.Value.Why ?? ""))
                            .OrderBy(f => f.Key, StringComparer.Ordinal),
                    ]
                );
            }
        }
        finally
        {
            Surveying = null;
        }
    }

    /// <summary>What is known of a member: every reading with its kind, where it comes from and when it was taken; and
    /// those that could not be taken. Null where there is no such member.</summary>
    public async Task<MemberView?> MemberAsync(string id, CancellationToken ct)
    {
        var (_, estate, _, catalogue) = await LoadAsync(ct);
        if (estate?.FindMember(id) is not { } member)
            return null;
        var readings = await ReadingsAsync(ct);
        return MemberView.Of(estate, catalogue, member, readings);
    }

    /// <summary>How one reading of a member went through the surveys that are kept, newest first.</summary>
    public async Task<IReadOnlyList<ReadingThen>> HistoryAsync(
        string member,
        string reading,
        int limit,
        CancellationToken ct
    )
    {
        var lines = new List<ReadingThen>();
        if (await CurrentEstateAsync(ct) is not { } estate || await LastSurveyAsync(estate, ct) is not { } last)
            return lines;
        for (var number = last.Revision; number > 0 && lines.Count < limit; number--)
            if (
                await FindSurveyAsync(estate, number, ct) is var (_, readings)
                && readings.Members.TryGetValue(member, out var its)
                && (lines.Count == 0 || lines[^1].At != readings.TakenOf(member))
            )
                lines.Add(
                    new ReadingThen(
                        readings.TakenOf(member),
                        MemberView.ValueOf(its, reading),
                        its.Missed.GetValueOrDefault(reading)
                    )
                );
        return lines;
    }

    /// <summary>Readings as a document of ours.</summary>
    public static string Write(Readings readings)
    {
        var members = new JsonObject();
        foreach (var (id, reading) in readings.Members.OrderBy(m => m.Key, StringComparer.Ordinal))
        {
            members[id] = Written(reading);
        }
        var document = new JsonObject
        {
            ["tidestep"] = ReadingsDocument.Kind,
            ["taken"] = readings.Taken.ToString("O"),
            ["members"] = members,
        };
        if (!readings.Lost.IsEmpty)
            document["unreached"] = new JsonObject(
                readings
                    .Lost.OrderBy(l => l.Key, StringComparer.Ordinal)
                    .Select(l =>
                    {
                        var its = new JsonObject
                        {
                            ["why"] = l.Value.Why.Length > 0 ? l.Value.Why : "it did not answer",
                        };
                        if (l.Value.At is { } at)
                            its["known"] = at.ToString("O");
                        if (l.Value.Last is { } last)
                            its["last"] = Written(last);
                        return KeyValuePair.Create<string, JsonNode?>(l.Key, its);
                    })
            );
        return document.ToJsonString(new JsonSerializerOptions(Json.Options) { WriteIndented = true });

        static JsonObject Written(MemberReading reading)
        {
            var member = new JsonObject { ["running"] = reading.Running ?? (reading.RunsNothing ? "none" : "unknown") };
            if (reading.Installed is not null)
                member["installed"] = reading.Installed;
            if (reading.Staged is not null)
                member["staged"] = reading.Staged;
            if (reading.Role is not null)
                member["role"] = reading.Role;
            member["in-service"] = reading.InService ? "true" : "false";
            if (reading.At is { } at)
                member["at"] = at.ToString("O");
            if (!reading.Values.IsEmpty)
                member["values"] = new JsonObject(
                    reading
                        .Values.OrderBy(v => v.Key, StringComparer.Ordinal)
                        .Select(v => KeyValuePair.Create<string, JsonNode?>(v.Key, v.Value))
                );
            if (!reading.Missed.IsEmpty)
                member["missed"] = new JsonObject(
                    reading
                        .Missed.OrderBy(v => v.Key, StringComparer.Ordinal)
                        .Select(v => KeyValuePair.Create<string, JsonNode?>(v.Key, v.Value))
                );
            return member;
        }
    }

    /// <summary>The surveys kept, newest first: their numbers, when they were taken, by whom, how many members they
    /// read and missed.</summary>
    public async Task<IReadOnlyList<SurveyLine>> SurveysAsync(int limit, long? after, CancellationToken ct)
    {
        var lines = new List<SurveyLine>();
        if (await CurrentEstateAsync(ct) is not { } estate || await LastSurveyAsync(estate, ct) is not { } last)
            return lines;
        var newest = Math.Min(last.Revision, (after ?? long.MaxValue) - 1);
        for (var number = newest; number > 0 && lines.Count < limit; number--)
            if (await FindSurveyAsync(estate, number, ct) is var (document, readings))
                lines.Add(
                    new SurveyLine(number, readings.Taken, document.Author, readings.Members.Count, readings.Lost.Count)
                );
        return lines;
    }

    /// <summary>What one survey found otherwise than an earlier one; null where either is not kept or can't be read any
    /// more.</summary>
    public async Task<ImmutableArray<Difference>?> CompareSurveysAsync(
        long earlier,
        long later,
        CancellationToken ct
    ) =>
        await CurrentEstateAsync(ct) is { } estate
        && await FindSurveyAsync(estate, earlier, ct) is var (_, was)
        && await FindSurveyAsync(estate, later, ct) is var (_, now)
            ? Drift.Between(was, now)
            : null;

    private async Task<(StoredDocument Document, Readings Readings)?> FindSurveyAsync(
        Estate estate,
        long number,
        CancellationToken ct
    )
    {
        try
        {
            return
                await store.FindAsync(ReadingsKind, estate.Id, number, ct) is { } document
                && ReadingsDocument.Read(document.Body, "readings", estate).Value is { } readings
                ? (document, readings)
                : null;
        }
        catch (DamagedRecordException)
        {
            return null;
        }
    }

    /// <summary>What stands out of line in the estate, against itself, the catalogue and what the last runs
    /// left.</summary>
    public async Task<ImmutableArray<Difference>?> DriftAsync(
        IReadOnlyDictionary<string, string> left,
        CancellationToken ct
    ) =>
        await IndexAsync(ct) is { } index
            ? Drift.Of(index, left, DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime))
            : null;

    /// <summary>The estate numbered for planning, or null where none was imported.</summary>
    public async Task<EstateIndex?> IndexAsync(CancellationToken ct)
    {
        var (_, estate, _, catalogue) = await LoadAsync(ct);
        return estate is null ? null : new EstateIndex(estate, await ReadingsAsync(ct), catalogue);
    }

    /// <summary>The best path to a goal, on the last readings.</summary>
    public async Task<(EstateIndex? Index, Checked<PathAnswer> Answer)> PathAsync(
        string goalText,
        string name,
        bool forPlan,
        SearchWatch? watch,
        CancellationToken ct
    )
    {
        var goal = GoalDocument.Read(goalText, name);
        if (!goal.Ok)
            return (null, new Checked<PathAnswer>(null, goal.Problems));
        if (await IndexAsync(ct) is not { } index)
            return (null, new Checked<PathAnswer>(null, [NoEstate]));
        var day = goal.Value!.Day
            ?? DateOnly.FromDateTime(
                TimeZoneInfo
                    .ConvertTime(time.GetUtcNow(), TimeZoneInfo.FindSystemTimeZoneById(index.Estate.Zone))
                    .DateTime
            );
        var request = new PathRequest(index, goal.Value, day) { Watch = watch };
        return (index, forPlan ? PathFinder.Find(request) : PathFinder.FindWithAlternatives(request));
    }

    public static readonly Problem NoEstate = new(
        "no estate has been imported",
        null,
        "Run: tidestep estate import FILE..."
    );

    /// <summary>Makes and keeps the plan of the best path to a goal.</summary>
    public async Task<(Checked<Plan> Plan, PathAnswer? Path)> MakePlanAsync(
        string goalText,
        string name,
        string by,
        SearchWatch? watch,
        CancellationToken ct
    )
    {
        var (index, answer) = await PathAsync(goalText, name, forPlan: true, watch, ct);
        if (!answer.Ok || index is null)
            return (new Checked<Plan>(null, answer.Problems), null);
        var path = answer.Value!;
        if (!path.Found)
            return (
                new Checked<Plan>(
                    null,
                    [
                        .. path
                            .Reasons.Select(r => new Problem($"no path: {r.What}", null, r.Opens))
                            .DefaultIfEmpty(
                                new Problem("no path was found", "the search was cut off", "Name a nearer goal.")
                            ),
                    ]
                ),
                path
            );
        if (path.AlreadyMet)
            return (
                new Checked<Plan>(null, [new Problem("the goal is met already", null, "There is nothing to do.")]),
                path
            );
        var (estate, catalogue) = await RevisionsAsync(ct);
        var plan = PlanMaker.Make(index, path, estate, catalogue, learnt: await LearntAsync(index.Estate.Id, ct));
        if (plan.Ok)
            await store.SavePlanAsync(
                new StoredPlan(
                    plan.Value!.Digest,
                    index.Estate.Id,
                    plan.Value.Kind,
                    Json.Canonical(plan.Value),
                    time.GetUtcNow(),
                    by
                ),
                ct
            );
        return (plan, path);
    }

    private readonly SharedDocument<LearntTimes> _learnt = new(store, "learnt-times", LearntTimes.None, time);

    /// <summary>What steps took in earlier runs in this estate.</summary>
    public Task<LearntTimes> LearntAsync(string estate, CancellationToken ct) => _learnt.ReadAsync(estate, ct);

    /// <summary>Learns from a run that has ended.</summary>
    public async Task LearnAsync(RunState run, CancellationToken ct)
    {
        if (await CurrentEstateAsync(ct) is not { } estate || estate.Id != run.Plan.Estate)
            return;
        await _learnt.ChangeAsync(estate.Id, all => all.With(run, c => estate.Find(c)?.Product), run.By, ct);
    }

    /// <summary>The return path of a kept plan once its parts up to one are done, all of them where none is
    /// named.</summary>
    public async Task<Checked<PathAnswer>> ReturnPathAsync(string digest, int? after, int move, CancellationToken ct)
    {
        if (await FindPlanAsync(digest, ct) is not { } plan)
            return new Checked<PathAnswer>(null, [RunDesk.NoPlan(digest)]);
        if (await IndexAsync(ct) is not { } index)
            return new Checked<PathAnswer>(null, [NoEstate]);
        return ReturnPlanner.PathFrom(index, plan, after ?? plan.Blocks.Length, move);
    }

    /// <summary>A kept plan by its digest, or the beginning of one that only one plan has.</summary>
    public async Task<Plan?> FindPlanAsync(string digest, CancellationToken ct)
    {
        var stored = await store.FindPlanAsync(digest, ct);
        if (stored is null && digest.Length >= 6)
        {
            var fitting = await store.PlansLikeAsync(digest, ct);
            if (fitting.Count == 0)
                fitting = await store.PlansLikeAsync("sha256:" + digest, ct);
            stored = fitting.Count == 1 ? fitting[0] : null;
        }
        return stored is null ? null : Read(stored);
    }

    /// <summary>The plan that a row holds.</summary>
    /// <exception cref="DamagedRecordException">It was changed where it is kept, or can't be read.</exception>
    internal static Plan Read(StoredPlan stored) =>
        stored.Damaged is { } damaged
            ? throw new DamagedRecordException(damaged)
            : Kept.Read<Plan>(stored.Body, $"plan {stored.Digest}").KeptAs(stored.Digest);
}
