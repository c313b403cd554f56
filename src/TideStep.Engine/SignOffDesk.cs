using System.Collections.Immutable;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine;

/// <summary>Keeps people's words on plans: who signed which digest, what was agreed for halts, until when it holds. Words on parts of a run stand in its journal.</summary>
public sealed class SignOffDesk(IDocumentStore store, TimeProvider time)
{
    private const string Kind = "sign-offs";

    /// <summary>What was signed of a plan, in its order, whether it still holds or not.</summary>
    public async Task<ImmutableArray<SignOff>> OfAsync(string digest, CancellationToken ct) =>
        await store.FindAsync(Kind, digest, ct) is { } kept ? JsonSerializer.Deserialize<ImmutableArray<SignOff>>(kept.Body, Json.Options) : [];

    /// <summary>Signs a plan before its start.</summary>
    /// <param name="read">The digest that the signer has read, where it is said.</param>
    public async Task<Checked<SignOff>> SignAsync(Plan plan, string by, ImmutableArray<StandingOrder> turnBack, string? note, string? read, CancellationToken ct)
    {
        var made = SignOffRules.Make(plan, PlannedSignOff.Start, by, await OwnAsync(plan.Digest, ct), turnBack, note, read, time.GetUtcNow());
        if (made.Ok) await SaveAsync(plan.Digest, (await OfAsync(plan.Digest, ct)).Add(made.Value!), by, ct);
        return made;
    }

    /// <summary>Takes one's own word back; a run that has started is not held by that.</summary>
    public async Task<Problem?> WithdrawAsync(Plan plan, string by, CancellationToken ct)
    {
        var all = await OfAsync(plan.Digest, ct);
        var left = all.RemoveAll(s => string.Equals(s.By, by, StringComparison.OrdinalIgnoreCase));
        if (left.Length == all.Length) return new Problem($"{by} has not signed this plan", null, "Only one's own word is taken back.");
        await SaveAsync(plan.Digest, left, by, ct);
        return null;
    }

    /// <summary>Who made a plan; empty where nobody knows.</summary>
    public async Task<string> AuthorAsync(string digest, CancellationToken ct) => (await store.FindPlanAsync(digest, ct))?.Author ?? "";

    private async Task<IEnumerable<string>> OwnAsync(string digest, CancellationToken ct) => [await AuthorAsync(digest, ct)];

    private Task SaveAsync(string digest, ImmutableArray<SignOff> all, string by, CancellationToken ct)
    {
        var body = JsonSerializer.Serialize(all, Json.Options);
        return store.SaveAsync([new StoredDocument(Kind, digest, 0, Json.DigestOfText(body), body, time.GetUtcNow(), by)], ct);
    }
}
