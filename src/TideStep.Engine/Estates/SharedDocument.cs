using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Engine.Estates;

/// <summary>A document that several people and instances add to: each change is made on what is kept by then, so that
/// nobody's word is lost to another's.</summary>
/// <param name="store">Where it is kept, with all its revisions.</param>
/// <param name="kind">The kind of document.</param>
/// <param name="none">What it is before anybody wrote it.</param>
internal sealed class SharedDocument<T>(IDocumentStore store, string kind, T none, TimeProvider time)
{
    /// <summary>What is kept under a name.</summary>
    public async Task<T> ReadAsync(string id, CancellationToken ct) => (await FindAsync(id, ct)).Value;

    /// <summary>Changes what is kept; the change is asked for again where another came in between. Nothing is kept
    /// where it gives back what it was given.</summary>
    /// <param name="change">From what is kept by then to what is to be kept.</param>
    /// <param name="by">Whose word it is.</param>
    public async Task ChangeAsync(string id, Func<T, T> change, string by, CancellationToken ct)
    {
        while (true)
        {
            var (kept, revision) = await FindAsync(id, ct);
            var next = change(kept);
            if (EqualityComparer<T>.Default.Equals(next, kept))
                return;
            var body = JsonSerializer.Serialize(next, Json.Options);
            if (
                await store.SaveAfterAsync(
                    new StoredDocument(kind, id, 0, Json.DigestOfText(body), body, time.GetUtcNow(), by),
                    revision,
                    ct
                )
            )
                return;
        }
    }

    private async Task<(T Value, long Revision)> FindAsync(string id, CancellationToken ct) =>
        await store.FindAsync(kind, id, ct) is { } kept ? (Kept.Read<T>(kept), kept.Revision) : (none, 0);
}
