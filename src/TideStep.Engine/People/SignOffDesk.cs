using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Storage;

namespace TideStep.Engine.People;

/// <summary>Keeps people's words on plans: who signed which digest, what was agreed for halts, until when it holds.
/// Words on parts of a run stand in its journal.</summary>
public sealed class SignOffDesk(IDocumentStore store, TimeProvider time)
{
    private readonly SharedDocument<ImmutableArray<SignOff>> _words = new(store, "sign-offs", [], time);

    /// <summary>What was signed of a plan, in its order, whether it still holds or not.</summary>
    public Task<ImmutableArray<SignOff>> OfAsync(string digest, CancellationToken ct) => _words.ReadAsync(digest, ct);

    /// <summary>Signs a plan before its start.</summary>
    /// <param name="read">The digest that the signer has read, where it is said.</param>
    public async Task<Checked<SignOff>> SignAsync(
        Plan plan,
        string by,
        ImmutableArray<StandingOrder> turnBack,
        string? note,
        string? read,
        CancellationToken ct
    )
    {
        var made = SignOffRules.Make(
            plan,
            PlannedSignOff.Start,
            by,
            await OwnAsync(plan.Digest, ct),
            turnBack,
            note,
            read,
            time.GetUtcNow()
        );
        if (made.Ok)
            await _words.ChangeAsync(plan.Digest, all => all.Add(made.Value!), by, ct);
        return made;
    }

    /// <summary>Takes one's own word back; a run that has started is not held by that.</summary>
    public async Task<Problem?> WithdrawAsync(Plan plan, string by, CancellationToken ct)
    {
        var had = false;
        await _words.ChangeAsync(
            plan.Digest,
            all =>
            {
                var left = all.RemoveAll(s => string.Equals(s.By, by, StringComparison.OrdinalIgnoreCase));
                had = left.Length < all.Length;
                return left;
            },
            by,
            ct
        );
        return had ? null : new Problem($"{by} has not signed this plan", null, "Only one's own word is taken back.");
    }

    /// <summary>Who made a plan; empty where nobody knows.</summary>
    public async Task<string> AuthorAsync(string digest, CancellationToken ct) =>
        (await store.FindPlanAsync(digest, ct))?.Author ?? "";

    private async Task<IEnumerable<string>> OwnAsync(string digest, CancellationToken ct) =>
        [await AuthorAsync(digest, ct)];
}
