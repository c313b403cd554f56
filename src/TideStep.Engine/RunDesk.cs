using System.Collections.Concurrent;
using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine;

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
    private readonly ConcurrentDictionary<string, RunExecutor> _executors = new();
    private readonly ConcurrentDictionary<string, Task> _tasks = new();
    private readonly CancellationTokenSource _stop = new();
    private readonly TaskCompletionSource _takenUp = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>Whether runs of before are taken up first, by <see cref="ResumeAsync"/>; what is said of one waits for
    /// that.</summary>
    public bool TakesUp { get; init; }

    /// <summary>Whether every run of before was taken up.</summary>
    public bool TookUp => !TakesUp || _takenUp.Task.IsCompleted;

    /// <summary>Proves plans ready before their runs start; null where nothing is checked.</summary>
    public CheckDesk? Checks { get; init; }

    /// <summary>Rehearsals of plans; null where none are kept.</summary>
    public RehearsalDesk? Rehearsals { get; init; }

    /// <inheritdoc cref="RunContext.Mask"/>
    public Func<IReadOnlyCollection<string>, string, string> Mask { get; init; } = (_, text) => text;

    /// <summary>States of runs that are kept beside their journals; null where none are.</summary>
    public Snapshots? Snapshots { get; init; }

    /// <summary>People's words on plans; null where none are kept.</summary>
    public SignOffDesk? SignOffs { get; init; }

    /// <summary>The components that runs at work have reserved, by the run; those of one run aside.</summary>
    public ImmutableDictionary<string, string> Reserved(string? but) =>
        _executors
            .Where(e => e.Key != but)
            .SelectMany(e =>
                e.Value.Log.Look(s => s.StartedAt is not null && s.End is null ? s.Plan.Components.ToList() : [])
                    .Select(c => (Component: c, Run: e.Key))
            )
            .DistinctBy(r => r.Component)
            .ToImmutableDictionary(r => r.Component, r => r.Run);

    // Blockers that nobody accepted keep a run from starting; cautions and advice go with it into the journal.
    private async Task<(ImmutableArray<Problem> Problems, Core.Checks.CheckRound? Round)> ProveAsync(
        Plan plan,
        string? run,
        string by,
        CancellationToken ct
    )
    {
        if (Checks is null)
            return ([], null);
        var round = await Checks.RunAsync(plan, survey: true, by, run, ct);
        if (!round.Ok)
            return (round.Problems, null);
        return (
            [
                // Premises and words are said by the start itself.
                .. round
                    .Value!.Blocking.Where(f =>
                        f.Check is not (Core.Checks.WaiverRules.Premise or Core.Checks.WaiverRules.Ready)
                    )
                    .Select(f => new Problem(
                        $"{f.Subject}: {f.Check} "
                            + $"{(f.Result == Core.Checks.CheckResult.Open ? "is open" : "failed")}: {f.What}",
                        null,
                        Hint(plan, f)
                    )),
            ],
            round.Value
        );
    }

    /// <summary>What each member ran when the last run that worked on it ended.</summary>
    public async Task<IReadOnlyDictionary<string, string>> LastLeftAsync(CancellationToken ct)
    {
        var left = new Dictionary<string, string>();
        foreach (var run in await journal.RunsAsync(openOnly: false, RunsLookedBack, null, ct))
            if (await ReadableAsync(run.Id, ct) is { End: not null } state)
                foreach (var (member, label) in state.After)
                    left.TryAdd(member, label);
        return left;
    }

    // Whether somebody's word helps is said only where it would be taken.
    private static string? Hint(Plan plan, Core.Checks.Finding finding)
    {
        if (!Core.Checks.WaiverRules.MayBeAccepted(finding))
            return finding.Remedy;
        var accept = $"tidestep check waive {PlanName(plan)} {Quoted(finding.Id)} --reason '...'";
        return finding.Remedy is { } remedy ? $"{remedy} Or accept it: {accept}" : $"Accept it: {accept}";
    }

    private static string Quoted(string text) => $"'{text.Replace("'", "'\\''", StringComparison.Ordinal)}'";

    private const int RunsLookedBack = 20;

    private static string PlanName(Plan plan) =>
        plan.Digest is ['s', 'h', 'a', ..] digest ? digest[7..17] : plan.Digest;

    private static string NewId(string kind) =>
        $"{kind}{Convert.ToHexStringLower(System.Security.Cryptography.RandomNumberGenerator.GetBytes(4))}";

    /// <summary>Takes up every run that has begun and not ended.</summary>
    public async Task ResumeAsync(CancellationToken ct)
    {
        DateTimeOffset? before = null;
        while (true)
        {
            var open = await journal.RunsAsync(openOnly: true, TakenUpAtOnce, before, ct);
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
            before = open[^1].OpenedAt;
        }
        _takenUp.TrySetResult();
        // A parent whose child ended while nobody watched learns it now.
        foreach (var (id, executor) in _executors)
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
        var before = await ReadAsync(index, plan, ct);
        var (problems, round) = await HindrancesAsync(plan, null, before, by, ct);
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
        var before = await ReadAsync(index, state.Plan, ct);
        var (problems, round) = stored.Parent is null
            ? await HindrancesAsync(state.Plan, run, before, by, ct)
            : (await PremisesAsync(state.Plan, before, ct), null);
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

    /// <summary>What keeps a plan from being carried out besides its checks: a rehearsal, a sign-off.</summary>
    public async Task<ImmutableArray<Problem>> NotReadyAsync(Plan plan, CancellationToken ct)
    {
        var rehearsal = Rehearsals is null ? null : await Rehearsals.MissingAsync(plan, ct);
        var word = SignOffs is null
            ? null
            : SignOffRules.Missing(plan, await SignOffs.OfAsync(plan.Digest, ct), time.GetUtcNow());
        return [.. new[] { rehearsal, word }.OfType<Problem>()];
    }

    // Everything that stands in the way at once: what is not ready, the premises, and the checks, which leave these out
    // so that each is said once.
    private async Task<(ImmutableArray<Problem> Problems, Core.Checks.CheckRound? Round)> HindrancesAsync(
        Plan plan,
        string? run,
        ImmutableSortedDictionary<string, string> before,
        string by,
        CancellationToken ct
    )
    {
        var standing = (await NotReadyAsync(plan, ct)).AddRange(await PremisesAsync(plan, before, ct));
        var (problems, round) = await ProveAsync(plan, run, by, ct);
        return ([.. standing, .. problems], round);
    }

    private async Task<ImmutableSortedDictionary<string, string>> ReadAsync(
        EstateIndex index,
        Plan plan,
        CancellationToken ct
    ) =>
        await reader.RunningAsync(
            index.Estate,
            index.Catalogue,
            plan.Premises.Running.Keys.Select(m => index.Estate.FindMember(m)).OfType<Member>(),
            ct
        );

    private async Task<ImmutableArray<Problem>> PremisesAsync(
        Plan plan,
        ImmutableSortedDictionary<string, string> found,
        CancellationToken ct
    )
    {
        var problems = ImmutableArray.CreateBuilder<Problem>();
        const string again = "Make the plan again and compare the two.";
        var (estate, catalogue) = await estates.RevisionsAsync(ct);
        if (plan.Premises.EstateRevision != estate)
            problems.Add(new Problem("the estate's document has changed since the plan was made", null, again));
        if (plan.Premises.CatalogueRevision != catalogue)
            problems.Add(new Problem("the catalogue has changed since the plan was made", null, again));
        foreach (var (member, expected) in plan.Premises.Running)
        {
            var now = found.GetValueOrDefault(member, "gone");
            if (expected == "any" || now == expected)
                continue;
            problems.Add(
                new Problem(
                    $"{member} runs {now}, the plan expects {expected}",
                    null,
                    now == "unreachable"
                        ? "Look at the node; a run starts only when every member concerned can be read."
                        : again
                )
            );
        }
        return problems.ToImmutable();
    }

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
            WayBackClosed = WayBackClosedAsync,
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
        _executors[run] = executor;
        if (begin)
            Begin(run, executor);
        return executor;
    }

    // Readings of before the run may be why it seems closed: then what is there now is read first.
    private async Task<string?> WayBackClosedAsync(string run, CancellationToken ct)
    {
        try
        {
            return await ClosedAsync(run, ct);
        }
        catch (Exception e)
            when (e
                    is not (
                        OperationCanceledException
                        or StoreUnavailableException
                        or StaleOwnerException
                        or IOException
                    )
            )
        {
            // A run goes on only where it is known that it can return; and an error of ours is not asked for ever.
            log($"whether the way back of run {run} is open could not be told", e);
            return $"it could not be told: {e.Message}";
        }
    }

    private async Task<string?> ClosedAsync(string run, CancellationToken ct)
    {
        if (await StateAsync(run, ct) is not { } state || (await ReturnPlanAsync(run, state, null, ct)).Ok)
            return null;
        await SurveyComponentsAsync(state, state.By, ct);
        var plan = await ReturnPlanAsync(run, state, null, ct);
        return plan.Ok ? null : string.Join("; ", plan.Problems.Select(p => p.What));
    }

    /// <summary>Reads again what the components of a run's plan run, and what their members tell.</summary>
    internal async Task SurveyComponentsAsync(RunState state, string by, CancellationToken ct)
    {
        if (await estates.CurrentEstateAsync(ct) is { } estate)
            await estates.SurveyAsync(
                by,
                new SurveyScope
                {
                    Nodes = state
                        .Plan.Components.Select(c => estate.Find(c))
                        .OfType<Component>()
                        .SelectMany(c => c.Members)
                        .Select(m => m.Node)
                        .ToHashSet(),
                },
                ct
            );
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
            LetGo(run, executor);
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
        await SurveyComponentsAsync(state, state.By, CancellationToken.None);
        var only = state.ReturningMember;
        var plan = await ReturnPlanAsync(parent.Log.Run, state, asFarAs, CancellationToken.None, only);
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
        await journal.CreateRunAsync(
            new StoredRun(run, plan.Value.Digest, parent.Log.Run, time.GetUtcNow(), 0, null, null),
            new Opened(
                plan.Value.Digest,
                $"return of "
                    + $"{(only is null ? "" : $"{only} in ")}{(state.Label.Length > 0 ? state.Label : parent.Log.Run)}",
                by,
                parent.Log.Run
            ),
            time.GetUtcNow(),
            CancellationToken.None
        );
        await parent.Log.AppendAsync(new ReturnBegun(run));
        var refused = await StartAsync(run, by, CancellationToken.None);
        if (!refused.IsEmpty)
            await parent.Log.AppendAsync(
                new Halted($"the return could not start: {string.Join("; ", refused.Select(p => p.What))}", null)
            );
    }

    /// <summary>The plan that leads a run back: to its start, or as far as the beginning of a move (<c>move
    /// 2</c>).</summary>
    /// <param name="useless">The run's points that lead nowhere any more.</param>
    public async Task<Checked<Plan>> ReturnPlanAsync(
        string run,
        RunState state,
        string? asFarAs,
        CancellationToken ct,
        string? only = null,
        IReadOnlySet<string>? useless = null
    )
    {
        if (await estates.IndexAsync(ct) is not { } index)
            return new Checked<Plan>(null, [EstateDesk.NoEstate]);
        var move = 1;
        if (
            asFarAs is not (null or "" or "start")
            && !(
                asFarAs.StartsWith("move ", StringComparison.Ordinal)
                && int.TryParse(asFarAs[5..], out move)
                && move >= 1
                && move <= state.Plan.Moves.Length
            )
        )
            return new Checked<Plan>(
                null,
                [
                    new Problem(
                        $"'{asFarAs}' is nothing that can be returned to",
                        null,
                        $"Write start, or move 1 to move {state.Plan.Moves.Length}."
                    ),
                ]
            );
        var (estate, catalogue) = await estates.RevisionsAsync(ct);
        return ReturnPlanner.Make(index, run, state, move, estate, catalogue, only, useless);
    }

    private async Task TellParentAsync(string run, RunExecutor executor, CancellationToken ct)
    {
        var (parent, end, child, childEnd) = executor.Log.Look(s => (s.Parent, s.End, s.Child, s.ChildEnd));
        if (end is { } ended && parent is not null && _executors.TryGetValue(parent, out var its))
        {
            await its.RenewAsync(owner);
            await its.Log.AppendAsync(new ReturnEnded(run, ended));
        }
        if (
            end is null
            && child is not null and not "none"
            && childEnd is null
            && await StateAsync(child, ct) is { End: { } known }
            && !_executors.ContainsKey(child)
        )
            await executor.Log.AppendAsync(new ReturnEnded(child, known));
        if (
            end is null
            && child is not null and not "none"
            && childEnd is null
            && await StateAsync(child, ct) is { StartedAt: null }
            && !_executors.ContainsKey(child)
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

    /// <summary>A run's state folded from its journal, or null where there is none.</summary>
    public Task<RunState?> StateAsync(string run, CancellationToken ct) => StateAsync(run, long.MaxValue, ct);

    /// <summary>The same, or null where what is kept of it can't be read: for lists, which one run does not
    /// keep from being shown.</summary>
    public async Task<RunState?> ReadableAsync(string run, CancellationToken ct, long upTo = long.MaxValue)
    {
        try
        {
            return await StateAsync(run, upTo, ct);
        }
        catch (Exception e) when (e is DamagedRecordException or ArchivedRunException)
        {
            return null;
        }
    }

    /// <summary>The same, as it was right after an entry.</summary>
    public async Task<RunState?> StateAsync(string run, long upTo, CancellationToken ct)
    {
        if (
            await journal.FindRunAsync(run, ct) is not { } stored
            || await estates.FindPlanAsync(stored.Plan, ct) is not { } plan
        )
            return null;
        if (stored.Damaged is { } damaged)
            throw new DamagedRecordException(damaged);
        if (upTo == long.MaxValue && Snapshots is not null && await Snapshots.FindAsync(run, plan, ct) is { } known)
        {
            await CarryOnAsync(run, known, upTo, ct);
            return known;
        }
        var entries = await journal.ReadAsync(run, 0, ct);
        if (
            entries is not [{ Event: Opened opened }, ..]
            || opened.Plan != stored.Plan
            || opened.Parent != stored.Parent
        )
            throw new DamagedRecordException($"the row of run {run} is not the one of its journal");
        return RunState.Fold(plan, entries.TakeWhile(e => e.Sequence <= upTo));
    }

    /// <summary>Applies what came after a state, up to an entry.</summary>
    internal async Task CarryOnAsync(string run, RunState state, long upTo, CancellationToken ct)
    {
        if (state.Sequence < upTo)
            foreach (var entry in (await journal.ReadAsync(run, state.Sequence, ct)).TakeWhile(e => e.Sequence <= upTo))
                state.Apply(entry);
    }

    /// <summary>Holds the journal of an ended run, for what is still done about it; nothing is carried on.</summary>
    internal async Task<RunExecutor> HoldEndedAsync(string run, RunState state, CancellationToken ct)
    {
        // Whoever had it before has it no more: its epoch is raised with every such word.
        _executors.TryRemove(run, out _);
        return await HostAsync(run, state, ct, begin: false, ended: true);
    }

    /// <summary>Keeps nothing of a run in memory any more: of one that has ended the journal tells
    /// everything.</summary>
    internal void LetGo(string run, RunExecutor executor) => _executors.TryRemove(KeyValuePair.Create(run, executor));

    /// <summary>The executor of a run that this service carries, or null.</summary>
    public RunExecutor? ExecutorOf(string run) => _executors.GetValueOrDefault(run);

    /// <summary>Passes on what a person says to a run at work.</summary>
    public async Task<Problem?> SayAsync(string run, Rule rule, CancellationToken ct)
    {
        if (TakesUp)
            await _takenUp.Task.WaitAsync(ct);
        if (ExecutorOf(run) is { } executor)
            return await executor.SayAsync(rule);
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
