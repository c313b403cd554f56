using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Core.Waves;

namespace TideStep.Core.Checks;

/// <summary>What must hold before any plan, whatever its products ask for themselves.</summary>
internal sealed class BuiltInChecks(EstateIndex index, Plan plan, CheckContext context)
{
    private readonly HashSet<string> _touched = [.. plan.Components];

    private IEnumerable<Component> Touched => index.Components.Where(c => _touched.Contains(c.Id));

    public IEnumerable<Finding> All() =>
        Reached()
            .Concat(Fresh())
            .Concat(Guards())
            .Concat(Steady())
            .Concat(Known())
            .Concat(Reserved())
            .Concat(UnderItsOwnFeet())
            .Concat(Spares())
            .Concat(Pairs())
            .Concat(Requirements())
            .Concat(Support())
            .Concat(Releases())
            .Concat(Windows())
            .Concat(Freezes())
            .Concat(Return())
            .Concat(Manual());

    private ImmutableArray<int> MovesOf(string component) =>
        [.. plan.Moves.Where(m => m.Components.Contains(component) || m.Out.Contains(component)).Select(m => m.Number)];

    private static Finding Say(
        string check,
        string subject,
        Level level,
        bool? holds,
        string what,
        string? remedy = null,
        ImmutableArray<int> moves = default,
        string? node = null
    ) =>
        new(
            check,
            subject,
            level,
            holds switch
            {
                true => CheckResult.Passed,
                false => CheckResult.Failed,
                _ => CheckResult.Open,
            },
            what,
            holds == true ? null : remedy,
            moves.IsDefault ? [] : moves
        )
        {
            Node = node,
        };

    private IEnumerable<Finding> Reached()
    {
        foreach (var component in Touched)
        {
            var missed = component
                .Members.Where(m => context.Unreached.ContainsKey(m.Id) || !index.Readings.Members.ContainsKey(m.Id))
                .ToList();
            if (missed.Count == 0)
                yield return Say(
                    "reachable",
                    component.Id,
                    Level.Blocker,
                    true,
                    $"all {component.Members.Length} members were read",
                    moves: MovesOf(component.Id)
                );
            foreach (var member in missed)
                yield return context.Unreached.TryGetValue(member.Id, out var why)
                    ? Say(
                        "reachable",
                        member.Id,
                        Level.Blocker,
                        false,
                        $"it could not be read: {why}",
                        "Look at the node and the way to it; then take a survey.",
                        MovesOf(component.Id),
                        member.Node
                    )
                    : Say(
                        "reachable",
                        member.Id,
                        Level.Blocker,
                        null,
                        "it was never read",
                        "Take a survey.",
                        MovesOf(component.Id),
                        member.Node
                    );
        }
    }

    private IEnumerable<Finding> Fresh()
    {
        // A survey of a part leaves the others as old as they were: the oldest reading that the plan rests on counts.
        var taken = Touched
            .SelectMany(c => c.Members)
            .Where(m => index.Readings.Members.ContainsKey(m.Id))
            .Select(m => index.Readings.TakenOf(m.Id))
            .DefaultIfEmpty(index.Readings.Taken)
            .Min();
        var age = context.Now - taken;
        var never = taken <= DateTimeOffset.UnixEpoch;
        yield return Say(
            "survey-fresh",
            "estate",
            Level.Caution,
            never ? null : age <= context.Fresh,
            never
                ? "no survey was ever taken"
                : $"the readings are {Durations.Write(Whole(age))} "
                    + $"old{(age <= context.Fresh ? "" : $", at most {Durations.Write(context.Fresh)} is asked")}",
            "Take a survey."
        ) with
        {
            ShortBy = age > context.Fresh ? (age - context.Fresh).TotalSeconds : null,
        };
    }

    private static TimeSpan Whole(TimeSpan span) => TimeSpan.FromMinutes(Math.Max(0, Math.Floor(span.TotalMinutes)));

    private IEnumerable<Finding> Guards()
    {
        foreach (var component in Touched)
        {
            var (c, there) = (index.NumberOf(component.Id), component.Members.Where(m => !index.IsOut(m)).ToList());
            var keeps = Math.Min(Service.EffectiveGuardOf(index, c), component.Members.Length);
            var counted = component.Guard.Quorum ? there.Count(m => index.Votes(c, m)) : there.Count;
            var outside = component.Members.Where(index.IsOut).Select(m => m.Node).ToList();
            yield return Say(
                "guard",
                component.Id,
                Level.Blocker,
                counted >= keeps,
                $"{counted} of {component.Members.Length} in service, {keeps} must "
                    + $"stay{(outside.Count == 0 ? "" : $"; out: {string.Join(", ", outside)}")}",
                outside.Count > 0
                    ? $"Bring {string.Join(", ", outside)} back into service."
                    : $"The guard asks for more than {component.Id} has: look at its 'guard'.",
                MovesOf(component.Id)
            ) with
            {
                Found = $"{counted}",
                Needed = $"{keeps}",
                Short = counted < keeps ? $"{keeps - counted}" : null,
                ShortBy = counted < keeps ? keeps - counted : null,
            };
            if (counted >= keeps && outside.Count > 0)
                yield return Say(
                    "in-service",
                    component.Id,
                    Level.Caution,
                    false,
                    $"{string.Join(", ", outside)} {(outside.Count == 1 ? "is" : "are")} out of service already",
                    "Find out why before more members leave.",
                    MovesOf(component.Id)
                ) with
                {
                    ShortBy = outside.Count,
                };
        }
    }

    private IEnumerable<Finding> Steady()
    {
        foreach (var component in Touched)
        {
            var running = component
                .Members.Select(m => index.Readings.Of(m).Running)
                .OfType<string>()
                .Distinct()
                .Order(StringComparer.Ordinal)
                .ToList();
            yield return Say(
                "one-version",
                component.Id,
                Level.Caution,
                running.Count <= 1,
                running.Count <= 1
                    ? $"all members run {running.FirstOrDefault("nothing")}"
                    : $"its members run {string.Join(" and ", running)}",
                "The plan settles it first; find out how it came about.",
                MovesOf(component.Id)
            );
            var owed = component
                .Members.Where(m => index.Readings.Of(m) is { Running: { } r, Installed: { } i } && r != i)
                .ToList();
            if (owed.Count > 0 && index.Readings.Of(owed[0]) is { Running: { } runs, Installed: { } due })
                yield return Say(
                    "restart-owed",
                    component.Id,
                    Level.Advice,
                    false,
                    $"{owed.Count} of {component.Members.Length} members run {runs} while {due} is installed",
                    $"It comes into effect by "
                        + (
                            index.Catalogue.Find(component.Product) is { } product
                                ? InEffect.By(product, runs, due)
                                : "a restart"
                        )
                        + $"; the plan does so first where it moves them.",
                    MovesOf(component.Id)
                ) with
                {
                    ShortBy = owed.Count,
                };
        }
    }

    private IEnumerable<Finding> Known()
    {
        foreach (var component in Touched)
            if (index.Catalogue.Find(component.Product) is { } product)
                foreach (
                    var label in component
                        .Members.Select(m => index.Readings.Of(m).Running)
                        .OfType<string>()
                        .Distinct()
                        .Order(StringComparer.Ordinal)
                )
                    if (product.Scheme.TryParse(label) is not { } version || product.ReleaseOf(version) is null)
                        yield return Say(
                            "known-version",
                            component.Id,
                            Level.Caution,
                            false,
                            $"{label} is no release that the catalogue knows of {product.Id}",
                            "Complete the catalogue, or find out what it is.",
                            MovesOf(component.Id)
                        );
    }

    private IEnumerable<Finding> Reserved()
    {
        foreach (
            var its in Touched
                .Where(c => context.Reserved.ContainsKey(c.Id))
                .GroupBy(c => context.Reserved[c.Id])
                .OrderBy(g => g.Key, StringComparer.Ordinal)
        )
            yield return Say(
                "reserved",
                $"run {its.Key}",
                Level.Blocker,
                false,
                $"run {its.Key} works on {string.Join(", ", its.Select(c => c.Id).Order(StringComparer.Ordinal))}",
                "Let that run end first.",
                [.. its.SelectMany(c => MovesOf(c.Id)).Distinct().Order()]
            );
    }

    private IEnumerable<Finding> UnderItsOwnFeet()
    {
        foreach (var component in Touched.Where(c => c.CarriesUs))
            yield return Say(
                "carries-us",
                component.Id,
                Level.Blocker,
                false,
                "Tide Step itself stands on it, and the plan takes members of it out",
                "Run Tide Step from elsewhere for this, or leave the component out.",
                MovesOf(component.Id)
            );
    }

    private IEnumerable<Finding> Spares()
    {
        foreach (var move in plan.Moves.Where(m => m.Method == Method.Replace))
        {
            var component = index.Estate.Find(move.Component)!;
            foreach (var node in component.SpareNodes)
            {
                var id = $"{component.Id}/{node}";
                var (reached, reading) = (
                    !context.Unreached.ContainsKey(id),
                    index.Readings.Members.GetValueOrDefault(id)
                );
                yield return Say(
                    "spare-ready",
                    id,
                    Level.Blocker,
                    reading is null && reached ? null : reached && reading?.Running is null,
                    !reached ? $"it could not be read: {context.Unreached[id]}"
                        : reading is null ? "it was never read"
                        : reading.Running is { } label ? $"{label} runs there already"
                        : "it runs nothing and answers",
                    "A spare node must answer and run nothing of the component.",
                    [move.Number],
                    node
                );
            }
        }
    }

    // Pairs that nobody tested and that the plan relies on, that stand today though no rule allows them, or that only
    // an old note vouches for.
    private IEnumerable<Finding> Pairs()
    {
        foreach (var pair in plan.Pairs.Where(p => _touched.Contains(p.Component) || _touched.Contains(p.With)))
        {
            var versions = $"{pair.Component} {pair.Version} with {pair.With} {pair.At}";
            var verdict = pair.Verdict.ToString().ToLowerInvariant();
            yield return pair switch
            {
                { Note: PairNote.Relied } => Say(
                    "fitness",
                    versions,
                    Level.Caution,
                    false,
                    "the plan relies on it, and nobody tested it; the goal allows it by name or as a whole",
                    "Try the pair on a test estate, or ask its maker."
                ),
                { Note: PairNote.Stretched } => Say(
                    "old-note",
                    $"{pair.Component} with {pair.With}",
                    Level.Caution,
                    false,
                    $"only an old note vouches for {versions}: {pair.Why}",
                    "Look for a newer statement of its maker, and enter it with its date."
                ),
                { CuredBy: { } move } => Say(
                    "stands-today",
                    $"{pair.Component} with {pair.With}",
                    Level.Caution,
                    false,
                    $"{versions} stands today and is {verdict} ({pair.Why}); move {move} ends that",
                    $"It is inherited: nobody answers for it until move {move} is done.",
                    [move]
                ),
                _ => Say(
                    "stands-today",
                    $"{pair.Component} with {pair.With}",
                    pair.Verdict == Verdict.Unsupported ? Level.Blocker : Level.Caution,
                    false,
                    $"{versions} stands at the end, as today's pair does, and is {verdict} ({pair.Why})",
                    "It is inherited: no path was refused for it. Know that nobody answers for it."
                ),
            };
        }
    }

    // A requirement that nothing can answer is open, never dropped.
    private IEnumerable<Finding> Requirements() =>
        plan.Unrelated.Select(u =>
            Say(
                $"jump {u.Jump} requires {u.Product}",
                u.Component,
                Level.Caution,
                null,
                $"jump {u.Jump} requires {u.Product} {u.Range}, and nothing that {u.Component} relates to is an "
                    + "instance of it",
                $"Relate {u.Component} to what is one in the estate, or mend the product in the jump.",
                MovesOf(u.Component)
            )
        );

    private IEnumerable<Finding> Support()
    {
        var day = plan.Windows.IsEmpty ? plan.Day : DateOnly.FromDateTime(plan.Windows[^1].To.DateTime);
        foreach (
            var (id, to) in plan
                .Moves.SelectMany(m => m.Jumps)
                .GroupBy(j => j.Component)
                .Select(g => (g.Key, g.Last().To))
        )
            if (
                index.Estate.Find(id) is { } component
                && index.Catalogue.Find(component.Product) is { } product
                && product.Scheme.TryParse(to) is { } version
                && product.ReleaseOf(version) is { } release
            )
                yield return release.Ends is not { } ends
                    ? Say(
                        "support",
                        id,
                        Level.Advice,
                        null,
                        $"nothing is known of how long {product.Id} {to} is supported",
                        "Ask its maker.",
                        MovesOf(id)
                    )
                    : Say(
                        "support",
                        id,
                        Level.Caution,
                        ends >= day,
                        $"{product.Id} {to} is supported through {ends:yyyy-MM-dd}",
                        "Choose a release that is supported longer.",
                        MovesOf(id)
                    );
    }

    // What the way from today's release to the last one removes, changes and is known to trouble.
    private IEnumerable<Finding> Releases()
    {
        foreach (
            var chain in plan
                .Moves.SelectMany(m => m.Jumps.Select(j => (m.Number, Jump: j)))
                .GroupBy(j => j.Jump.Product)
        )
            if (
                index.Catalogue.Find(chain.Key) is { } product
                && product.Scheme.TryParse(chain.First().Jump.From) is { } from
                && product.Scheme.TryParse(chain.Last().Jump.To) is { } to
            )
            {
                ImmutableArray<int> moves = [.. chain.Select(j => j.Number).Distinct()];
                foreach (var release in product.Releases.Where(r => r.Version > from && r.Version <= to))
                {
                    foreach (var removed in release.Removes)
                        yield return Removed(
                            product,
                            release,
                            removed,
                            [.. chain.Select(j => j.Jump.Component).Distinct()],
                            moves
                        );
                    if (chain.Any(j => product.Scheme.TryParse(j.Jump.To)?.Equals(release.Version) == true))
                        foreach (var problem in release.Problems)
                            yield return Say(
                                "known-problem",
                                $"{product.Id} {release.Label}: {problem.What}",
                                Level.Caution,
                                false,
                                $"{product.Id} {release.Label}: {problem.What}",
                                problem.Prevent is { } prevent ? $"Prevent it: {prevent}." : null,
                                moves
                            );
                }
            }
    }

    // Where the document says how use is told, members answer for themselves; else somebody has to look.
    private Finding Removed(
        Product product,
        Release release,
        string what,
        List<string> components,
        ImmutableArray<int> moves
    )
    {
        var subject = $"{product.Id}: {what}";
        if (release.InUse.GetValueOrDefault(what) is not { } inUse)
            return Say(
                "removed",
                subject,
                Level.Caution,
                false,
                $"{product.Id} {release.Label} removes {what}",
                "See that nothing uses it any more.",
                moves
            );
        var (users, open, used) = (new List<string>(), new List<string>(), ImmutableArray<Used>.Empty);
        foreach (var component in components.Select(id => index.Estate.Find(id)!))
        {
            var values = new MemberValues(index, component, product, _ => null);
            List<Func<Reference, Value?>> all = [.. component.Members.Select(m => values.Of(m))];
            foreach (var member in component.Members)
            {
                var came = Evaluator.Evaluate(inUse, values.Of(member), all);
                if (came.Open)
                    open.Add(member.Id);
                else if (came.Holds)
                    (users, used) = ([.. users, member.Id], used.IsEmpty ? came.Readings : used);
            }
        }
        return users.Count > 0
                ? Say(
                    "removed",
                    subject,
                    Level.Blocker,
                    false,
                    $"{product.Id} {release.Label} removes {what}, and {string.Join(", ", users)} still "
                        + $"{(users.Count == 1 ? "uses" : "use")} it ({inUse.Text})",
                    "Bring its users to something else first.",
                    moves
                ) with
                {
                    Evidence = used,
                    ShortBy = users.Count,
                }
            : open.Count > 0
                ? Say(
                    "removed",
                    subject,
                    Level.Blocker,
                    null,
                    $"{product.Id} {release.Label} removes {what}; whether {string.Join(", ", open)} "
                        + $"{(open.Count == 1 ? "uses" : "use")} it could not be read",
                    "Take a survey.",
                    moves
                )
            : Say(
                "removed",
                subject,
                Level.Blocker,
                true,
                $"{product.Id} {release.Label} removes {what}, and no member uses it",
                moves: moves
            );
    }

    private IEnumerable<Finding> Windows()
    {
        foreach (var window in plan.Windows)
        {
            var spare = window.To - window.Ends;
            yield return Say(
                "window",
                window.Name + $" {window.From:yyyy-MM-dd}",
                Level.Blocker,
                spare >= TimeSpan.Zero && window.From > context.Now - (window.To - window.From),
                spare >= TimeSpan.Zero
                    ? $"the work ends {window.Ends:HH:mm}, {Durations.Write(spare)} before the window does"
                    : $"the work ends {Durations.Write(-spare)} after the window",
                "Plan again from today.",
                [.. Enumerable.Range(window.FirstMove, window.LastMove - window.FirstMove + 1)]
            );
        }
        foreach (var late in plan.Blocks.Where(b => b.TurnBack is { } back && back < b.Begins))
            yield return Say(
                "turn-back",
                $"part {late.Number}",
                Level.Caution,
                false,
                $"the return path no longer fits the window when part {late.Number} begins",
                "Shorten the work of this window, or be told to go past it.",
                [late.Move]
            );
    }

    // In windows no freeze stands by the plan's making; without windows the work begins when it is started.
    private IEnumerable<Finding> Freezes()
    {
        if (plan.Freezes.IsEmpty || !plan.Windows.IsEmpty)
            yield break;
        var end = context.Now + plan.Expected;
        var met = plan.Freezes.FirstOrDefault(f => f.From < end && context.Now < f.To);
        yield return Say(
            "freeze",
            met is null ? "plan" : met.Name,
            Level.Blocker,
            met is null,
            met is null
                ? $"begun now, the work ends before the next freeze, {plan.Freezes[0].Name} on "
                    + $"{plan.Freezes[0].From:yyyy-MM-dd HH:mm}"
                : $"begun now, the work ends at {end.ToOffset(met.From.Offset):yyyy-MM-dd HH:mm}; nothing may "
                    + $"be changed from {met.From:yyyy-MM-dd HH:mm} to "
                    + $"{met.To:yyyy-MM-dd HH:mm}{(met.Why is null ? "" : $": {met.Why}")}",
            "Begin after it, or have it accepted."
        );
    }

    // What people have to do before: open until somebody signs that it is done.
    private IEnumerable<Finding> Manual() =>
        ManualItem
            .Of(plan)
            .Select(item =>
                context.Signed.LastOrDefault(s => s.Item == item.Key) is { } signed
                    ? Say(
                        "manual",
                        item.Title,
                        Level.Blocker,
                        true,
                        $"done, says {signed.By} on {signed.At:yyyy-MM-dd HH:mm zzz}: {signed.Evidence}"
                            + $"{(signed.File is { } file ? $" ({file.Name}, {Units.WriteBytes(file.Bytes)})" : "")}",
                        moves: item.Moves
                    )
                    : Say(
                        "manual",
                        item.Title,
                        Level.Blocker,
                        null,
                        $"{item.Owner ?? "somebody"} has to do it and sign it"
                            + (
                                item.Due is { } due
                                    ? $", by {due:yyyy-MM-dd HH:mm zzz}{(due < context.Now ? ", which is past" : "")}"
                                    : ""
                            )
                            + $": {string.Join(", ", item.For)}",
                        (item.Instructions is { } how ? $"{how.TrimEnd('.')}. Then sign it" : "Do it, then sign it")
                            + $" with what shows that it is done.",
                        item.Moves
                    )
            );

    private IEnumerable<Finding> Return()
    {
        if (plan.Kind == Plan.Return)
            yield break;
        var closed = plan.Blocks.FirstOrDefault(b => b.Return.State == ReturnState.Closed);
        yield return Say(
            "return-path",
            "plan",
            Level.Caution,
            closed is null,
            closed is null
                ? $"the start can be reached again from every part, at the end in "
                    + $"{Durations.Write(plan.Blocks.IsEmpty ? TimeSpan.Zero : plan.Blocks[^1].Return.Length)}"
                : $"from part {closed.Number} on the start can't be reached any more: {closed.Return.Why}",
            "Take a rollback point that covers it, or sign off that there is no way back.",
            closed is null ? [] : [closed.Move]
        );
    }
}
