using System.Collections.Concurrent;
using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Engine.Artefacts;

/// <summary>How an artefact stands on a node: waiting, sending, staged, or failed and why.</summary>
public sealed record StagingLine(string Artefact, string Node, string State, long Sent, long Bytes, string? Why);

/// <summary>A staging: which artefacts go to which nodes.</summary>
public sealed record StagingView(
    string Id,
    DateTimeOffset Begun,
    DateTimeOffset? Ended,
    ImmutableArray<StagingLine> Lines
);

/// <summary>Brings artefacts onto nodes ahead of time, without effect there: side by side, at a bounded pace, going on
/// from where it broke off, verified on the far side.</summary>
public sealed class Staging(ArtefactLibrary library, IEnumerable<IStager> stagers, TimeProvider time) : IAsyncDisposable
{
    private const int AtOnce = 16;

    private sealed class Job(string id, DateTimeOffset begun, IEnumerable<(Artefact Artefact, EstateNode Node)> wanted)
    {
        public string Id { get; } = id;
        public DateTimeOffset Begun { get; } = begun;
        public DateTimeOffset? Ended { get; set; }
        public List<(Artefact Artefact, EstateNode Node)> Wanted { get; } = [.. wanted];
        public ConcurrentDictionary<(string, string), StagingLine> Lines { get; } = new();
        public Task Work { get; set; } = Task.CompletedTask;
    }

    private readonly Dictionary<string, IStager> _stagers = stagers.ToDictionary(s => s.By);
    private readonly ConcurrentDictionary<string, Job> _jobs = new();
    private readonly CancellationTokenSource _ending = new();

    /// <summary>Which files a plan wants on which nodes: its artefacts and those of its return path, and what its steps
    /// send.</summary>
    public static IEnumerable<(string Artefact, string Node)> WantedBy(Plan plan) =>
        plan
            .Artefacts.SelectMany(a => a.Nodes.Select(n => (a.File ?? a.Id, n)))
            .Concat(
                plan.Blocks.SelectMany(b => b.Lanes)
                    .SelectMany(l => l.Steps)
                    .Where(s => s.Do is SendAction)
                    .Select(s => (((SendAction)s.Do).Artefact, s.Node))
            )
            .Distinct();

    /// <summary>The file that is meant for a node: an artefact of the catalogue by its identifier is the variant for
    /// that host; any other name is the file's own.</summary>
    public static string FileFor(EstateIndex index, string name, string node) =>
        index
            .OnNode(node)
            .SelectMany(m =>
                (index.Catalogue.Find(index.Components[m.Component].Product)?.Jumps ?? []).Select(j =>
                    PlanNeeds.VariantFor(index, m.Member, j, name)
                )
            )
            .FirstOrDefault(a => a is not null)
            ?.File
        ?? name;

    /// <summary>Begins to stage; what can't be staged at all is told before anything begins.</summary>
    /// <param name="bytesPerSecond">The pace for each node, or 0 for as fast as it goes.</param>
    public async Task<Checked<StagingView>> BeginAsync(
        Estate estate,
        IReadOnlyCollection<(string Artefact, string Node)> wanted,
        long bytesPerSecond,
        CancellationToken ct
    )
    {
        var findings = new Findings();
        var known = (await library.AllAsync(ct)).ToDictionary(a => a.Name);
        var pairs = new List<(Artefact, EstateNode)>();
        foreach (var name in wanted.Select(w => w.Artefact).Distinct())
            if (!known.ContainsKey(name))
                findings.Add(
                    $"'{name}' is not in the library",
                    null,
                    Nearest.Hint(name, known.Keys) ?? "Add it first: tidestep artefact add FILE."
                );
        foreach (var id in wanted.Select(w => w.Node).Distinct())
        {
            if (!estate.Nodes.TryGetValue(id, out var node))
                findings.Add($"there is no node '{id}'", null, Nearest.Hint(id, estate.Nodes.Keys));
            else if (!_stagers.ContainsKey(node.Reach.By))
                findings.Add(
                    $"nothing can be staged on {id}, which is reached by {node.Reach.By}",
                    null,
                    "Let a person or the appliance itself fetch it."
                );
        }
        if (wanted.Count == 0)
            findings.Add(
                "nothing is to be staged",
                null,
                "The plan names no artefact; name some with --artefact and --node."
            );
        if (findings.Any)
            return new Checked<StagingView>(null, findings.All);
        foreach (var (name, node) in wanted)
            pairs.Add((known[name], estate.Nodes[node]));
        var job = new Job("g" + Guid.NewGuid().ToString("N")[..8], time.GetUtcNow(), pairs);
        foreach (var (artefact, node) in job.Wanted)
            job.Lines[(artefact.Name, node.Id)] = new StagingLine(
                artefact.Name,
                node.Id,
                "waiting",
                0,
                artefact.Bytes,
                null
            );
        _jobs[job.Id] = job;
        job.Work = Task.Run(() => WorkAsync(job, bytesPerSecond, _ending.Token), CancellationToken.None);
        return new Checked<StagingView>(View(job), []);
    }

    /// <summary>How a staging stands; the last one where none is named.</summary>
    public StagingView? Find(string? id) =>
        id is null
            ? _jobs.Values.MaxBy(j => j.Begun) is { } last
                ? View(last)
                : null
            : _jobs.TryGetValue(id, out var job)
                ? View(job)
                : null;

    /// <summary>Waits for a staging's end.</summary>
    public async Task<StagingView?> EndOfAsync(string id, CancellationToken ct)
    {
        if (_jobs.TryGetValue(id, out var job))
            await job.Work.WaitAsync(ct);
        return Find(id);
    }

    private static StagingView View(Job job) =>
        new(
            job.Id,
            job.Begun,
            job.Ended,
            [
                .. job
                    .Wanted.Select(w => job.Lines[(w.Artefact.Name, w.Node.Id)])
                    .OrderBy(l => l.Artefact, StringComparer.Ordinal)
                    .ThenBy(l => l.Node, StringComparer.Ordinal),
            ]
        );

    private async Task WorkAsync(Job job, long bytesPerSecond, CancellationToken ct)
    {
        // Nodes go side by side; the files of one node one after another, so that its line is not shared by its own.
        await Parallel.ForEachAsync(
            job.Wanted.GroupBy(w => w.Node.Id),
            new ParallelOptions { MaxDegreeOfParallelism = AtOnce },
            async (files, _) =>
            {
                foreach (var (artefact, node) in files)
                {
                    void Tell(Func<StagingLine, StagingLine> change) =>
                        job.Lines.AddOrUpdate(
                            (artefact.Name, node.Id),
                            _ => throw new InvalidOperationException(),
                            (_, line) => change(line)
                        );
                    try
                    {
                        Tell(l => l with { State = "sending" });
                        await _stagers[node.Reach.By]
                            .StageAsync(
                                node,
                                new StagedFile(
                                    artefact.Name,
                                    library.PathOf(artefact.Name),
                                    artefact.Bytes,
                                    artefact.Sha256
                                ),
                                bytesPerSecond,
                                sent => Tell(l => l with { Sent = sent }),
                                ct
                            );
                        await library.StagedAsync(artefact.Name, node.Id, ct);
                        Tell(l => l with { State = "staged", Sent = artefact.Bytes });
                    }
                    catch (ConnectorException e)
                    {
                        Tell(l => l with { State = "failed", Why = e.Problem.ToString() });
                    }
                    catch (IOException e)
                    {
                        Tell(l => l with { State = "failed", Why = e.Message });
                    }
                    catch (OperationCanceledException)
                    {
                        Tell(l =>
                            l with
                            {
                                State = "failed",
                                Why = "the service ended; it goes on from there when it is staged again",
                            }
                        );
                    }
                }
            }
        );
        job.Ended = time.GetUtcNow();
    }

    public async ValueTask DisposeAsync()
    {
        await _ending.CancelAsync();
        await Task.WhenAll(_jobs.Values.Select(j => j.Work));
        _ending.Dispose();
    }
}
