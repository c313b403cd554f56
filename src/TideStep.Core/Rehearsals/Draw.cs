using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Rehearsals;

/// <summary>One time that a plan is carried out against stand-ins, in simulated time: by the same rules that decide in
/// a real run what is done next, with times and failures drawn.</summary>
internal sealed class Draw(
    Plan plan,
    Estate estate,
    RehearsalWish wish,
    ulong seed,
    IReadOnlyDictionary<string, Spread> spreads
)
{
    private static readonly TimeSpan Probing = TimeSpan.FromSeconds(1);
    private const int MostTries = 5;
    private const int MostEvents = 2_000_000;

    private readonly Chance _chance = new(seed);
    private readonly RunState _state = new(plan);
    private readonly PriorityQueue<Action, (DateTimeOffset At, long Order)> _queue = new();
    private readonly HashSet<string> _inFlight = [];
    private readonly Dictionary<string, int> _failures = [];
    private readonly Dictionary<string, double> _over = [];
    private DateTimeOffset _now;
    private long _order;
    private int _tries;

    /// <summary>How long it took from the beginning to the end; null where it came to none.</summary>
    public TimeSpan? Took { get; private set; }

    /// <summary>When the work of each window was over, by the window's place.</summary>
    public Dictionary<int, DateTimeOffset> WindowsOver { get; } = [];

    /// <summary>For which steps, in words, it halted.</summary>
    public List<string> Halts { get; } = [];

    /// <summary>Guards that did not hold.</summary>
    public List<string> Broken { get; } = [];

    /// <summary>By how many seconds each step, of the slowest lane of its part, took longer than planned.</summary>
    public IReadOnlyDictionary<string, double> Over => _over;

    public void Run()
    {
        var start = plan.Windows is [var first, ..]
            ? first.From
            : new DateTimeOffset(plan.Day.ToDateTime(TimeOnly.MinValue), TimeSpan.Zero);
        _now = start;
        Say(
            new Opened(plan.Digest, "rehearsal", "rehearsal", null),
            new MembersRead("before", plan.Premises.Running),
            new Started("rehearsal")
        );
        for (var events = 0; _state.End is null && events < MostEvents; events++)
        {
            if (!Settle())
                return; // nothing more happens: it waits for ever
            if (_state.End is not null)
                break;
            if (!_queue.TryDequeue(out var happens, out var at))
                return;
            _now = at.At;
            happens();
        }
        if (_state.End == RunEnd.Completed)
            Took = _now - start;
    }

    // Everything that is due now; false where nothing is under way and nothing is to be done.
    private bool Settle()
    {
        while (_state.End is null)
        {
            var work = NextWork.Of(_state);
            if (work.FirstOrDefault(w => w is Append) is Append append)
            {
                Say(append.Event);
                Watch(append.Event);
                if (append.Event is UndoAsked undo)
                    After(wish.Person, () => Say(new MeasureTakenBack(undo.Step)));
                continue;
            }
            var fresh = false;
            foreach (var one in work)
                fresh |= Begin(one);
            if (
                _state is { Status: RunStatus.Halted, Orders.IsEmpty: true }
                && !_state.OpenAttempts.Any()
                && _inFlight.Add($"halt {_state.Sequence}")
            )
            {
                Person();
                fresh = true;
            }
            if (_state.AwaitsSignOff is { } asked && _inFlight.Add($"sign {asked.Id}"))
            {
                After(wish.Person, () =>
                    Say(
                        new SignedOff(
                            new SignOff(asked.Id, plan.Digest, "somebody", _now, _now + asked.Lasts, [], null)
                        )
                    )
                );
                fresh = true;
            }
            if (!fresh)
                return _queue.Count > 0;
        }
        return true;
    }

    private void Watch(RunEvent said)
    {
        if (said is BlockDone done)
        {
            Slowest(plan.Blocks[done.Block - 1]);
            for (var w = 0; w < plan.Windows.Length; w++)
                if (
                    plan.Blocks[done.Block - 1].Move <= plan.Windows[w].LastMove
                    && plan.Blocks[done.Block - 1].Move >= plan.Windows[w].FirstMove
                )
                    WindowsOver[w] = _now;
        }
        if (said is Halted halted)
            Halts.Add(halted.Step is { } step ? $"{plan.Step(step).Component}: {plan.Step(step).Title}" : halted.Why);
    }

    // Somebody looks at a halt, and lets it try again; after so many times it is given up.
    private void Person() => After(wish.Person, () =>
        {
            var outOfHours = _state.Halt?.Step is null;
            Say(
                new Decided(
                    _tries++ < MostTries && !outOfHours ? DecisionKind.TryAgain : DecisionKind.StopHere,
                    "somebody",
                    null,
                    null
                )
            );
        });

    private bool Begin(Work work)
    {
        var key = work switch
        {
            DoStep s => $"s{s.Step} {_failures.GetValueOrDefault(s.Step)} {_state.Decisions.Count}",
            TakeBack t => "u" + t.Step,
            CheckGuards g => $"g{g.Block} {_state.Decisions.Count}",
            WatchSettling w => $"w{w.Block}",
            EnterInWindow e => $"e{e.Block} {_state.Decisions.Count}",
            AwaitDecision d => $"d{d.Since:O} {_state.Orders.Length}",
            RestTill r => $"r{r.Till:O}",
            ChooseSuccessor c => $"c{c.Lane}",
            ReadOnceMore => $"r{_state.Sequence}",
            _ => $"{work.GetType().Name} {_state.Decisions.Count}",
        };
        if (!_inFlight.Add(key))
            return false;
        switch (work)
        {
            case DoStep step:
                Do(plan.Step(step.Step));
                break;
            case TakeBack back:
                After(Probing, () => Say(new MeasureTakenBack(back.Step)));
                break;
            case CheckGuards guards:
                After(Probing, () => Guard(plan.Blocks[guards.Block - 1]));
                break;
            case WatchSettling settling:
                After(plan.Blocks[settling.Block - 1].Settle, () => Say(new BlockSettled(settling.Block)));
                break;
            case ChooseSuccessor choose:
                After(Probing, () =>
                    Say(
                        new SuccessorChosen(
                            choose.Lane,
                            estate.Find(MemberId.Of(choose.Lane).Component)!.Members.First(m => m.Id != choose.Lane).Id,
                            "drawn"
                        )
                    )
                );
                break;
            case EnterInWindow enter:
                Enter(plan.Blocks[enter.Block - 1]);
                break;
            case RestTill rest:
                At(rest.Till, () => Say(new WentOn("the plan, as its window has begun")));
                break;
            case AwaitDecision wait:
                At(wait.Since + wait.Order.After, () =>
                    Say(new Decided(wait.Order.Decision, "standing order", null, null) { Standing = true })
                );
                break;
            case ReadOnceMore:
                After(Probing, () => Say(new ReadAgain(_state.ReadsAgainAfter ?? "", [])));
                break;
            case ReadAfter:
                After(Probing, () => Say(new MembersRead("after", _state.Before)));
                break;
            case AskAfter:
                After(Probing, () => Say(new AnswersCompared(_state.AnswersBefore, [])));
                break;
        }
        return true;
    }

    private void Enter(Block block)
    {
        var entering = Entering.Of(plan, block, _now);
        if (entering.WaitTill is { } opens)
            At(opens, () => Say(new BlockEntered(block.Number)));
        else if (entering.Halt is { } why && !_state.PastWindow)
            After(TimeSpan.Zero, () =>
            {
                Say(new Halted(why, null));
                Halts.Add("the window is too short for what is left");
            });
        else
            After(TimeSpan.Zero, () => Say(new BlockEntered(block.Number)));
    }

    // Whoever goes out together with those that are out already must leave the guard whole.
    private void Guard(Block block)
    {
        foreach (
            var group in block
                .Outgoing.GroupBy(m => MemberId.Of(m).Component)
                .Where(g => !block.ComponentsOut.Contains(g.Key))
        )
        {
            var component = estate.Find(group.Key)!;
            var gone = group
                .Concat(_state.LeftOut.Where(m => m.StartsWith(group.Key + "/", StringComparison.Ordinal)))
                .Distinct()
                .Count();
            var need =
                component.Guard.Quorum ? component.Members.Length / 2 + 1
                : component.Guard.Share is { } share ? (int)Math.Ceiling(share * component.Members.Length - 1e-9)
                : component.Guard.Keep;
            if (component.Members.Length - gone < need)
                Broken.Add(
                    $"{group.Key} keeps {component.Members.Length - gone} of the {need} that its guard needs "
                        + $"in {block.Title}"
                );
        }
        Say(new GuardsChecked(block.Number, true, "drawn"));
    }

    private void Do(PlanStep step)
    {
        if (_state.Of(step.Id).Status == StepStatus.Pending)
            Say(new StepBegun(step.Id));
        if (step.Do is PersonAction)
        {
            After(wish.Person, () =>
                Say(new PersonSigned(step.Id, "somebody", "drawn"), new StepDone(step.Id, DoneHow.Signed))
            );
            return;
        }
        var fault = wish.Faults.FirstOrDefault(f =>
            step.Name == f.Step || step.Id.Contains(f.Step, StringComparison.Ordinal)
        );
        var failures = _failures.GetValueOrDefault(step.Id);
        var fails =
            failures < (fault?.Fails ?? 0)
            || failures == 0 && step.Do is not AwaitAction && _chance.Next() < wish.FailsPerThousand / 1000;
        var takes = TimeSpan.FromSeconds(spreads[step.Id].At(_chance.Next()) * (fault?.Longer ?? 1));
        var attempt = $"a{_order}";
        if (step.Do is not AwaitAction)
            Say(new Intended(step.Id, attempt, failures + 1, step.Node, false));
        After(takes, () =>
        {
            if (step.Do is not AwaitAction)
                Say(
                    new AttemptEnded(
                        step.Id,
                        attempt,
                        fails ? AttemptEnd.Failed : AttemptEnd.Succeeded,
                        fails ? 1 : 0,
                        "",
                        false
                    )
                );
            if (!fails)
            {
                if (step.Point is { } point && !_state.Points.ContainsKey(point))
                    Say(new PointCaptured(step.Id, point, "", 0, "", 0), new PointVerified(point, "drawn"));
                Say(new StepDone(step.Id, DoneHow.Done));
                return;
            }
            _failures[step.Id] = failures + 1;
            if (failures + 1 < step.Attempts.Times)
                After(step.Attempts.Every, () => Do(step));
            else
                Say(new StepFailed(step.Id, $"{step.Title} failed, as drawn"));
        });
    }

    // What the slowest lane of a part took over its expected time is what its steps brought to the end.
    private void Slowest(Block block)
    {
        var lane = block.Lanes.MaxBy(l => l.Steps.Select(s => _state.Of(s.Id).EndedAt).Max());
        foreach (var step in lane?.Steps ?? [])
            if (_state.Of(step.Id) is { Begun: { } begun, EndedAt: { } ended })
                _over[Key(step)] =
                    _over.GetValueOrDefault(Key(step)) + (ended - begun).TotalSeconds - spreads[step.Id].Median;
    }

    internal static string Key(PlanStep step) => $"{step.Component}\n{step.Name}";

    private void After(TimeSpan span, Action happens) => At(_now + span, happens);

    private void At(DateTimeOffset at, Action happens) =>
        _queue.Enqueue(
            () =>
            {
                if (_state.End is null)
                    happens();
            },
            (at < _now ? _now : at, ++_order)
        );

    private void Say(params ReadOnlySpan<RunEvent> events)
    {
        foreach (var e in events)
            _state.Apply(new JournalEntry("rehearsal", _state.Sequence + 1, 1, _now, e));
    }
}
