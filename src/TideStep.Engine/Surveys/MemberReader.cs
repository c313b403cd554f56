using System.Collections.Concurrent;
using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Engine.Surveys;

/// <summary>An expression put to live readings: whether it holds, the numbers it used, and whether the node did not
/// answer at all for now.</summary>
public readonly record struct Probe(bool Holds, string Why, bool Absent);

/// <summary>Takes live readings of members through their connectors.</summary>
public sealed class MemberReader(IEnumerable<IConnector> connectors, EngineSettings settings, TimeProvider time)
{
    private readonly Dictionary<string, IConnector> _connectors = connectors.ToDictionary(c => c.By);

    public IConnector ConnectorOf(EstateNode node) => _connectors[node.Reach.By];

    // Readings of a member, each from where its product says that it is taken.
    private async Task<Taken> TakeAsync(
        Estate estate,
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        var elsewhere = wanted
            .Select(r => (Reference: r, product.Readings.GetValueOrDefault(r.Key)?.On))
            .Where(r => r.On is not null)
            .ToLookup(r => r.On!, r => r.Reference);
        if (elsewhere.Count == 0)
            return await ConnectorOf(node).ReadAsync(node, member, product, wanted, ct);
        var own = wanted.Except(elsewhere.SelectMany(e => e)).ToList();
        var taken = own.Count == 0 ? Taken.Nothing : await ConnectorOf(node).ReadAsync(node, member, product, own, ct);
        var (values, missed) = (
            new Dictionary<Reference, Value>(taken.Values),
            new Dictionary<Reference, string>(taken.Missed)
        );
        foreach (var asked in elsewhere)
        {
            var (found, why) = await TakeElsewhereAsync(estate, member, product, asked.Key, [.. asked], ct);
            foreach (var (reference, value) in found.Values)
                values[reference] = value;
            foreach (var reference in asked.Where(r => !found.Values.ContainsKey(r)))
                missed[reference] = found.Missed.GetValueOrDefault(reference) ?? why ?? "its report does not tell it";
        }
        return new Taken(values, missed);
    }

    // Of the first member there that answers.
    private async Task<(Taken Found, string? Why)> TakeElsewhereAsync(
        Estate estate,
        Member member,
        Product product,
        RelatedPlace place,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        string? why = $"{member.Component} relates to nothing by '{place}'";
        foreach (var other in RelatedMembers.Of(estate, member, place with { First = false }))
        {
            var node = estate.Nodes[other.Node];
            var values = new Dictionary<string, string?>
            {
                ["member.node"] = member.Node,
                ["member.component"] = member.Component,
                ["node.address"] = estate.Nodes[member.Node].Reach["address"] ?? member.Node,
                ["on.node"] = other.Node,
                ["on.address"] = node.Reach["address"] ?? other.Node,
            };
            var bound = product with
            {
                Readings = wanted.Aggregate(product.Readings, (readings, r) =>
                    readings.SetItem(r.Key, readings[r.Key].About(values))
                ),
            };
            try
            {
                return (await ConnectorOf(node).ReadAsync(node, other, bound, wanted, ct), null);
            }
            catch (ConnectorException e)
            {
                why = e.Problem.What;
            }
        }
        return (Taken.Nothing, why);
    }

    /// <summary>Puts an expression to live readings of a member. A node that can't be reached leaves it open; why says
    /// so.</summary>
    public async Task<Probe> ProbeAsync(
        Estate estate,
        ProductCatalogue catalogue,
        Member member,
        Expression expression,
        PlanStep? step,
        CancellationToken ct,
        bool asIfInEffect = false
    )
    {
        var node = estate.Nodes[member.Node];
        var product = catalogue.Find(estate.Find(member.Component)!.Product)!;
        var withDependants = estate.Find(member.Component)!.RunsWithDependants;
        var wanted = expression
            .References.Select(r =>
                withDependants && r == Running ? Installed
                : asIfInEffect && r == Installed ? Running
                : r
            )
            .Distinct()
            .Where(r => !r.Key.StartsWith("jump.", StringComparison.Ordinal) && r.Key != "today")
            .ToList();
        IReadOnlyDictionary<Reference, Value> found;
        try
        {
            found =
                wanted.Count == 0
                    ? Taken.Nothing.Values
                    : (await TakeAsync(estate, node, member, product, wanted, ct)).Values;
        }
        catch (ConnectorException e)
        {
            return new Probe(
                false,
                e.Problem.What + (e.Problem.Detail is null ? "" : $" ({e.Problem.Detail})"),
                Absent: !e.Lasting
            );
        }
        var evaluation = Evaluator.Evaluate(expression, r => r.Key switch
            {
                "jump.to" => Label(product, step?.To),
                "jump.from" => Label(product, step?.From),
                "today" => Value.Of(DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime)),
                // What has no process of its own runs what is installed once others were restarted: nobody waits.
                "running" when withDependants => found.GetValueOrDefault(Installed),
                // What is owed a restart serves all the same.
                "installed" when asIfInEffect => found.GetValueOrDefault(Running),
                _ => found.GetValueOrDefault(r),
            });
        return new Probe(evaluation.Holds, evaluation.Explain, Absent: false);
    }

    private static Value? Label(Product product, string? label) =>
        label is not null && product.Scheme.TryParse(label) is { } version ? Value.Of(version) : null;

    /// <summary>Whether a member serves: its product's in-step probe holds, or without one, it tells what it
    /// runs.</summary>
    public async Task<bool> ServesAsync(Estate estate, ProductCatalogue catalogue, Member member, CancellationToken ct)
    {
        var product = catalogue.Find(estate.Find(member.Component)!.Product)!;
        if (product.Routines.InStep is { } probe)
            return (await ProbeAsync(estate, catalogue, member, probe, null, ct)).Holds
                || (
                    probe.References.Contains(Installed)
                    && (await ProbeAsync(estate, catalogue, member, probe, null, ct, asIfInEffect: true)).Holds
                );
        return (await RunningAsync(estate, catalogue, [member], ct)).TryGetValue(member.Id, out var running)
            && RunningText.IsVersion(running);
    }

    /// <summary>What is answered to questions, by member and question; what can't be had is left out.</summary>
    /// <param name="before">What was answered before, with the keys that samples chose then: the same objects are asked
    /// for. Null where this is before, and samples choose theirs.</param>
    public async Task<ImmutableSortedDictionary<string, string>> AnswersAsync(
        Estate estate,
        ProductCatalogue catalogue,
        IReadOnlyCollection<PlannedAsk> asks,
        IReadOnlyDictionary<string, string>? before,
        CancellationToken ct
    )
    {
        var found = new ConcurrentDictionary<string, string>();
        var byMember = asks.SelectMany(a => a.Members.Select(m => (Member: m, a.Ask))).GroupBy(a => a.Member);
        await Parallel.ForEachAsync(
            byMember,
            new ParallelOptions { MaxDegreeOfParallelism = settings.ReadAtOnce, CancellationToken = ct },
            async (asked, token) =>
            {
                if (estate.FindMember(asked.Key) is not { } member)
                    return;
                var (node, product) = (
                    estate.Nodes[member.Node],
                    catalogue.Find(estate.Find(member.Component)!.Product)!
                );
                async Task<IReadOnlyDictionary<string, string>> Read(Product of, IEnumerable<string> names)
                {
                    var wanted = names.Distinct().Select(n => new Reference(n, [], null)).ToList();
                    if (wanted.Count == 0)
                        return ImmutableDictionary<string, string>.Empty;
                    using var limit = CancellationTokenSource.CreateLinkedTokenSource(token);
                    // What is not known leaves what was known before standing out as a difference.
                    try
                    {
                        return (
                            await TakeAsync(estate, node, member, of, wanted, limit.Token)
                                .WaitAsync(settings.NodeLimit, time, token)
                        ).Values.ToDictionary(v => v.Key.Key, v => v.Value.ToString());
                    }
                    catch (ConnectorException)
                    {
                        return ImmutableDictionary<string, string>.Empty;
                    }
                    catch (TimeoutException)
                    {
                        await limit.CancelAsync();
                        return ImmutableDictionary<string, string>.Empty;
                    }
                }
                var (samples, plain) = (
                    asked.Where(a => a.Ask.Keys is not null).ToList(),
                    asked.Where(a => a.Ask.Keys is null).ToList()
                );
                var values = await Read(
                    product,
                    plain.Select(a => a.Ask.Of).Concat(before is null ? samples.Select(a => a.Ask.Keys!) : [])
                );
                foreach (var (_, ask) in plain)
                    if (values.TryGetValue(ask.Of, out var value))
                        found[Core.Runs.BeforeAndAfter.Key(member.Id, ask.Id)] = value;
                foreach (var (_, ask) in samples)
                {
                    var noted = Core.Runs.BeforeAndAfter.KeysOf(member.Id, ask.Id);
                    if (
                        (before ?? values).GetValueOrDefault(before is null ? ask.Keys! : noted)
                        is not { Length: > 0 } keys
                    )
                        continue;
                    found[noted] = keys;
                    var chosen = product.Readings.TryGetValue(ask.Of, out var collector)
                        ? product with
                        {
                            Readings = product.Readings.SetItem(ask.Of, collector.For(keys)),
                        }
                        : product;
                    if ((await Read(chosen, [ask.Of])).TryGetValue(ask.Of, out var answer))
                        found[Core.Runs.BeforeAndAfter.Key(member.Id, ask.Id)] = answer;
                }
            }
        );
        return found.ToImmutableSortedDictionary(StringComparer.Ordinal);
    }

    /// <summary>Readings of a member by name, or why one of them could not be taken. A node that is absent is waited
    /// for.</summary>
    public async Task<(ImmutableSortedDictionary<string, string> Values, string? Missed)> ValuesAsync(
        Estate estate,
        ProductCatalogue catalogue,
        Member member,
        IReadOnlyCollection<string> names,
        CancellationToken ct
    )
    {
        var (node, product) = (estate.Nodes[member.Node], catalogue.Find(estate.Find(member.Component)!.Product)!);
        var (wanted, began) = (
            names
                .Select(n => new Reference(n.Split('.')[0], [], n.Contains('.') ? n[(n.IndexOf('.') + 1)..] : null))
                .ToList(),
            time.GetTimestamp()
        );
        while (true)
        {
            try
            {
                var taken = await TakeAsync(estate, node, member, product, wanted, ct);
                var missed = wanted.FirstOrDefault(w => !taken.Values.ContainsKey(w));
                return missed is null
                    ? (
                        taken
                            .Values.Where(v => wanted.Contains(v.Key))
                            .ToImmutableSortedDictionary(
                                v => v.Key.Key,
                                v => v.Value.ToString(),
                                StringComparer.Ordinal
                            ),
                        null
                    )
                    : (
                        ImmutableSortedDictionary<string, string>.Empty,
                        $"'{missed.Key}' could not be "
                            + $"read{(taken.Missed.TryGetValue(missed, out var why) ? $": {why}" : "")}"
                    );
            }
            catch (ConnectorException e)
                when (!e.Lasting && time.GetElapsedTime(began) <= settings.RealLimit(EngineSettings.ContactPatience))
            {
                await Task.Delay(settings.Poll, time, ct);
            }
            catch (ConnectorException e)
            {
                return (ImmutableSortedDictionary<string, string>.Empty, e.Problem.ToString());
            }
        }
    }

    /// <summary>The role that a member has now, where its product reads it; null where it does not, or its node does
    /// not answer.</summary>
    public async Task<string?> RoleAsync(Estate estate, ProductCatalogue catalogue, Member member, CancellationToken ct)
    {
        var product = catalogue.Find(estate.Find(member.Component)!.Product)!;
        if (!product.Readings.ContainsKey("role"))
            return null;
        var node = estate.Nodes[member.Node];
        var role = new Reference("role", [], null);
        try
        {
            return (await TakeAsync(estate, node, member, product, [role], ct))
                .Values.GetValueOrDefault(role)
                ?.ToString();
        }
        catch (ConnectorException)
        {
            return null;
        }
    }

    private static readonly Reference Running = new("running", [], null),
        Installed = new("installed", [], null);

    /// <summary>What each member runs: its label, <c>none</c> where nothing runs, <c>unreachable</c> where its node
    /// does not answer. Nothing else is asked of it: a survey asks for much more.</summary>
    public Task<ImmutableSortedDictionary<string, string>> RunningAsync(
        Estate estate,
        ProductCatalogue catalogue,
        IEnumerable<Member> members,
        CancellationToken ct
    ) => VersionsAsync(Running, estate, catalogue, members, ct);

    /// <summary>The members that run something else than is installed on them, each with what puts that into effect;
    /// one that tells of neither owes nothing that is known.</summary>
    /// <param name="running">What they run, as just read.</param>
    public async Task<ImmutableArray<Core.Runs.OwedRestart>> OwedAsync(
        Estate estate,
        ProductCatalogue catalogue,
        IReadOnlyCollection<Member> members,
        IReadOnlyDictionary<string, string> running,
        CancellationToken ct
    )
    {
        var installed = await VersionsAsync(Installed, estate, catalogue, members, ct);
        return
        [
            .. members
                .Where(m =>
                    RunningText.IsVersion(running[m.Id])
                    && RunningText.IsVersion(installed[m.Id])
                    && installed[m.Id] != running[m.Id]
                )
                .OrderBy(m => m.Id, StringComparer.Ordinal)
                .Select(m => new Core.Runs.OwedRestart(
                    m.Id,
                    running[m.Id],
                    installed[m.Id],
                    InEffect.By(catalogue.Find(estate.Find(m.Component)!.Product)!, running[m.Id], installed[m.Id])
                )),
        ];
    }

    private async Task<ImmutableSortedDictionary<string, string>> VersionsAsync(
        Reference which,
        Estate estate,
        ProductCatalogue catalogue,
        IEnumerable<Member> members,
        CancellationToken ct
    )
    {
        var found = new ConcurrentDictionary<string, string>();
        await Parallel.ForEachAsync(
            members,
            new ParallelOptions { MaxDegreeOfParallelism = settings.ReadAtOnce, CancellationToken = ct },
            async (member, token) => found[member.Id] = await VersionOfAsync(which, estate, catalogue, member, token)
        );
        return found.ToImmutableSortedDictionary(StringComparer.Ordinal);
    }

    private async Task<string> VersionOfAsync(
        Reference which,
        Estate estate,
        ProductCatalogue catalogue,
        Member member,
        CancellationToken ct
    )
    {
        if (catalogue.Find(estate.Find(member.Component)!.Product) is not { } product)
            return "none";
        var node = estate.Nodes[member.Node];
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        try
        {
            // A connector that does not heed the token is abandoned, not awaited.
            var withDependants = which == Running && estate.Find(member.Component)!.RunsWithDependants;
            var taken = await TakeAsync(
                    estate,
                    node,
                    member,
                    product,
                    withDependants ? [which, Installed] : [which],
                    limit.Token
                )
                .WaitAsync(settings.NodeLimit, time, ct);
            var found = taken.Values.GetValueOrDefault(which);
            return (found ?? (withDependants ? taken.Values.GetValueOrDefault(Installed) : null))?.ToString() ?? "none";
        }
        catch (ConnectorException)
        {
            return "unreachable";
        }
        catch (TimeoutException)
        {
            await limit.CancelAsync();
            return "unreachable";
        }
    }

    /// <summary>Surveys members side by side, so many at once and each within its limit; each comes with whether it
    /// could be reached and why not.</summary>
    /// <param name="estate">The estate.</param>
    /// <param name="catalogue">The catalogue.</param>
    /// <param name="members">Whom to read.</param>
    /// <param name="read">Told after each member, from any thread.</param>
    public async Task<IReadOnlyDictionary<string, (bool Reachable, MemberReading Reading, string? Why)>> SurveyAsync(
        Estate estate,
        ProductCatalogue catalogue,
        IEnumerable<Member> members,
        CancellationToken ct,
        Action? read = null
    )
    {
        var found = new ConcurrentDictionary<string, (bool, MemberReading, string?)>();
        await Parallel.ForEachAsync(
            members,
            new ParallelOptions { MaxDegreeOfParallelism = settings.ReadAtOnce, CancellationToken = ct },
            async (member, token) =>
            {
                found[member.Id] = await ReadOneAsync(estate, catalogue, member, token);
                read?.Invoke();
            }
        );
        return found;
    }

    // A member that owes a restart serves all the same: what is installed is not what it must be in step with.
    private static bool IsInStep(Component component, Expression inStep, IReadOnlyDictionary<Reference, Value> values)
    {
        Value? Of(Reference reference) =>
            values.GetValueOrDefault(component.RunsWithDependants && reference == Running ? Installed : reference);
        return Evaluator.Evaluate(inStep, Of).Holds
            || (
                values.ContainsKey(Running)
                && Evaluator.Evaluate(inStep, r => r == Installed ? values.GetValueOrDefault(Running) : Of(r)).Holds
            );
    }

    /// <summary>Reads of each member what is asked of it, side by side. What a member does not tell, and a node that
    /// does not answer, is missing with why.</summary>
    /// <param name="asks">What to read, by member.</param>
    public async Task<Readings> ReadingsAsync(
        Estate estate,
        ProductCatalogue catalogue,
        IReadOnlyDictionary<string, HashSet<Reference>> asks,
        CancellationToken ct
    )
    {
        var found = new ConcurrentDictionary<string, MemberReading>();
        await Parallel.ForEachAsync(
            asks,
            new ParallelOptions { MaxDegreeOfParallelism = settings.ReadAtOnce, CancellationToken = ct },
            async (ask, token) =>
            {
                if (estate.FindMember(ask.Key) is not { } member)
                    return;
                var (reachable, reading, why) = await ReadOneAsync(estate, catalogue, member, token, ask.Value);
                found[member.Id] = reachable
                    ? reading
                    : reading with
                    {
                        Missed = ask.Value.ToImmutableDictionary(r => r.Key, _ => why ?? "it does not answer"),
                    };
            }
        );
        return new Readings(time.GetUtcNow(), found.ToImmutableDictionary());
    }

    private async Task<(bool, MemberReading, string?)> ReadOneAsync(
        Estate estate,
        ProductCatalogue catalogue,
        Member member,
        CancellationToken ct,
        IReadOnlyCollection<Reference>? only = null
    )
    {
        var node = estate.Nodes[member.Node];
        if (catalogue.Find(estate.Find(member.Component)!.Product) is not { } product)
            return (true, MemberReading.None, "the catalogue does not know its product");
        var wanted = only ?? SurveyQuestions.Of(estate, catalogue, member, product, node.Reach.By);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        try
        {
            // A connector that does not heed the token is abandoned, not awaited.
            var (values, missed) = await TakeAsync(estate, node, member, product, wanted, limit.Token)
                .WaitAsync(settings.NodeLimit, time, ct);
            string? Text(string key) => values.FirstOrDefault(v => v.Key.Key == key).Value?.ToString();
            // What has no process of its own runs what is installed, unless its product can tell what is in use.
            var running = Text("running")
                ?? (estate.Find(member.Component)!.RunsWithDependants ? Text("installed") : null);
            var serves = product.Routines.InStep is { } inStep
                ? IsInStep(estate.Find(member.Component)!, inStep, values)
                : running is not null;
            var rest = values
                .Where(v => v.Key.Key is not ("running" or "installed" or "staged" or "role"))
                .ToImmutableDictionary(v => v.Key.Key, v => v.Value.ToString());
            var reading = new MemberReading(
                running,
                Text("installed") ?? running,
                Text("staged"),
                Text("role") ?? member.Role,
                serves,
                rest
            )
            {
                At = time.GetUtcNow(),
                RunsNothing = running is null && missed.All(m => m.Key.Key != "running"),
                Missed = missed
                    .Where(m =>
                        m.Key.Key is not ("staged" or "role")
                        && (m.Key.Key is not ("installed" or "running") || product.Readings.ContainsKey(m.Key.Key))
                    )
                    .ToImmutableDictionary(m => m.Key.Key, m => m.Value),
            };
            return (true, reading, null);
        }
        catch (ConnectorException e)
        {
            return (
                false,
                MemberReading.None,
                e.Problem.What + (e.Problem.Detail is null ? "" : $" ({e.Problem.Detail})")
            );
        }
        catch (TimeoutException)
        {
            await limit.CancelAsync();
            return (
                false,
                MemberReading.None,
                $"{node.Id} did not answer within {settings.NodeLimit.TotalSeconds:0} s"
            );
        }
    }
}
