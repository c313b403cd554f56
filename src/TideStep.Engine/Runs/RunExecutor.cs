using System.Collections.Concurrent;
using System.Collections.Immutable;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Core.Waves;
using TideStep.Engine.Steps;

namespace TideStep.Engine.Runs;

/// <summary>Carries one run: asks Core what is next, does it, appends what came of it. Holds no state that the journal
/// cannot rebuild; anything can host it.</summary>
public sealed class RunExecutor
{
    private static readonly TimeSpan GuardPatience = TimeSpan.FromMinutes(15);
    private const int UndoTries = 5;

    private readonly RunContext _context;
    private readonly StepRunner _steps;
    private readonly GuardReader _guards;
    private readonly Func<RunExecutor, string?, Task> _beginReturn;
    private readonly SemaphoreSlim _signal = new(0);
    private readonly ConcurrentDictionary<string, Task> _inFlight = new();

    public RunExecutor(
        RunContext context,
        string run,
        long epoch,
        RunState state,
        Func<RunExecutor, string?, Task> beginReturn
    )
    {
        (_context, _beginReturn, Plan) = (context, beginReturn, state.Plan);
        _guards = new GuardReader(context);
        Log = new RunLog(context, run, epoch, state);
        Log.Grew += () => _signal.Release();
        _steps = new StepRunner(context, Log, new NodeFence(context, Log));
    }

    public RunLog Log { get; }
    public Plan Plan { get; }

    /// <summary>The output so far of an attempt that still runs, or null.</summary>
    public string? LiveOutput(string attempt) => _steps.Live.GetValueOrDefault(attempt);

    /// <summary>How the guards stand, on live readings, of all that the run works on or has out now; of none where it
    /// has begun no part or has ended.</summary>
    public async Task<ImmutableArray<GuardStanding>> GuardsAsync(CancellationToken ct) =>
        Log.Look(s => s.End is null ? s.CurrentBlock : 0) is > 0 and var block
            ? await _guards.StandingsAsync(Plan.Blocks[block - 1], ct)
            : [];

    /// <summary>Works until the run has ended, another owner has it, or it is cancelled. What runs on far sides goes
    /// on.</summary>
    public async Task ExecuteAsync(CancellationToken ct)
    {
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(ct);
        Exception? broken = null;
        if (_context.Settings.WatchesTime)
            _inFlight["time"] = TrackAsync(new WatchTime(), e => broken ??= e, stop.Token);
        try
        {
            while (Log.Look(s => s.End) is null)
            {
                foreach (var work in Log.Look(NextWork.Of))
                {
                    // It is asked once more when its turn has come: a person may have said something meanwhile.
                    if (work is Append)
                    {
                        await Log.SayAsync(s =>
                            NextWork.Of(s).OfType<Append>().FirstOrDefault() is { } append
                                ? ([append.Event], null)
                                : ([], null)
                        );
                        break;
                    }
                    if (_inFlight.ContainsKey(Key(work)))
                        continue;
                    _inFlight[Key(work)] = TrackAsync(work, e => broken ??= e, stop.Token);
                }
                // What a person said may have been what could not be kept: nothing goes on from a journal that can't be
                // written.
                broken ??= Log.Broken;
                if (broken is not null)
                    System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(broken);
                await _signal.WaitAsync(stop.Token);
                while (_signal.CurrentCount > 0)
                    await _signal.WaitAsync(stop.Token);
            }
        }
        finally
        {
            await stop.CancelAsync();
            await Task.WhenAll(_inFlight.Values);
        }
    }

    private static string Key(Work work) =>
        work switch
        {
            DoStep s => "s" + s.Step,
            ChooseSuccessor c => "c" + c.Lane,
            TakeBack t => "u" + t.Step,
            CheckGuards g => $"g{g.Block}",
            WatchSettling w => $"w{w.Block}",
            AwaitDecision d => $"d{d.Since:O} {d.Order}",
            RestTill r => $"r{r.Till:O}",
            _ => work.GetType().Name,
        };

    private async Task TrackAsync(Work work, Action<Exception> broke, CancellationToken ct)
    {
        await Task.Yield();
        try
        {
            await DoAsync(work, ct);
        }
        catch (OperationCanceledException) when (ct.IsCancellationRequested)
        { /* the owner ends; the journal knows where */
        }
        catch (Exception e)
        {
            broke(e);
        }
        _inFlight.TryRemove(Key(work), out _);
        _signal.Release();
    }

    private sealed record WatchTime : Work;

    private Task DoAsync(Work work, CancellationToken ct) =>
        work switch
        {
            WatchTime => new RunClock(_context, Log).WatchAsync(() => KeepsWindows, ct),
            DoStep step => DoStepAsync(Amended(Plan.Step(step.Step)), ct),
            ChooseSuccessor choose => ChooseSuccessorAsync(Plan.Blocks[choose.Block - 1], choose.Lane, ct),
            EnterInWindow enter => EnterAsync(Plan.Blocks[enter.Block - 1], ct),
            AwaitDecision wait => DecideInTimeAsync(wait, ct),
            RestTill rest => RestAsync(rest, ct),
            TakeBack measure => TakeBackAsync(measure, ct),
            CheckGuards guards => CheckGuardsAsync(Plan.Blocks[guards.Block - 1], ct),
            WatchSettling settling => SettleAsync(settling, ct),
            BeginReturn back => _beginReturn(this, back.AsFarAs),
            ReadOnceMore => ReadAgainAsync(ct),
            ReadAfter => ReadAfterAsync(ct),
            AskAfter => AskAfterAsync(ct),
            _ => Task.CompletedTask,
        };

    /// <summary>Takes the lead over the nodes back from a child run that has ended.</summary>
    public async Task RenewAsync(string owner)
    {
        await Log.RenewAsync(owner);
        _steps.ForgetFences();
    }

    /// <summary>After a break: what was changed from outside halts the run. What may pass by itself, a service that is
    /// being started or a node that does not answer, is given its time first.</summary>
    private async Task ReadAgainAsync(CancellationToken ct)
    {
        var began = _context.Time.GetTimestamp();
        string? said = null;
        while (true)
        {
            (string Estate, string Catalogue)? revisions = _context.Revisions is { } known ? await known(ct) : null;
            var members = Log.Look(OutsideChanges.Expected)
                .Keys.Select(m => _context.Estate.FindMember(m))
                .OfType<Member>()
                .ToList();
            var running = await _context.Reader.RunningAsync(_context.Estate, _context.Catalogue, members, ct);
            var (after, changes) = Log.Look(s => (s.ReadsAgainAfter, OutsideChanges.Of(s, running, revisions)));
            if (after is null || Log.Look(s => s.HoldsUnread))
                return;
            if (
                changes.Any(c => c.MayPass)
                && _context.Time.GetElapsedTime(began) <= _context.Settings.RealLimit(EngineSettings.ContactPatience)
            )
            {
                var why = string.Join("; ", changes.Where(c => c.MayPass).Take(OutsideChanges.MostTold));
                if (why != said)
                    await Log.AppendAsync(new ReadingAwaited(said = why));
                await Task.Delay(_context.Settings.Poll, _context.Time, ct);
                continue;
            }
            // What was skipped, marked or lost meanwhile may have taken away what the plan's way back rests on.
            var closed =
                changes.IsEmpty && Log.Look(OutsideChanges.PromisesWayBack) && _context.WayBackClosed is { } ask
                    ? await ask(Log.Run, ct)
                    : null;
            RunEvent[] read =
                closed is not null
                    ?
                    [
                        new ReadAgain(after, [OutsideChange.WayBackClosed]),
                        new Halted($"{OutsideChange.WayBackClosed}: {closed}", null),
                    ]
                : changes.IsEmpty ? [new ReadAgain(after, [])]
                : [new ReadAgain(after, changes), new Halted(OutsideChanges.Words(changes), null)];
            // What has halted meanwhile keeps its reason; whoever lets it go on has it read again.
            await Log.SayAsync(s => s.Halt is null ? (read, null) : ([], null));
            return;
        }
    }

    private async Task ReadAfterAsync(CancellationToken ct)
    {
        var members = Log.Look(s => s.Before).Keys.Select(m => _context.Estate.FindMember(m)).OfType<Member>().ToList();
        if (_context.Survey is { } survey)
            await survey(members, ct);
        var running = await _context.Reader.RunningAsync(_context.Estate, _context.Catalogue, members, ct);
        await Log.AppendAsync(
            new MembersRead("after", running)
            {
                Owed = await _context.Reader.OwedAsync(_context.Estate, _context.Catalogue, members, running, ct),
            }
        );
    }

    /// <summary>Asks again until every difference is borne, or the time in which each may come to rest is
    /// over.</summary>
    private async Task AskAfterAsync(CancellationToken ct)
    {
        var began = _context.Time.GetTimestamp();
        var before = Log.Look(s => s.AnswersBefore);
        while (true)
        {
            var answers = await _context.Reader.AnswersAsync(
                _context.Estate,
                _context.Catalogue,
                Plan.Asks,
                before,
                ct
            );
            var differences = BeforeAndAfter.Of(Plan, before, answers).Where(c => c.What.Length > 0).ToImmutableArray();
            var restless = differences
                .Where(d => !d.Borne)
                .Select(d => Plan.Asks.First(a => a.Ask.Id == d.Ask && a.Members.Contains(d.Member)).Ask.Within)
                .Where(w => _context.Time.GetElapsedTime(began) < _context.Settings.RealLimit(w));
            if (!restless.Any() || Log.Look(s => s.HoldAskedFor))
            {
                await Log.AppendAsync(new AnswersCompared(answers, differences));
                return;
            }
            await Task.Delay(_context.Settings.Poll, _context.Time, ct);
        }
    }

    private async Task TakeBackAsync(TakeBack measure, CancellationToken ct)
    {
        for (var tries = 0; tries < UndoTries; tries++)
        {
            if (
                await _steps.TakeBackAsync(
                    Log.Look(s => RunBinding.Of(Plan.Step(measure.Step), s, _context.Estate).Step),
                    ct
                )
            )
                return;
            await Task.Delay(_context.Settings.Real(TimeSpan.FromSeconds(30)), _context.Time, ct);
        }
        await Log.AppendAsync(
            new Halted(
                $"the temporary measure of {Plan.Step(measure.Step).Title} on {Plan.Step(measure.Step).Node} "
                    + $"could not be taken back",
                measure.Step
            )
        );
    }

    // The plan stays as it is; what a named person changed of a step is in the journal.
    private PlanStep Amended(PlanStep step) =>
        Log.Look(s => s.Amendments.GetValueOrDefault(step.Id)) is not { } change
            ? step
            : step with
            {
                Limit = change.Limit ?? step.Limit,
                Attempts = change.Times is { } times ? step.Attempts with { Times = times } : step.Attempts,
                Do = change.Command.IsDefaultOrEmpty ? step.Do : new Core.Catalogue.CommandAction(change.Command),
            };

    // What only the run knows is put in its place now; the plan stays as it is.
    private async Task DoStepAsync(PlanStep step, CancellationToken ct)
    {
        if (
            RunBinding.ReadingsOf(step) is { Count: > 0 } names
            && !Log.Look(s => s.Parameters.ContainsKey(step.Id))
            && !await ReadParametersAsync(step, names, ct)
        )
            return;
        var (bound, missing) = Log.Look(s => RunBinding.Of(step, s, _context.Estate));
        if (missing is null)
            await _steps.RunAsync(bound, ct);
        else
            await Log.AppendAsync(new StepFailed(step.Id, missing));
    }

    // What a step takes from readings is read once, before its first attempt, and durable before that begins: what it
    // changed is put back to exactly this.
    private async Task<bool> ReadParametersAsync(PlanStep step, IReadOnlyCollection<string> names, CancellationToken ct)
    {
        var of =
            step.On == Core.Catalogue.StepOn.Successor
                ? Log.Look(s =>
                    s.Successors.TryGetValue(s.Plan.LaneOf(step.Id).Subject, out var chosen) ? chosen : step.Member
                )
                : step.Member;
        if (_context.Estate.FindMember(of) is not { } member)
            return true;
        var (values, missed) = await _context.Reader.ValuesAsync(
            _context.Estate,
            _context.Catalogue,
            member,
            names,
            ct
        );
        if (missed is null)
        {
            await Log.AppendAsync(new ParametersRead(step.Id, values));
            return true;
        }
        await Log.AppendAsync(
            new StepBegun(step.Id),
            new StepFailed(step.Id, $"{step.Title} on {member.Node} can't be prepared: {missed}")
        );
        return false;
    }

    /// <summary>Who takes over: a member that has the version already and is in step, on live readings. Nobody is, the
    /// lane waits and says so, then the run halts.</summary>
    private async Task ChooseSuccessorAsync(Block block, string lane, CancellationToken ct)
    {
        var leaving = _context.Estate.FindMember(lane)!;
        var component = _context.Estate.Find(leaving.Component)!;
        var its = block.Lanes.First(l => l.Subject == lane).Steps;
        var to = its.First(s => s.Member == lane && s.To is not null).To!;
        var candidates = component
            .Members.Where(m =>
                m.Id != lane && !block.Outgoing.Contains(m.Id) && Log.Look(s => !s.LeftOut.Contains(m.Id))
            )
            .ToList();
        var began = _context.Time.GetTimestamp();
        while (!Log.Look(s => s.HoldAskedFor))
        {
            var running = await _context.Reader.RunningAsync(_context.Estate, _context.Catalogue, candidates, ct);
            var at = candidates.Where(m => running.GetValueOrDefault(m.Id) == to).ToList();
            // Once the member has left, those that followed it can't be in step with it any more.
            var left = Log.Look(s =>
                its.Any(i => i.State == MemberState.Leaving && s.Of(i.Id).Status == StepStatus.Done)
            );
            foreach (var member in at)
                if (left || await _context.Reader.ServesAsync(_context.Estate, _context.Catalogue, member, ct))
                {
                    await Log.AppendAsync(
                        new SuccessorChosen(lane, member.Id, left ? $"it runs {to}" : $"it runs {to} and is in step")
                    );
                    return;
                }
            if (_context.Time.GetElapsedTime(began) > _context.Settings.RealLimit(GuardPatience))
            {
                await Log.AppendAsync(
                    new Halted(
                        $"{lane} has nobody to hand over to: "
                            + (
                                string.Join(
                                    ", ",
                                    candidates.Select(m =>
                                        $"{m.Id} runs {running.GetValueOrDefault(m.Id, "none")}"
                                        + $"{(at.Contains(m) ? " and is not in step" : "")}"
                                    )
                                )
                            )
                            + $"; it needs one that runs {to} and is in step",
                        null
                    )
                );
                return;
            }
            await Task.Delay(_context.Settings.Poll, _context.Time, ct);
        }
    }

    /// <summary>Windows are hours of the plan's own pace; a demonstration that runs faster keeps to none.</summary>
    private bool KeepsWindows => _context.Settings.Pace == 1 && !Log.Look(s => s.PastWindow);

    private static readonly TimeSpan Look = TimeSpan.FromMinutes(1);

    /// <summary>Enters a part when its window has begun, and while it still fits.</summary>
    private async Task EnterAsync(Block block, CancellationToken ct)
    {
        while (true)
        {
            if (Log.Look(s => s.HoldAskedFor || s.IsHeld || s.End is not null))
                return;
            var now = _context.Time.GetUtcNow();
            // A time that a person said is one of the clock on the wall, whatever the pace.
            var from = Log.Look(s => s.StartAt);
            var entering =
                KeepsWindows ? Entering.Of(Plan, block, now, from)
                : block.Early != true && now < from ? new Entering(from, null)
                : default;
            if (entering.Halt is { } why)
            {
                await Log.AppendAsync(new Halted(why, null));
                return;
            }
            if (entering.WaitTill is not { } opens)
                break;
            if (Log.Look(s => s.AwaitsWindow) != new WindowAwaited(block.Number, opens))
                await Log.AppendAsync(new WindowAwaited(block.Number, opens));
            await TillSomethingIsSaidAsync(opens - now < Look ? opens - now : Look, ct);
        }
        if (
            Plan.SignOffs.FirstOrDefault(s => s.Block == block.Number) is { } asked
            && Log.Look(s => s.SignOffs.GetValueOrDefault(asked.Id)) is { } given
            && given.Ends <= _context.Time.GetUtcNow()
        )
        {
            await Log.AppendAsync(new SignOffLapsed(asked.Id));
            return;
        }
        await Log.AppendAsync(new BlockEntered(block.Number));
    }

    // Waits so long, or until the journal grows: another time or a hold may be said meanwhile.
    private async Task TillSomethingIsSaidAsync(TimeSpan most, CancellationToken ct)
    {
        var said = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        void Grew() => said.TrySetResult();
        Log.Grew += Grew;
        try
        {
            await said.Task.WaitAsync(most, _context.Time, ct);
        }
        catch (TimeoutException)
        { /* nothing was said */
        }
        finally
        {
            Log.Grew -= Grew;
        }
    }

    private async Task RestAsync(RestTill rest, CancellationToken ct)
    {
        while (!KeepsWindows || _context.Time.GetUtcNow() < rest.Till)
            await Task.Delay(Look, _context.Time, ct);
        if (Log.Look(s => s.RestsAsPlanned && s.IsHeld))
            await Log.AppendAsync(new WentOn("the plan, as its window has begun"));
    }

    /// <summary>A halt that nobody decides in time is decided by the standing order that was given for it; one that
    /// can't be carried out is given up.</summary>
    private async Task DecideInTimeAsync(AwaitDecision wait, CancellationToken ct)
    {
        var due = wait.Since + _context.Settings.Real(wait.Order.After);
        while (due - _context.Time.GetUtcNow() is { Ticks: > 0 } left)
            await Task.Delay(left < Look ? left : Look, _context.Time, ct);
        await SayAsync(state =>
        {
            if (
                state.Status != RunStatus.Halted
                || state.HaltedAt != wait.Since
                || state.Orders.IsEmpty
                || state.Orders[0] != wait.Order
            )
                return ([], null);
            var (events, refused) = Orders.Decide(
                state,
                wait.Order.Decision,
                state.OrdersBy,
                "nobody decided in time",
                null
            );
            return refused is null
                ? ([.. events.Select(e => e is Decided d ? d with { Standing = true } : e)], null)
                : ([new OrdersGiven(state.Orders.RemoveAt(0), state.OrdersBy)], null);
        });
    }

    /// <summary>Before a wave: every guard of what goes out is put to live readings. While one does not hold the wave
    /// waits and says for what, then halts.</summary>
    private async Task CheckGuardsAsync(Block block, CancellationToken ct)
    {
        var began = _context.Time.GetTimestamp();
        string? said = null;
        while (true)
        {
            var missing = await _guards.MissingAsync(block, ct);
            ImmutableArray<string> cautions = [];
            if (missing is null)
                (missing, cautions) = await UnmetAsync(block, ct);
            if (missing is null)
            {
                await Log.AppendAsync(
                    new GuardsChecked(
                        block.Number,
                        true,
                        string.Join("; ", cautions.Prepend("every guard holds on live readings"))
                    )
                );
                return;
            }
            if (missing != said)
                await Log.AppendAsync(new GuardsChecked(block.Number, false, missing));
            said = missing;
            if (_context.Time.GetElapsedTime(began) > _context.Settings.RealLimit(GuardPatience))
            {
                await Log.AppendAsync(new Halted($"{block.Title} waits in vain: {missing}", null));
                return;
            }
            if (Log.Look(s => s.HoldAskedFor))
                return;
            await Task.Delay(_context.Settings.Poll, _context.Time, ct);
        }
    }

    // What the jump asks when the wave's turn comes, on live readings: what keeps it from beginning, and what is only
    // told. What was accepted at the start is not asked again.
    private async Task<(string? Missing, ImmutableArray<string> Cautions)> UnmetAsync(Block block, CancellationToken ct)
    {
        if (!TurnChecks.AskAnything(_context.Catalogue, Plan, block))
            return (null, []);
        var (accepted, index) = (
            Log.Look(s => s.Accepted),
            new EstateIndex(_context.Estate, Readings.None, _context.Catalogue)
        );
        var asks = TurnChecks.Asks(index, Plan, block);
        if (asks.Count == 0)
            return (null, []);
        var read = await _context.Reader.ReadingsAsync(_context.Estate, _context.Catalogue, asks, ct);
        var found = TurnChecks
            .Of(new EstateIndex(_context.Estate, read, _context.Catalogue), Plan, block, _context.Time.GetUtcNow())
            .Where(f => f.Result is CheckResult.Failed or CheckResult.Open && !accepted.Contains(f.Id))
            .ToLookup(
                f => f.Level == Level.Blocker,
                f => $"{f.Subject} does not meet {f.Check}: {f.What}{(f.Remedy is { } remedy ? $" ({remedy})" : "")}"
            );
        return (found[true].FirstOrDefault(), [.. found[false]]);
    }

    /// <summary>Watches the members of a block until its settle time is over; a member that falls out of step makes it
    /// fail.</summary>
    private async Task SettleAsync(WatchSettling settling, CancellationToken ct)
    {
        var block = Plan.Blocks[settling.Block - 1];
        // What is left is reckoned once in the journal's time and then measured, so that a clock set back or on changes
        // nothing.
        var whole = settling.Since + _context.Settings.Real(block.Settle) - Log.Now;
        var began = _context.Time.GetTimestamp();
        var probes = block
            .Lanes.Where(l => Log.Look(s => !s.LeftOut.Contains(l.Subject)))
            .SelectMany(l => l.Steps)
            .Where(s => s.Name == "in-step")
            .ToList();
        long? absentSince = null;
        while (true)
        {
            var absent = false;
            foreach (var step in probes)
                if (
                    step.Do is Core.Catalogue.AwaitAction { Holds: var holds }
                    && await _context.Reader.ProbeAsync(
                        _context.Estate,
                        _context.Catalogue,
                        _context.Estate.FindMember(step.Member)!,
                        holds,
                        step,
                        ct
                    )
                        is { Holds: false } fell
                )
                {
                    // No answer is no reading: only what a member says, or a long silence, makes it fall out of step.
                    if (
                        fell.Absent
                        && _context.Time.GetElapsedTime(absentSince ??= _context.Time.GetTimestamp())
                            <= _context.Settings.RealLimit(EngineSettings.ContactPatience)
                    )
                    {
                        absent = true;
                        continue;
                    }
                    await Log.AppendAsync(
                        new Probed(step.Id, "settle", false, fell.Why),
                        new StepFailed(step.Id, $"{step.Member} fell out of step while it settled: {fell.Why}")
                    );
                    return;
                }
            var left = whole - _context.Time.GetElapsedTime(began);
            if (!absent)
                absentSince = null;
            if (left <= TimeSpan.Zero && !absent)
                break;
            await Task.Delay(
                left > TimeSpan.Zero && left < _context.Settings.Poll ? left : _context.Settings.Poll,
                _context.Time,
                ct
            );
        }
        await Log.AppendAsync(new BlockSettled(block.Number));
    }

    /// <summary>Appends what a person said, if Core's rules for it allow; else says why not.</summary>
    public Task<Problem?> SayAsync(Rule rule) => Log.SayAsync(rule);
}
