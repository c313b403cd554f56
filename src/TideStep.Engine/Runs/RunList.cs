using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>The list of runs. A row is kept of each as it stood after its last entry, and made anew where its journal
/// has gone on since; what this service carries is looked at in memory.</summary>
public sealed class RunList(RunDesk desk, IRunLines lines)
{
    private const int Page = 200;

    /// <summary>Runs, newest first.</summary>
    /// <param name="most">How many at most.</param>
    /// <param name="after">Only those behind this run; from the newest on where null.</param>
    /// <param name="before">Only those opened before then; all where null.</param>
    /// <param name="search">Words that have to be found; none where null.</param>
    /// <param name="stands">Only those of whose state it is true; all where null.</param>
    public async Task<IReadOnlyList<RunLine>> OfAsync(
        int most,
        string? after,
        DateTimeOffset? before,
        string? search,
        Func<RunStatus, bool>? stands,
        CancellationToken ct
    )
    {
        var found = new List<RunLine>();
        while (found.Count < most)
        {
            var page = await lines.LinesAsync(Page, after, before, ct);
            foreach (var (stored, last, kept) in page)
                if (
                    found.Count < most
                    && await LineAsync(stored, last, kept, search is not null, ct) is var (line, words)
                    && RunLine.Finds(words, search)
                    && (stands is null || stands(line.Status))
                )
                    found.Add(line);
            if (page.Count < Page)
                break;
            after = page[^1].Run.Id;
        }
        return found;
    }

    private async Task<(RunLine Line, string Words)> LineAsync(
        StoredRun stored,
        long last,
        StoredRunLine? kept,
        bool searched,
        CancellationToken ct
    )
    {
        // Nothing but a search needs the words, and they are many.
        if (desk.ExecutorOf(stored.Id) is { } executor)
            return executor.Log.Look(s => searched ? Told(stored, s) : (RunLine.Of(stored.Id, s, stored.OpenedAt), ""));
        if (kept?.Sequence == last && LineOf(kept) is { } line)
            return (line, kept.Words);
        try
        {
            if (await desk.StateAsync(stored.Id, ct) is { } state)
            {
                var told = Told(stored, state);
                var body = JsonSerializer.Serialize(told.Line, Json.Options);
                await Rows.KeepAsync(() =>
                    lines.SaveLineAsync(new StoredRunLine(stored.Id, state.Sequence, body, told.Words), ct)
                );
                return told;
            }
            return (SetAside(stored, kept, "its plan is not there"), stored.Id);
        }
        catch (Exception e) when (e is DamagedRecordException or ArchivedRunException)
        {
            return (SetAside(stored, kept, e.Message), $"{stored.Id}\n{kept?.Words}");
        }
    }

    private static (RunLine Line, string Words) Told(StoredRun stored, RunState state) =>
        (RunLine.Of(stored.Id, state, stored.OpenedAt), RunLine.WordsOf(stored.Id, state));

    // A row is a copy: what can't be read of it is made anew from the journal.
    private static RunLine? LineOf(StoredRunLine? kept)
    {
        try
        {
            return kept is null ? null : JsonSerializer.Deserialize<RunLine>(kept.Body, Json.Options);
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private static RunLine SetAside(StoredRun stored, StoredRunLine? kept, string why) =>
        (
            LineOf(kept)
            ?? new RunLine(
                stored.Id,
                "",
                RunStatus.Ready,
                Core.Plans.Plan.Upgrade,
                stored.Parent,
                stored.Plan,
                stored.OpenedAt,
                null,
                null,
                0,
                ""
            )
        ) with
        {
            SetAside = why,
        };
}
