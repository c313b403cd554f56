using System.Collections.Concurrent;
using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Engine;

/// <summary>An expression put to live readings: whether it holds, the numbers it used, and whether the node did not answer at all for now.</summary>
public readonly record struct Probe(bool Holds, string Why, bool Absent);

/// <summary>Takes live readings of members through their connectors.</summary>
public sealed class MemberReader(IEnumerable<IConnector> connectors, EngineSettings settings, TimeProvider time)
{
    private static readonly Reference RunningReference = new("running", [], null);
    private static readonly Reference RoleReference = new("role", [], null);

    private readonly Dictionary<string, IConnector> _connectors = connectors.ToDictionary(c => c.By);

    public IConnector ConnectorOf(EstateNode node) => _connectors[node.Reach.By];

    /// <summary>Puts an expression to live readings of a member. A node that can't be reached leaves it open; why says so.</summary>
    public async Task<Probe> ProbeAsync(Estate estate, ProductCatalogue catalogue, Member member, Expression expression, PlanStep? step, CancellationToken ct)
    {
        var node = estate.Nodes[member.Node];
        var product = catalogue.Find(estate.Find(member.Component)!.Product)!;
        var wanted = expression.References.Distinct().Where(r => !r.Key.StartsWith("jump.", StringComparison.Ordinal) && r.Key != "today").ToList();
        IReadOnlyDictionary<Reference, Value> found;
        try { found = wanted.Count == 0 ? new Dictionary<Reference, Value>() : await ConnectorOf(node).ReadAsync(node, member, product, wanted, ct); }
        catch (ConnectorException e) { return new Probe(false, e.Problem.What + (e.Problem.Detail is null ? "" : $" ({e.Problem.Detail})"), Absent: !e.Lasting); }
        var evaluation = Evaluator.Evaluate(expression, r => r.Key switch
        {
            "jump.to" => Label(product, step?.To),
            "jump.from" => Label(product, step?.From),
            "today" => Value.Of(DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime)),
            _ => found.GetValueOrDefault(r),
        });
        return new Probe(evaluation.Holds, evaluation.Explain, Absent: false);
    }

    private static Value? Label(Product product, string? label) => label is not null && product.Scheme.TryParse(label) is { } version ? Value.Of(version) : null;

    /// <summary>Whether a member serves: its product's in-step probe holds, or without one, it tells what it runs.</summary>
    public async Task<bool> ServesAsync(Estate estate, ProductCatalogue catalogue, Member member, CancellationToken ct)
    {
        var product = catalogue.Find(estate.Find(member.Component)!.Product)!;
        if (product.Routines.InStep is { } probe) return (await ProbeAsync(estate, catalogue, member, probe, null, ct)).Holds;
        return (await RunningAsync(estate, catalogue, [member], ct)).TryGetValue(member.Id, out var running) && running is not ("none" or "unreachable");
    }

    /// <summary>What each member runs: its label, <c>none</c> where nothing runs, <c>unreachable</c> where its node does not answer.</summary>
    public async Task<ImmutableSortedDictionary<string, string>> RunningAsync(Estate estate, ProductCatalogue catalogue, IEnumerable<Member> members, CancellationToken ct) =>
        (await SurveyAsync(estate, catalogue, members, ct)).ToImmutableSortedDictionary(r => r.Key, r => r.Value.Reachable ? r.Value.Reading.Running ?? "none" : "unreachable", StringComparer.Ordinal);

    /// <summary>Surveys members side by side; each comes with whether it could be reached and why not.</summary>
    public async Task<IReadOnlyDictionary<string, (bool Reachable, MemberReading Reading, string? Why)>> SurveyAsync(Estate estate, ProductCatalogue catalogue, IEnumerable<Member> members, CancellationToken ct)
    {
        var found = new ConcurrentDictionary<string, (bool, MemberReading, string?)>();
        await Parallel.ForEachAsync(members, new ParallelOptions { MaxDegreeOfParallelism = settings.ReadAtOnce, CancellationToken = ct }, async (member, token) =>
        {
            var node = estate.Nodes[member.Node];
            if (catalogue.Find(estate.Find(member.Component)!.Product) is not { } product) { found[member.Id] = (true, MemberReading.None, "the catalogue does not know its product"); return; }
            var own = product.Readings.Keys.Select(k => new Reference(k, [], null));
            List<Reference> wanted = [RunningReference, RoleReference, new("installed", [], null), new("staged", [], null), .. own];
            if (product.Routines.InStep is { } probe) wanted.AddRange(probe.References);
            try
            {
                var values = await ConnectorOf(node).ReadAsync(node, member, product, [.. wanted.Distinct()], token);
                string? Text(string key) => values.FirstOrDefault(v => v.Key.Key == key).Value?.ToString();
                var serves = product.Routines.InStep is { } inStep ? Evaluator.Evaluate(inStep, r => values.GetValueOrDefault(r)).Holds : Text("running") is not null;
                var rest = values.Where(v => v.Key.Key is not ("running" or "installed" or "staged" or "role")).ToImmutableDictionary(v => v.Key.Key, v => v.Value.ToString());
                found[member.Id] = (true, new MemberReading(Text("running"), Text("installed") ?? Text("running"), Text("staged"), Text("role") ?? member.Role, serves, rest), null);
            }
            catch (ConnectorException e) { found[member.Id] = (false, MemberReading.None, e.Problem.What + (e.Problem.Detail is null ? "" : $" ({e.Problem.Detail})")); }
        });
        return found;
    }
}
