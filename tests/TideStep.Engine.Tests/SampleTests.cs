using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Surveys;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>Samples: objects that are chosen once, before the work, and asked for again after it.</summary>
public sealed class SampleTests
{
    /// <summary>Chooses other objects each time, and tells of those that it is asked for whether they are
    /// there.</summary>
    private sealed class Store : IConnector
    {
        public string By => "person";
        public HashSet<string> There { get; } = [.. "abcdef".Select(c => $"{c}")];
        public Queue<string> Choices { get; } = new(["a,b,c", "d,e,f"]);
        public List<string> Asked { get; } = [];

        public Task<Taken> ReadAsync(
            EstateNode node,
            Member member,
            Product product,
            IReadOnlyCollection<Reference> wanted,
            CancellationToken ct
        )
        {
            var found = new Dictionary<Reference, Value>();
            foreach (var reference in wanted)
            {
                var collector = product.Readings[reference.Key];
                lock (Asked)
                    Asked.Add($"{member.Node} {string.Join(' ', collector.Command)}");
                if (collector.Command[0] == "count")
                    found[reference] = Value.Of(collector.Command[1].Split(',').Count(There.Contains));
                else if (Choices.TryDequeue(out var choice))
                    found[reference] = Value.Of(choice);
            }
            return Task.FromResult(new Taken(found, new Dictionary<Reference, string>()));
        }

        public Task<FenceReading> RaiseAsync(
            EstateNode node,
            string installation,
            long epoch,
            long position,
            CancellationToken ct
        ) => throw new NotSupportedException();

        public Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct) =>
            throw new NotSupportedException();

        public Task<AttemptReading> StatusAsync(
            EstateNode node,
            string installation,
            string attempt,
            TimeSpan wait,
            CancellationToken ct
        ) => throw new NotSupportedException();

        public Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct) =>
            throw new NotSupportedException();
    }

    private static readonly Fleet Estate = new Fleet()
        .Node("n1")
        .With("app", "engine", "6", "n1")
        .Product(
            "engine",
            """
            releases: {"6": {}, "7": {}}
            jumps:
              to-7: {from: "=6", to: "7", methods: {offline: {outage: 1 min}}, change: [put]}
            steps:
              put: {do: {install: x, version: "{jump.to}"}}
            readings:
              some: {by: command, command: [choose]}
              those: {by: command, command: [count, "{keys}"], unit: count}
            before-and-after:
              bookings: {of: those, keys: some}

            """
        );

    private readonly Store _store = new();
    private readonly Plan _plan = Fleet.Good(
        PlanMaker.Make(Estate.Index(), Estate.Path("goal: [{component: app, to: 7}]"), "e", "c")
    );

    private Task<ImmutableSortedDictionary<string, string>> AnswersAsync(IReadOnlyDictionary<string, string>? before) =>
        new MemberReader(
            [_store],
            new EngineSettings(1, TimeSpan.FromMilliseconds(1), 4, "."),
            TimeProvider.System
        ).AnswersAsync(Estate.Estate, Estate.Catalogue, _plan.Asks, before, CancellationToken.None);

    [Fact]
    public async Task What_was_chosen_before_is_asked_for_after_and_nothing_is_chosen_again()
    {
        var before = await AnswersAsync(null);
        Assert.Equal("3", before[BeforeAndAfter.Key("app/n1", "bookings")]);
        Assert.Equal("a,b,c", before[BeforeAndAfter.KeysOf("app/n1", "bookings")]);
        // Of what is there as a whole nothing seems to be missing; of what was chosen one is.
        _store.There.Remove("b");
        _store.There.Add("g");
        var after = await AnswersAsync(before);
        Assert.Equal(["n1 choose", "n1 count a,b,c", "n1 count a,b,c"], _store.Asked);
        var compared = Assert.Single(BeforeAndAfter.Of(_plan, before, after));
        Assert.Equal((false, "fell by 1 (33.3 %)"), (compared.Borne, compared.What));
    }

    [Fact]
    public async Task Where_nothing_could_be_chosen_nothing_counts_as_lost()
    {
        _store.Choices.Clear();
        var before = await AnswersAsync(null);
        Assert.Empty(before);
        Assert.Empty(await AnswersAsync(before));
        Assert.True(Assert.Single(BeforeAndAfter.Of(_plan, before, before)).Borne);
        Assert.Equal(["n1 choose"], _store.Asked);
    }
}
