using System.Collections.Concurrent;
using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.People;
using TideStep.Engine.Plans;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>All runs of this service: opens, starts, takes up after a restart, and passes on what people say.</summary>
public sealed class RunDesk(
    EstateDesk estates,
    IJournal journal,
    IDocumentStore store,
    RunFeed feed,
    MemberReader reader,
    EngineSettings settings,
    TimeProvider time,
    string installation,
    string owner,
    Action<string, Exception> log
) : IAsyncDisposable
{
    private readonly ConcurrentDictionary<string, Task> _tasks = new();
    private readonly CancellationTokenSource _stop = new();
    private readonly TaskCompletionSource _takenUp = new(TaskCreationOptions.RunContinuationsAsynchronously);

    private Hindrances Hindrances => field ??= new Hindrances(estates, reader, Readiness, Checks);

    /// <summary>The ways back of runs.</summary>
    public WayBack WayBack => field ??= new WayBack(estates, States, log);

    internal RunStates States => field ??= new RunStates(journal, estates, Snapshots);

    /// <summary>Whether runs of before are taken up first, by <see cref="ResumeAsync"/>; what is said of one waits for
    /// that.</summary>
    public bool TakesUp { get; init; }

    /// <summary>Whether every run of before was taken up.</summary>
    public bool TookUp => !TakesUp || _takenUp.Task.IsCompleted;

    /// <summary>Proves plans ready before their runs start; null where nothing is checked.</summary>
    public CheckDesk? Checks { get; init; }

    /// <summary>What plans have to have besides their checks.</summary>
    public Readiness Readiness { get; init; } = new(null, null, time);

    /// <summary>The runs that are carried here.</summary>
    public CarriedRuns Carried { get; init; } = new();

    /// <inheritdoc cref="RunContext.Mask"/>
    public Func<IReadOnlyCollection<string>, string, string> Mask { get; init; } = (_, text) => text;

    /// <summary>States of runs that are kept beside their journals; null where none are.</summary>
    public Snapshots? Snapshots { get; init; }

    /// <summary>People's words on plans; null where none are kept.</summary>
    public SignOffDesk? SignOffs { get; init; }

    private static string NewId(string kind) =>
        $"{kind}{Convert.ToHexStringLower(System.Security.Cryptography.RandomNumberGenerator.GetBytes(4))}";

    /// <summary>Takes up every run that has begun and not ended.</summary>
    public async Task ResumeAsync(CancellationToken ct)
    {
        string? after = null;
        while (true)
        {
            var open = await journal.RunsAsync(openOnly: true, TakenUpAtOnce, after, ct);
            foreach (var run in open)
                try
                {
                    await TakeUpAsync(run, ct);
                }
                catch (DamagedRecordException e)
                {
                    log($"run {run.Id} is set aside", e);
                    // Where it is not the run itself that is damaged but a document, it goes on once that is whole.
                    if (await ReadableAsync(run.Id, ct) is { StartedAt: not null })
                        _tasks[run.Id + " again"] = Task.Run(() => TakeUpAgainAsync(run.Id), CancellationToken.None);
                }
            if (open.Count < TakenUpAtOnce)
                break;
            after = open[^1].Id;
        }
        _takenUp.TrySetResult();
        // A parent whose child ended while nobody watched learns it now.
        foreach (var (id, executor) in Carried.All)
            await TellParentAsync(id, executor, ct);
    }

    private const int TakenUpAtOnce = 1000;

    private async Task TakeUpAsync(StoredRun run, CancellationToken ct)
    {
        if (await StateAsync(run.Id, ct) is not { } state)
            return;
        if (state.StartedAt is not null)
            await HostAsync(run.Id, state, ct);
        // A start that the service's end broke off: nothing has begun, so nothing is held for it.
        else if (run.Parent is null)
            await journal.ReleaseAsync(run.Id, ct);
    }

    /// <summary>Opens a run of a kept plan.</summary>
    public async Task<(string? Run, Problem? Problem)> OpenAsync(
        string digest,
        string label,
        string by,
        CancellationToken ct
    )
    {
        var (plan, problem) = await FindPlanAsync(digest, ct);
        if (plan is null)
            return (null, problem);
        var (run, opened) = Opening(plan, label, by);
        await journal.CreateRunAsync(run, opened, run.OpenedAt, ct);
        return (run.Id, null);
    }

    /// <summary>Opens and starts a run of a kept plan; refused, there is no such run.</summary>
    public async Task<(string? Run, ImmutableArray<Problem> Problems)> OpenAndStartAsync(
        string digest,
        string label,
        string by,
        CancellationToken ct,
        DateTimeOffset? at = null
    )
    {
        if (Past(at) is { } past)
            return (null, [past]);
        var (plan, problem) = await FindPlanAsync(digest, ct);
        if (plan is null)
            return (null, [problem!]);
        if (await estates.IndexAsync(ct) is not { } index)
            return (null, [EstateDesk.NoEstate]);
        var before = await Hindrances.ReadAsync(index, plan, ct);
        var (problems, round) = await Hindrances.FindAsync(plan, null, before, by, ct);
        if (!problems.IsEmpty)
            return (null, problems);
        var (run, opened) = Opening(plan, label, by);
        var held = await journal.CreateReservedRunAsync(run, opened, run.OpenedAt, SubjectsOf(plan), ct);
        if (held.Count > 0)
            return (null, HeldBy(held));
        await BeginAsync(run.Id, (await StateAsync(run.Id, ct))!, before, round, by, ct, at);
        return (run.Id, []);
    }

    /// <summary>Opens and starts the return of a run that has ended: it is no child of it, reserves for itself and
    /// finds every member as the run left it, or there is no such run.</summary>
    internal async Task<(string? Run, ImmutableArray<Problem> Problems)> StartReturnAsync(
        string of,
        RunState state,
        Plan plan,
        ImmutableSortedDictionary<string, string> before,
        string reason,
        string by,
        CancellationToken ct
    )
    {
        await store.SavePlanAsync(
            new StoredPlan(plan.Digest, plan.Estate, plan.Kind, Json.Canonical(plan), time.GetUtcNow(), by),
            ct
        );
        var (run, opened) = Opening(plan, $"return of {(state.Label.Length > 0 ? state.Label : of)}", by);
        var held = await journal.CreateReservedRunAsync(
            run,
            opened with
            {
                Reason = reason,
            },
            run.OpenedAt,
            SubjectsOf(plan),
            ct
        );
        if (held.Count > 0)
            return (null, HeldBy(held));
        var ended = await HoldEndedAsync(of, state, ct);
        await ended.Log.AppendAsync(new LedBack(run.Id));
        LetGo(of, ended);
        await BeginAsync(run.Id, (await StateAsync(run.Id, ct))!, before, null, by, ct);
        return (run.Id, []);
    }

    private async Task<(Plan? Plan, Problem? Problem)> FindPlanAsync(string digest, CancellationToken ct) =>
        await estates.FindPlanAsync(digest, ct) switch
        {
            null => (null, NoPlan(digest)),
            { Kind: Plan.Return } => (
                null,
                new Problem(
                    "a return is begun by a decision, not opened by hand",
                    null,
                    "Decide at the halt of its run: tidestep run decide RUN return."
                )
            ),
            var plan => (plan, null),
        };

    private (StoredRun Run, Opened Opened) Opening(Plan plan, string label, string by) =>
        (
            new StoredRun(NewId("r"), plan.Digest, null, time.GetUtcNow(), 0, null, null),
            new Opened(plan.Digest, label, by, null)
        );

    private static List<string> SubjectsOf(Plan plan) =>
        [
            .. plan
                .Components.Select(c => $"component {c}")
                .Concat(plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => $"node {s.Node}"))
                .Distinct(),
        ];

    private static ImmutableArray<Problem> HeldBy(IReadOnlyList<(string Subject, string Run)> held) =>
        [
            .. held.GroupBy(h => h.Run)
                .Select(g => new Problem(
                    $"run {g.Key} works on {string.Join(", ", g.Take(3).Select(h => h.Subject))}"
                        + $"{(g.Count() > 3 ? $" and {g.Count() - 3} more" : "")}",
                    null,
                    "Wait for its end, or end it with a decision."
                )),
        ];

    /// <summary>Starts an opened run: premises are read again, what it works on is reserved; refused, nothing has
    /// begun.</summary>
    /// <param name="at">Before when nothing is begun but what only lies ready; null for now.</param>
    public async Task<ImmutableArray<Problem>> StartAsync(
        string run,
        string by,
        CancellationToken ct,
        DateTimeOffset? at = null
    )
    {
        if (Past(at) is { } past)
            return [past];
        if (await journal.FindRunAsync(run, ct) is not { } stored || await StateAsync(run, ct) is not { } state)
            return [NoRun(run)];
        if (state.StartedAt is not null)
            return [new Problem($"run {run} has been started", null, "Follow it with 'tidestep run follow'.")];
        if (await estates.IndexAsync(ct) is not { } index)
            return [EstateDesk.NoEstate];
        var before = await Hindrances.ReadAsync(index, state.Plan, ct);
        var (problems, round) = stored.Parent is null
            ? await Hindrances.FindAsync(state.Plan, run, before, by, ct)
            : (await Hindrances.PremisesAsync(state.Plan, before, ct), null);
        if (!problems.IsEmpty)
            return problems;
        if (stored.Parent is null)
        {
            var held = await journal.ReserveAsync(run, SubjectsOf(state.Plan), ct);
            if (held.Count > 0)
                return HeldBy(held);
        }
        await BeginAsync(run, state, before, round, by, ct, at);
        return [];
    }

    private async Task BeginAsync(
        string run,
        RunState state,
        ImmutableSortedDictionary<string, string> before,
        Core.Checks.CheckRound? round,
        string by,
        CancellationToken ct,
        DateTimeOffset? at = null
    )
    {
        var executor = await HostAsync(run, state, ct, begin: false);
        RunEvent[] proved = round is null
            ? []
            :
            [
                new PlanChecked(
                    round.Findings.Length,
                    [
                        .. round.Findings.Where(f =>
                            f.Result is Core.Checks.CheckResult.Failed or Core.Checks.CheckResult.Open
                        ),
                    ]
                ),
            ];
        // What was signed goes with the run: the word, and what it says of halts that nobody decides.
        RunEvent[] signed =
            SignOffs is not null
            && (await SignOffs.OfAsync(state.Plan.Digest, ct)).LastOrDefault() is { } word
            && state.Plan.SignOffs.Any(s => s.Id == word.For)
                ?
                [
                    new SignedOff(word),
                    .. state.Orders.IsEmpty && !word.TurnBack.IsDefaultOrEmpty
                        ? new RunEvent[] { new OrdersGiven(word.TurnBack, word.By) }
                        : [],
                ]
                : [];
        var answers =
            state.Plan.Asks.IsEmpty || await estates.IndexAsync(ct) is not { } index
                ? null
                : await reader.AnswersAsync(index.Estate, index.Catalogue, state.Plan.Asks, null, ct);
        var tasks = Checks is null ? [] : await Checks.GiveSignaturesAsync(state.Plan, run, by, ct);
        await executor.Log.AppendAsync([
            new MembersRead("before", before) { Answers = answers },
            .. proved,
            .. tasks.IsEmpty ? [] : new RunEvent[] { new TasksSigned(tasks) },
            .. signed,
            .. at is null ? [] : new RunEvent[] { new StartPlanned(at, by) },
            new Started(by) { Pace = settings.Pace },
        ]);
        Begin(run, executor);
    }

    private Problem? Past(DateTimeOffset? at) =>
        at <= time.GetUtcNow()
            ? new Problem($"{at:yyyy-MM-dd HH:mm zzz} is past", null, "Start it now, or say a later time.")
            : null;

    private async Task<RunExecutor> HostAsync(
        string run,
        RunState state,
        CancellationToken ct,
        bool begin = true,
        bool ended = false
    )
    {
        var epoch = await journal.TakeOwnershipAsync(run, owner, ct, ended);
        var (estate, catalogue) = (await estates.CurrentEstateAsync(ct), await estates.CatalogueAsync(ct));
        var context = new RunContext(estate!, catalogue, journal, feed, reader, settings, time, installation, () =>
            NewId("a")
        )
        {
            Mask = Mask,
            Log = log,
            Revisions = estates.RevisionsAsync,
            WayBackClosed = WayBack.ClosedAsync,
            Survey = (members, token) =>
                estates.SurveyAsync(
                    $"run {run}",
                    new SurveyScope { Nodes = members.Select(m => m.Node).ToHashSet() },
                    token
                ),
        };
        var executor = new RunExecutor(context, run, epoch, state, BeginReturnAsync);
        await executor.Log.AppendAsync(new Owned(owner));
        Snapshots?.Watch(executor.Log);
        Carried.Carry(run, executor);
        if (begin)
            Begin(run, executor);
        return executor;
    }

    private void Begin(string run, RunExecutor executor) => _tasks[run] = Task.Run(() => CarryAsync(run, executor));

    private async Task CarryAsync(string run, RunExecutor executor)
    {
        try
        {
            await executor.ExecuteAsync(_stop.Token);
            if (executor.Log.Look(s => s.Parent) is null)
                await journal.ReleaseAsync(run, CancellationToken.None);
            await TellParentAsync(run, executor, CancellationToken.None);
            await LearnAsync(run, executor);
            if (executor.Log.Look(s => s.End) is not null)
                LetGo(run, executor);
        }
        catch (OperationCanceledException) when (_stop.IsCancellationRequested)
        { /* the service stops; the run is taken up when it starts again */
        }
        catch (StaleOwnerException e)
        {
            log($"run {run} has another owner", e);
            LetGo(run, executor);
        }
        catch (Exception e)
        {
            // What can't be journaled is not begun. The run is taken up again from its journal when the store answers.
            log($"run {run} is interrupted and will be taken up again", e);
            Carried.Interrupt(run, executor, e);
            _tasks[run + " again"] = Task.Run(() => TakeUpAgainAsync(run));
        }
    }

    // What is learnt is a help for later plans; a run that has ended is not troubled by it.
    private async Task LearnAsync(string run, RunExecutor executor)
    {
        try
        {
            await estates.LearnAsync(executor.Log.Look(s => s), CancellationToken.None);
        }
        catch (Exception e)
        {
            log($"nothing could be learnt from run {run}", e);
        }
    }

    private async Task TakeUpAgainAsync(string run)
    {
        string? said = null;
        while (!_stop.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(TimeSpan.FromSeconds(5), time, _stop.Token);
                if (await StateAsync(run, _stop.Token) is { } state)
                    await HostAsync(run, state, _stop.Token);
                else
                    Carried.Forget(run);
                return;
            }
            catch (OperationCanceledException)
            {
                return;
            }
            catch (Exception e)
            {
                if (said != e.Message)
                    log($"run {run} can't be taken up yet", e);
                said = e.Message;
            }
        }
    }

    /// <summary>Opens the child run that returns a run as far as was decided, or finds the one that was
    /// opened.</summary>
    private async Task BeginReturnAsync(RunExecutor parent, string? asFarAs)
    {
        var state = parent.Log.Look(s => s);
        // Who leads, and what runs, is as it is now, not as it was before the run.
        await WayBack.SurveyComponentsAsync(state, state.By, CancellationToken.None);
        var only = state.ReturningMember;
        var plan = await WayBack.PlanAsync(parent.Log.Run, state, asFarAs, CancellationToken.None, only);
        if (!plan.Ok)
        {
            await parent.Log.AppendAsync(
                new Halted(
                    string.Join("; ", plan.Problems.Select(p => p.What)),
                    only is null ? null : state.FailedSteps.FirstOrDefault()
                )
            );
            return;
        }
        if (plan.Value!.Blocks.IsEmpty)
        {
            await parent.Log.AppendAsync(new ReturnBegun("none"), new ReturnEnded("none", RunEnd.Completed));
            return;
        }
        var run = NewId("r");
        await store.SavePlanAsync(
            new StoredPlan(
                plan.Value.Digest,
                plan.Value.Estate,
                plan.Value.Kind,
                Json.Canonical(plan.Value),
                time.GetUtcNow(),
                state.By
            ),
            CancellationToken.None
        );
        var by = parent.Log.Look(s => s.Decisions[^1].By);
        var now = time.GetUtcNow();
        await journal.CreateRunAsync(
            new StoredRun(run, plan.Value.Digest, parent.Log.Run, now, 0, null, null),
            new Opened(
                plan.Value.Digest,
                $"return of "
                    + $"{(only is null ? "" : $"{only} in ")}{(state.Label.Length > 0 ? state.Label : parent.Log.Run)}",
                by,
                parent.Log.Run
            ),
            now,
            CancellationToken.None
        );
        await parent.Log.AppendAsync(new ReturnBegun(run));
        var refused = await StartAsync(run, by, CancellationToken.None);
        if (!refused.IsEmpty)
            await parent.Log.AppendAsync(
                new Halted($"the return could not start: {string.Join("; ", refused.Select(p => p.What))}", null)
            );
    }

    private async Task TellParentAsync(string run, RunExecutor executor, CancellationToken ct)
    {
        var (parent, end, child, childEnd) = executor.Log.Look(s => (s.Parent, s.End, s.Child, s.ChildEnd));
        if (end is { } ended && parent is not null && Carried.Find(parent) is { } its)
        {
            await its.RenewAsync(owner);
            await its.Log.AppendAsync(new ReturnEnded(run, ended));
        }
        if (
            end is null
            && child is not null and not "none"
            && childEnd is null
            && await StateAsync(child, ct) is { End: { } known }
            && Carried.Find(child) is null
        )
            await executor.Log.AppendAsync(new ReturnEnded(child, known));
        if (
            end is null
            && child is not null and not "none"
            && childEnd is null
            && await StateAsync(child, ct) is { StartedAt: null }
            && Carried.Find(child) is null
        )
        {
            var refused = await StartAsync(child, executor.Log.Look(s => s.Decisions[^1].By), ct);
            if (!refused.IsEmpty)
                await executor.Log.AppendAsync(
                    new Halted($"the return could not start: {string.Join("; ", refused.Select(p => p.What))}", null)
                );
        }
    }

    public static Problem NoPlan(string digest) =>
        new($"there is no plan {digest}", null, "See 'tidestep plan list'.") { Absent = true };

    public static Problem NoRun(string run) =>
        new($"there is no run {run}", null, "See 'tidestep run list'.") { Absent = true };

    /// <inheritdoc cref="RunStates.StateAsync(string, CancellationToken)"/>
    public Task<RunState?> StateAsync(string run, CancellationToken ct) => States.StateAsync(run, ct);

    /// <inheritdoc cref="RunStates.StateAsync(string, long, CancellationToken)"/>
    public Task<RunState?> StateAsync(string run, long upTo, CancellationToken ct) => States.StateAsync(run, upTo, ct);

    /// <inheritdoc cref="RunStates.ReadableAsync"/>
    public Task<RunState?> ReadableAsync(string run, CancellationToken ct, long upTo = long.MaxValue) =>
        States.ReadableAsync(run, ct, upTo);

    /// <summary>Holds the journal of an ended run, for what is still done about it; nothing is carried on.</summary>
    internal async Task<RunExecutor> HoldEndedAsync(string run, RunState state, CancellationToken ct)
    {
        // Whoever had it before has it no more: its epoch is raised with every such word.
        Carried.Drop(run);
        return await HostAsync(run, state, ct, begin: false, ended: true);
    }

    /// <summary>Keeps nothing of a run in memory any more: of one that has ended the journal tells
    /// everything.</summary>
    internal void LetGo(string run, RunExecutor executor) => Carried.LetGo(run, executor);

    /// <summary>The executor of a run that this service carries, or null.</summary>
    public RunExecutor? ExecutorOf(string run) => Carried.Find(run);

    /// <summary>Passes on what a person says to a run at work.</summary>
    public async Task<Problem?> SayAsync(string run, Rule rule, CancellationToken ct)
    {
        if (TakesUp)
            await _takenUp.Task.WaitAsync(ct);
        if (ExecutorOf(run) is { } executor)
            return await executor.SayAsync(rule);
        if (Carried.WhyInterrupted(run) is { } why)
            return why is StoreUnavailableException { Full: var full }
                ? throw new StoreUnavailableException($"run {run} is interrupted: {why.Message}", why) { Full = full }
                : new Problem(
                    $"run {run} is interrupted: {why.Message}",
                    null,
                    "It goes on by itself; say it again then."
                );
        if (await StateAsync(run, ct) is not { } state)
            return NoRun(run);
        // What is said before the start goes with the run: nothing is carried yet.
        if (state is { StartedAt: null, End: null } && rule(state) is { Item2: null, Item1.Length: > 0 })
        {
            var its = await HostAsync(run, state, ct, begin: false);
            try
            {
                return await its.SayAsync(rule);
            }
            finally
            {
                LetGo(run, its);
            }
        }
        return rule(state).Item2
            ?? new Problem(
                $"run {run} is not carried by this service",
                null,
                state.StartedAt is null ? "Start it first." : "Ask the service that owns it."
            );
    }

    public async ValueTask DisposeAsync()
    {
        await _stop.CancelAsync();
        await Task.WhenAll(_tasks.Values);
        _stop.Dispose();
    }
}
