using System.Collections.Immutable;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Rehearsals;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Storage;

namespace TideStep.Engine.Plans;

/// <summary>A rehearsal as it is kept.</summary>
public sealed record KeptRehearsal(RehearsalResult? Drawn, TestEvidence? Evidence, string By, DateTimeOffset At);

/// <summary>Rehearses plans against stand-ins, takes reports from test estates as evidence, and keeps both.</summary>
public sealed class RehearsalDesk(EstateDesk estates, IDocumentStore store, TimeProvider time)
{
    private const string DrawnKind = "rehearsals";
    private const string EvidenceKind = "rehearsal-evidence";

    /// <summary>Rehearses a plan against stand-ins.</summary>
    public async Task<Checked<KeptRehearsal>> DrawAsync(Plan plan, RehearsalWish wish, string by, CancellationToken ct)
    {
        if (await estates.CurrentEstateAsync(ct) is not { } estate)
            return new Checked<KeptRehearsal>(null, [EstateDesk.NoEstate]);
        if (Rehearsing.WrongOf(wish, plan) is { } wrong)
            return new Checked<KeptRehearsal>(null, [wrong]);
        if (plan.Components.FirstOrDefault(c => estate.Find(c) is null) is { } gone)
            return new Checked<KeptRehearsal>(
                null,
                [new Problem($"the estate has no component '{gone}' any more", null, "Make the plan again.")]
            );
        var result = await Task.Run(() => Rehearsing.Of(plan, estate, wish, () => ct.IsCancellationRequested), ct);
        ct.ThrowIfCancellationRequested();
        return await KeepAsync(DrawnKind, plan.Digest, new KeptRehearsal(result, null, by, time.GetUtcNow()), ct);
    }

    /// <summary>Takes the report of a run in a test estate as evidence for a plan's steps.</summary>
    public async Task<Checked<KeptRehearsal>> TakeAsync(
        Plan plan,
        RunReport report,
        IReadOnlyDictionary<string, string> map,
        string by,
        CancellationToken ct
    )
    {
        var evidence = TestEvidenceRules.Of(plan, report, map, by, time.GetUtcNow());
        return evidence.Ok
            ? await KeepAsync(
                EvidenceKind,
                plan.Digest,
                new KeptRehearsal(null, evidence.Value, by, time.GetUtcNow()),
                ct
            )
            : new Checked<KeptRehearsal>(null, evidence.Problems);
    }

    private async Task<Checked<KeptRehearsal>> KeepAsync(
        string kind,
        string digest,
        KeptRehearsal kept,
        CancellationToken ct
    )
    {
        var body = JsonSerializer.Serialize(kept, Json.Options);
        await store.SaveAsync(
            [new StoredDocument(kind, digest, 0, Json.DigestOfText(body), body, kept.At, kept.By)],
            ct
        );
        return new Checked<KeptRehearsal>(kept, []);
    }

    /// <summary>The last rehearsal of either kind.</summary>
    public async Task<(KeptRehearsal? Drawn, KeptRehearsal? Evidence)> OfAsync(string digest, CancellationToken ct) =>
        (await FindAsync(DrawnKind, digest, ct), await FindAsync(EvidenceKind, digest, ct));

    private async Task<KeptRehearsal?> FindAsync(string kind, string digest, CancellationToken ct) =>
        await store.FindAsync(kind, digest, ct) is { } kept ? Kept.Read<KeptRehearsal>(kept) : null;

    /// <summary>What keeps a plan from starting because it has to be rehearsed; null where nothing does.</summary>
    public async Task<Problem?> MissingAsync(Plan plan, CancellationToken ct)
    {
        if (plan.Rehearsal is not { } demand)
            return null;
        var (drawn, evidence) = await OfAsync(plan.Digest, ct);
        var last = demand.InTestEstate ? evidence : drawn;
        var how = demand.InTestEstate
            ? "Carry it out in a test estate, and give its report: tidestep rehearse report PLAN FILE."
            : "Rehearse it: tidestep rehearse draw PLAN.";
        if (last is null)
            return new Problem(
                $"the plan was not rehearsed {(demand.InTestEstate ? "in a test estate" : "against stand-ins")}",
                null,
                how
            );
        if (last.At + demand.Lasts <= time.GetUtcNow())
            return new Problem($"its rehearsal of {last.At:yyyy-MM-dd HH:mm} counts no more", null, how);
        if (last.Drawn is { Broken: [var broken, ..] })
            return new Problem($"its rehearsal broke a guard: {broken}", null, "Look at the plan.");
        return last.Drawn is { } result && result.Chance < demand.Chance
            ? new Problem(
                $"its rehearsal kept the windows in {result.Chance * 100:0} % of the draws; "
                    + $"{demand.Chance * 100:0} % are asked for",
                null,
                "Give it more time or fewer moves, or rehearse it with what you know."
            )
            : null;
    }
}
