using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Engine.Steps;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Engine.Points;

/// <summary>What came of giving one point up.</summary>
/// <param name="Gone">Whether nothing is left of it.</param>
public sealed record PointAnswer(string Run, string Point, long Bytes, bool Gone, string Told);

/// <summary>Rollback points of all runs: how each stands now, and giving them up after their runs, on a person's
/// word.</summary>
public sealed class PointDesk(
    RunDesk runs,
    RunTraces traces,
    EstateDesk estates,
    MemberReader reader,
    IJournal journal,
    EngineSettings settings,
    TimeProvider time,
    string installation
)
{
    // What is being given up now, and how often that came to an end; held for the choice only, never while a node
    // works.
    private readonly Lock _choosing = new();
    private readonly List<PointLine> _leaving = [];
    private long _ended;

    /// <summary>Every point, newest first.</summary>
    public async Task<ImmutableArray<PointLine>> ListAsync(CancellationToken ct) =>
        PointLife.Of(await TracesAsync(ct), time.GetUtcNow());

    /// <summary>The points of a run that lead nowhere any more, though its own journal does not know it.</summary>
    public async Task<IReadOnlySet<string>> UselessAsync(string run, CancellationToken ct) =>
        (await ListAsync(ct))
            .Where(l => l.Run == run && !l.Point.LeadsBack)
            .Select(l => l.Point.Planned.Id)
            .ToHashSet();

    /// <summary>Gives points up: each is taken away on its node after that was journaled, and stays in the list as
    /// given up.</summary>
    /// <param name="points">Which, as the run that captured it and its name there.</param>
    /// <param name="dry">Whether only to say what would be done.</param>
    /// <returns>What came of each, or why nothing was begun: one that may not be given up stops them all.</returns>
    public async Task<(ImmutableArray<PointAnswer> Answers, ImmutableArray<Problem> Refused)> GiveUpAsync(
        IReadOnlyList<(string Run, string Point)> points,
        string by,
        string? reason,
        bool dry,
        CancellationToken ct
    )
    {
        var (chosen, refused) = await ChooseAsync(points, dry, ct);
        if (refused.Length > 0)
            return ([], refused);
        if (dry)
            return ([.. chosen.Select(Would)], []);
        try
        {
            return await GiveUpAsync(chosen, by, reason, ct);
        }
        finally
        {
            lock (_choosing)
            {
                _leaving.RemoveAll(chosen.Contains);
                _ended++;
            }
        }
    }

    private static PointAnswer Would(PointLine line) =>
        new(
            line.Run,
            line.Point.Planned.Id,
            line.Point.Bytes,
            false,
            $"{line.Point.Place} on {line.Point.Planned.Node} would be "
                + $"{(line.Point.Sha256.Length == 0 ? "given up" : "taken away")}"
        );

    // What may be given up is chosen beside what others are giving up, from traces in which all that ended before
    // stands.
    private async Task<(ImmutableArray<PointLine> Chosen, ImmutableArray<Problem> Refused)> ChooseAsync(
        IReadOnlyList<(string Run, string Point)> points,
        bool dry,
        CancellationToken ct
    )
    {
        while (true)
        {
            var ended = Interlocked.Read(ref _ended);
            var known = (await TracesAsync(ct)).ToDictionary(s => s.Run, s => s.Trace);
            lock (_choosing)
            {
                if (ended != _ended)
                    continue;
                var (chosen, refused) = Choose(points, known);
                if (refused.IsEmpty && !dry)
                    _leaving.AddRange(chosen);
                return (chosen, refused);
            }
        }
    }

    private (ImmutableArray<PointLine> Chosen, ImmutableArray<Problem> Refused) Choose(
        IReadOnlyList<(string Run, string Point)> points,
        Dictionary<string, RunTrace> known
    )
    {
        var now = time.GetUtcNow();
        var all = PointLife.Of(known.Select(s => (s.Key, s.Value)), now);
        var chosen = new List<PointLine>();
        var refused = ImmutableArray.CreateBuilder<Problem>();
        var held = runs.Carried.Reserved(null);
        var leaving = _leaving.Select(l => (l.Run, l.Point.Planned.Id)).ToHashSet();
        var others = all.Where(l => leaving.Contains((l.Run, l.Point.Planned.Id))).ToList();
        foreach (var (run, point) in points.Distinct())
            if (all.FirstOrDefault(l => l.Run == run && l.Point.Planned.Id == point) is not { } line)
                refused.Add(
                    new Problem(
                        known.ContainsKey(run)
                            ? $"run {run} has no rollback point '{point}'"
                            : $"there is no run {run}",
                        null,
                        Nearest.Hint(point, all.Where(l => l.Run == run).Select(l => l.Point.Planned.Id))
                            ?? "See 'tidestep point list'."
                    )
                );
            // One at a time writes a run's entries.
            else if (_leaving.Any(l => l.Run == run))
                refused.Add(
                    new Problem(
                        $"points of run {run} are being given up right now",
                        null,
                        "Say it again when that has ended."
                    )
                );
            // What goes with it in the same word does not keep the component: the rest has to.
            else if (
                PointLife.Refusal(
                    line,
                    PointLife.Without(all, chosen.Concat(others)),
                    known[run].End is not null,
                    held.GetValueOrDefault(line.Point.Planned.Component),
                    now
                ) is
                { } problem
            )
                refused.Add(problem);
            else
                chosen.Add(line);
        return ([.. chosen], refused.ToImmutable());
    }

    private async Task<(ImmutableArray<PointAnswer> Answers, ImmutableArray<Problem> Refused)> GiveUpAsync(
        ImmutableArray<PointLine> chosen,
        string by,
        string? reason,
        CancellationToken ct
    )
    {
        if (await estates.CurrentEstateAsync(ct) is not { } estate)
            return ([], [EstateDesk.NoEstate]);
        var answers = ImmutableArray.CreateBuilder<PointAnswer>();
        foreach (var of in chosen.GroupBy(l => l.Run))
        {
            if (await runs.StateAsync(of.Key, ct) is not { } state)
                return ([], [RunDesk.NoRun(of.Key)]);
            var executor = await runs.HoldEndedAsync(of.Key, state, ct);
            var context = await ContextAsync(estate, ct);
            var work = new PointWork(context, executor.Log, new NodeFence(context, executor.Log));
            // Nodes side by side, each one's points one after another: its lock lets no two through anyway.
            var nodes = of.GroupBy(l => l.Point.Planned.Node)
                .Select(node =>
                    OnNodeAsync(node, estate.Nodes.ContainsKey(node.Key), work, executor.Log, by, reason, ct)
                );
            foreach (var node in await Task.WhenAll(nodes))
                answers.AddRange(node);
            runs.LetGo(of.Key, executor);
        }
        return (answers.ToImmutable(), []);
    }

    private async Task<RunContext> ContextAsync(Estate estate, CancellationToken ct) =>
        new(
            estate,
            await estates.CatalogueAsync(ct),
            journal,
            new RunFeed(),
            reader,
            settings,
            time,
            installation,
            () => ""
        );

    private static async Task<List<PointAnswer>> OnNodeAsync(
        IEnumerable<PointLine> points,
        bool known,
        PointWork work,
        RunLog log,
        string by,
        string? reason,
        CancellationToken ct
    )
    {
        var told = new List<PointAnswer>();
        foreach (var line in points)
            told.Add(await GiveUpAsync(line, known, work, log, by, reason, ct));
        return told;
    }

    private static async Task<PointAnswer> GiveUpAsync(
        PointLine line,
        bool known,
        PointWork work,
        RunLog log,
        string by,
        string? reason,
        CancellationToken ct
    )
    {
        var (run, point) = (line.Run, line.Point);
        var attempt = $"g{Convert.ToHexStringLower(System.Security.Cryptography.RandomNumberGenerator.GetBytes(4))}";
        PointAnswer Answer(bool gone, string told) => new(run, point.Planned.Id, point.Bytes, gone, told);
        if (!known)
            return Answer(
                false,
                $"{point.Planned.Node} is no longer in the estate: take {point.Place} away there yourself"
            );
        await log.AppendAsync(new PointGivingUp(point.Planned.Id, by, reason, attempt));
        try
        {
            var kept = log.Look(s => s.Plan.Step(point.Step)).Do is CaptureAction { Kept: { } own } ? own : null;
            var (gone, how) = kept is null
                ? await work.DiscardAsync(point, attempt, ct)
                : await work.DropAsync(point, kept, attempt, ct);
            if (gone)
                await log.AppendAsync(new PointGivenUp(point.Planned.Id, how));
            return Answer(gone, how);
        }
        catch (ConnectorException e)
        {
            return Answer(false, $"{e.Problem} Say it again when the node answers.");
        }
    }

    private async Task<List<(string Run, RunTrace Trace)>> TracesAsync(CancellationToken ct)
    {
        var found = new List<(string, RunTrace)>();
        await foreach (var (run, trace) in traces.AllAsync(ct))
            found.Add((run.Id, trace));
        return found;
    }
}
