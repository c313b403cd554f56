using System.Collections.Immutable;
using System.Text.Json;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Engine.Estates;
using TideStep.Engine.People;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Engine.Plans;

/// <summary>Checks plans on readings, keeps every round, and keeps what people accepted.</summary>
public sealed class CheckDesk(EstateDesk estates, IDocumentStore store, TimeProvider time)
{
    private const string RoundKind = "check-round";

    private readonly SharedDocument<ImmutableArray<Waiver>> _waivers = new(store, "waivers", [], time);
    private readonly SharedDocument<ImmutableArray<SignedItem>> _signed = new(store, "signed-items", [], time);

    /// <summary>Which components other runs work on, by the run.</summary>
    public Func<string?, ImmutableDictionary<string, string>> Reserved { get; init; } =
        _ => ImmutableDictionary<string, string>.Empty;

    /// <summary>What the library of artefacts holds.</summary>
    public Func<CancellationToken, Task<ImmutableDictionary<string, HeldArtefact>>>? Library { get; init; }

    /// <summary>What keeps a run of a plan from starting besides its checks.</summary>
    public Func<Plan, CancellationToken, Task<ImmutableArray<Problem>>> NotReady { get; init; } =
        (_, _) => Task.FromResult(ImmutableArray<Problem>.Empty);

    /// <summary>Tells what keeps a secret from being used, by its name; null where it can be.</summary>
    public Func<string, Problem?> Secret { get; init; } = _ => null;

    /// <summary>Tide Step's own version.</summary>
    public string? OwnVersion { get; init; }

    /// <summary>Takes a survey, or stays with the last readings, puts the checks to it and keeps the round.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="survey">Whether members are read live first.</param>
    /// <param name="by">Who asked.</param>
    /// <param name="run">The run for which it is asked, whose own reservations are none of another.</param>
    public async Task<Checked<CheckRound>> RunAsync(
        Plan plan,
        bool survey,
        string by,
        string? run,
        CancellationToken ct,
        bool onlyFailed = false
    )
    {
        var unreached = ImmutableDictionary<string, string>.Empty;
        if (survey && onlyFailed && await FindAsync(plan.Digest, null, ct) is var (last, _))
        {
            // Only nodes that a finding stands for are read again; the others keep their readings, as old as they are.
            await estates.SurveyAsync(by, new SurveyScope { Nodes = await NodesOfAsync(last, ct) }, ct);
            unreached = (await estates.ReadingsAsync(ct)).Lost.ToImmutableDictionary(l => l.Key, l => l.Value.Why);
        }
        else if (survey)
            unreached = (await estates.SurveyAsync(by, ct)).Unreached.ToImmutableDictionary(u => u.Member, u => u.Why);
        if (await estates.IndexAsync(ct) is not { } index)
            return new Checked<CheckRound>(null, [EstateDesk.NoEstate]);
        var round = PlanChecks.Of(
            index,
            plan,
            new CheckContext(time.GetUtcNow())
            {
                Library = Library is null ? null : await Library(ct),
                OwnVersion = OwnVersion,
                Revisions = await estates.RevisionsAsync(ct),
                NotReady = await NotReady(plan, ct),
                Secret = Secret,
                Unreached = unreached,
                Reserved = Reserved(run),
                Signed = [.. (await SignedAsync(index.Estate, ct)).Where(s => s.Run is null || s.Run == run)],
                Waivers = [.. (await WaiversAsync(index.Estate, ct)).Where(w => w.Stands)],
            }
        );
        await store.SaveAsync(
            [
                new StoredDocument(
                    RoundKind,
                    plan.Digest,
                    0,
                    Json.Digest(round),
                    JsonSerializer.Serialize(round, Json.Options),
                    time.GetUtcNow(),
                    by
                ),
            ],
            ct
        );
        return new Checked<CheckRound>(round, []);
    }

    private async Task<IReadOnlySet<string>> NodesOfAsync(CheckRound round, CancellationToken ct)
    {
        if (await estates.CurrentEstateAsync(ct) is not { } estate)
            return new HashSet<string>();
        var standing = round.Findings.Where(f => f.Result is CheckResult.Failed or CheckResult.Open).ToList();
        return standing
            .Select(f => f.Node)
            .OfType<string>()
            .Concat(standing.Where(f => f.Node is null).SelectMany(f => NodesOf(estate, f.Subject)))
            .Where(estate.Nodes.ContainsKey)
            .ToHashSet();
    }

    // A finding may be of a member, a node, a component (at a site), a site, or two components.
    private static IEnumerable<string> NodesOf(Estate estate, string subject) =>
        subject
            .Split(" with ")
            .Select(part => part.Split(" at ")[0])
            .SelectMany(part =>
                estate.FindMember(part) is { } member ? [member.Node]
                : estate.Nodes.ContainsKey(part) ? [part]
                : estate.Find(part)?.Members.Select(m => m.Node)
                    ?? estate.Nodes.Values.Where(n => n.Site == part).Select(n => n.Id)
            );

    /// <summary>A kept round of a plan: the last, or one by its number.</summary>
    public async Task<(CheckRound Round, long Number)?> FindAsync(string digest, long? number, CancellationToken ct)
    {
        var stored = number is { } n
            ? await store.FindAsync(RoundKind, digest, n, ct)
            : await store.FindAsync(RoundKind, digest, ct);
        return stored is null ? null : (Kept.Read<CheckRound>(stored), stored.Revision);
    }

    /// <summary>The files that people sign with.</summary>
    public EvidenceFiles Evidence { get; } = new(store, time);

    private Task<ImmutableArray<SignedItem>> SignedAsync(Estate estate, CancellationToken ct) =>
        _signed.ReadAsync(estate.Id, ct);

    /// <summary>Gives the signatures under a plan's manual prerequisites to a run that starts: the next run of the same
    /// plan needs others.</summary>
    public async Task<ImmutableArray<SignedItem>> GiveSignaturesAsync(
        Plan plan,
        string run,
        string by,
        CancellationToken ct
    )
    {
        var asked = ManualItem.Of(plan).Select(i => i.Key).ToHashSet();
        if (asked.Count == 0 || await estates.CurrentEstateAsync(ct) is not { } estate)
            return [];
        bool Its(SignedItem signed) => signed.Run is null && asked.Contains(signed.Item);
        var used = (await SignedAsync(estate, ct)).Where(Its).ToList();
        if (used.Count == 0)
            return [];
        await _signed.ChangeAsync(estate.Id, all => [.. all.Select(s => Its(s) ? s with { Run = run } : s)], by, ct);
        return [.. used.GroupBy(s => s.Item).Select(g => g.Last() with { Run = run })];
    }

    /// <summary>A person's signature under a manual prerequisite of a plan, with what proves it.</summary>
    public async Task<Checked<SignedItem>> SignAsync(
        Plan plan,
        string title,
        string evidence,
        (string Name, byte[] Content)? file,
        string by,
        CancellationToken ct
    )
    {
        if (await estates.CurrentEstateAsync(ct) is not { } estate)
            return new Checked<SignedItem>(null, [EstateDesk.NoEstate]);
        var items = ManualItem.Of(plan);
        if (items.FirstOrDefault(i => i.Title == title || $"manual {i.Title}" == title) is not { } item)
            return new Checked<SignedItem>(
                null,
                [
                    new Problem(
                        $"the plan asks nobody to '{title}' beforehand",
                        null,
                        Nearest.Hint(title, items.Select(i => i.Title))
                    ),
                ]
            );
        if (string.IsNullOrWhiteSpace(evidence))
            return new Checked<SignedItem>(
                null,
                [new Problem("a signature needs evidence", null, "Say what you did or saw.")]
            );
        EvidenceFile? kept = null;
        if (file is { } shown)
        {
            var its = await Evidence.KeepAsync(shown.Name, shown.Content, by, ct);
            if (!its.Ok)
                return new Checked<SignedItem>(null, its.Problems);
            kept = its.Value;
        }
        var signed = new SignedItem(item.Key, by, time.GetUtcNow(), evidence.Trim()) { File = kept };
        await _signed.ChangeAsync(estate.Id, all => all.Add(signed), by, ct);
        return new Checked<SignedItem>(signed, []);
    }

    /// <summary>What was accepted in this estate, ended or not.</summary>
    public Task<ImmutableArray<Waiver>> WaiversAsync(Estate estate, CancellationToken ct) =>
        _waivers.ReadAsync(estate.Id, ct);

    /// <summary>Accepts a finding of the last round of a plan as it stands there.</summary>
    public async Task<Checked<Waiver>> WaiveAsync(
        Plan plan,
        string finding,
        string reason,
        DateTimeOffset? ends,
        string by,
        CancellationToken ct
    )
    {
        if (await estates.CurrentEstateAsync(ct) is not { } estate)
            return new Checked<Waiver>(null, [EstateDesk.NoEstate]);
        if (await FindAsync(plan.Digest, null, ct) is not var (round, _))
            return Refused("this plan was never checked", "Run: tidestep check run PLAN.");
        var found =
            round.Findings.Where(f => f.Id == finding).ToList() is [var exact] ? exact
            : round
                .Findings.Where(f => f.Id.EndsWith(finding, StringComparison.Ordinal) || f.Subject == finding)
                .ToList()
                is [var only]
                ? only
            : null;
        if (found is null)
            return Refused(
                $"the last round has no one finding '{finding}'",
                Nearest.Hint(
                    finding,
                    round.Findings.Where(f => f.Result is CheckResult.Failed or CheckResult.Open).Select(f => f.Id)
                ) ?? "Name it by its check and subject, as 'tidestep check show' writes them."
            );
        var made = WaiverRules.Make(estate.Class, found, by, reason, time.GetUtcNow(), ends);
        if (made.Ok)
            await _waivers.ChangeAsync(
                estate.Id,
                all => [.. all.Where(w => w.Finding != found.Id), made.Value!],
                by,
                ct
            );
        return made;
    }

    /// <summary>The second person's word on a waiver that needs one.</summary>
    public async Task<Checked<Waiver>> SecondAsync(string finding, string by, CancellationToken ct)
    {
        if (await estates.CurrentEstateAsync(ct) is not { } estate)
            return new Checked<Waiver>(null, [EstateDesk.NoEstate]);
        var all = await WaiversAsync(estate, ct);
        if (all.FirstOrDefault(w => w.Finding == finding) is not { } waiver)
            return Refused($"there is no waiver of '{finding}'", Nearest.Hint(finding, all.Select(w => w.Finding)));
        var seconded = WaiverRules.Second(waiver, by);
        var stood = true;
        if (seconded.Ok)
            await _waivers.ChangeAsync(
                estate.Id,
                now => (stood = now.Contains(waiver)) ? [.. now.Where(w => w != waiver), seconded.Value!] : now,
                by,
                ct
            );
        // The word was for what stood there before.
        return stood
            ? seconded
            : Refused(
                $"the waiver of '{finding}' was made anew meanwhile",
                "Look at it again: tidestep check show PLAN."
            );
    }

    private static Checked<Waiver> Refused(string what, string? hint) => new(null, [new Problem(what, null, hint)]);
}
