using System.Text.Json.Nodes;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Tests;

namespace TideStep.Engine.Tests.Records;

/// <summary>Upgrades drawn at random, with faults, are carried out over programs with data, and the far side's own
/// record is held against the plan.</summary>
public sealed class RandomUpgradeTests(ITestOutputHelper output)
{
    [Theory]
    [InlineData(0, 15)]
    public Task What_the_far_side_recorded_is_what_the_plan_says(int first, int count) =>
        CarriedAsync(first, count, troubled: false);

    [Theory(Explicit = true)]
    [InlineData(1000, 200)]
    public Task Of_two_hundred_estates_every_record_and_every_promise_holds(int first, int count) =>
        CarriedAsync(first, count, troubled: true);

    /// <summary>One of them again, by its seed in <c>TIDESTEP_SEED</c>, with its journal.</summary>
    [Fact(Explicit = true)]
    public async Task One_of_them_again()
    {
        var seed = int.Parse(Environment.GetEnvironmentVariable("TIDESTEP_SEED")!);
        var drawn = new RandomUpgrade(seed);
        var told = await OneAsync(drawn, seed, troubled: true, output.WriteLine);
        output.WriteLine($"{drawn.Fleet.Texts}\n{drawn.Goal}\n{Rows(told!.Plan)}");
        Assert.True(told.Wrong.Count == 0, string.Join("\n", told.Wrong));
    }

    // Untroubled, the same is done each time: no service ends, no step fails, nobody decides by chance.
    private async Task CarriedAsync(int first, int count, bool troubled)
    {
        var (features, gate) = (new Dictionary<string, int>(), new Lock());
        var (ends, promises, wrong) = (new Dictionary<string, int>(), 0, new List<string>());
        await Parallel.ForEachAsync(Enumerable.Range(first, count), async (seed, _) =>
        {
            var drawn = new RandomUpgrade(seed);
            var told = await OneAsync(drawn, seed, troubled);
            lock (gate)
                Take(seed, drawn, told);
        });
        output.WriteLine(
            $"{count} estates: {string.Join(", ", ends.Select(e => $"{e.Value} {e.Key}"))}; {promises} returns carried "
                + $"out in copies; {string.Join(", ", features.OrderBy(f => f.Key).Select(f => $"{f.Key} {f.Value}"))}"
        );
        Assert.True(wrong.Count == 0, string.Join("\n", wrong.Take(20)));
        Assert.True(ends["Completed"] * 4 > count, "too few runs came to their end");
        Assert.True(promises > count, "too few returns were promised to show anything");
        foreach (var feature in Rarest)
            Assert.True(features.GetValueOrDefault(feature) * 25 >= count, $"'{feature}' is drawn too rarely");

        void Take(int seed, RandomUpgrade drawn, Told? told)
        {
            var end = told?.End.ToString() ?? "without a plan";
            ends[end] = ends.GetValueOrDefault(end) + 1;
            foreach (var feature in drawn.Features)
                features[feature] = features.GetValueOrDefault(feature) + 1;
            if (told is null)
                return;
            promises += told.Carried;
            wrong.AddRange(told.Wrong.Select(w => $"seed {seed}: {w}"));
            if (told.Wrong.Count > 0)
                output.WriteLine(
                    $"seed {seed}: {string.Join("; ", told.Wrong)}\n{drawn.Fleet.Texts}\n{drawn.Goal}\n"
                        + Rows(told.Plan)
                );
        }
    }

    /// <summary>What became of one.</summary>
    /// <param name="Carried">How many returns were carried out in copies.</param>
    private sealed record Told(Plan Plan, RunEnd End, int Carried, List<string> Wrong);

    private static string Rows(Plan plan) =>
        string.Join("\n", plan.Blocks.Select(b => $"{b.Number} {b.Title}: {b.Return.State}, {b.Return.Why}"));

    private static readonly string[] Rarest =
    [
        "depends",
        "optional",
        "related",
        "rolling",
        "measure member",
        "measure wave",
        "measure jump",
        "measure run",
        "person",
        "converts",
        "closing",
        "converts back",
        "way down",
        "point stopped",
        "point serving",
        "point of the component",
        "ahead",
        "first ahead",
        "attempts",
        "already",
    ];

    private static async Task<Told?> OneAsync(RandomUpgrade drawn, int seed, bool troubled, Action<string>? tell = null)
    {
        var index = drawn.Fleet.Index();
        var path = drawn.Fleet.Path(drawn.Goal);
        if (!path.Found)
            return null;
        var made = PlanMaker.Make(index, path, "e", "c");
        if (made.Value is not { } plan)
            return null;
        var (far, chance, faults) = (new DataFleet(), new Random(seed), 0);
        foreach (var member in index.Components.SelectMany(c => c.Members))
            far.Add(member.Id, index.Readings.Of(member).Running!);
        var (start, gate) = (far.Copy(), new Lock());
        bool Strikes(double share)
        {
            lock (gate)
                return troubled && faults < 6 && chance.NextDouble() < share && faults++ >= 0;
        }
        far.Fails = (_, action) => action.Verb != "check-point" && Strikes(0.05) ? 7 : null;
        far.IsAway = _ => Strikes(0.02);
        var voyage = new Voyage(index, plan, far, new Random(seed + 1)) { Troubled = troubled };
        RunEnd end;
        try
        {
            end = await voyage.ToEndAsync();
        }
        catch (InvalidOperationException e)
        {
            return new Told(plan, RunEnd.Abandoned, 0, [e.Message]);
        }
        var wrong = RecordCheck.Of(plan, voyage, far).ToList();
        var (carried, broken) = await RecordCheck.OfPromisesAsync(index, plan, voyage, start);
        wrong.AddRange(CarriedOn(plan, voyage.Journal.Entries));
        foreach (var entry in voyage.Journal.Entries)
            tell?.Invoke($"{entry.Sequence} {entry.Event}");
        if (voyage.Returns.Carried > 0)
            drawn.Features.Add("return decided on");
        return new Told(plan, end, carried, [.. wrong, .. broken, .. voyage.Surprises, .. voyage.Returns.Wrong]);
    }

    // What a state carries on with every entry is what one finds who looks at everything afresh.
    private static IEnumerable<string> CarriedOn(Plan plan, IReadOnlyList<JournalEntry> entries)
    {
        var (live, kept) = (new RunState(plan), new RunState(plan));
        _ = live.Tide;
        var steps = plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => s.Id).ToList();
        foreach (var entry in entries)
        {
            live.Apply(entry);
            kept.Apply(entry);
            if (entry.Sequence % 7 != 0 && entry.Sequence != entries.Count)
                continue;
            var fresh = RunState.Fold(plan, entries.Take((int)entry.Sequence));
            if (
                !live.Tide.Views.SequenceEqual(fresh.Tide.Views)
                || !live.Tide.Arrivals(9).SequenceEqual(fresh.Tide.Arrivals(9))
                || live.StepsDone != steps.Count(s => fresh.Of(s).Status == StepStatus.Done)
                || !live.FailedSteps.ToHashSet().SetEquals(steps.Where(s => fresh.Of(s).Status == StepStatus.Failed))
                || !live
                    .OpenAttempts.Select(o => o.Step)
                    .ToHashSet()
                    .SetEquals(steps.Where(s => fresh.Of(s).Open is not null))
            )
                yield return $"after entry {entry.Sequence} what was carried on is not what is there";
            // Put away and taken up again, time after time, it is the same state and goes on the same way.
            kept = RunMemento.Read(plan, RunMemento.Write(RunMemento.Copy(kept)));
            if (
                Fields(kept) != Fields(fresh)
                || !NextWork.Of(kept).Select(w => $"{w}").SequenceEqual(NextWork.Of(fresh).Select(w => $"{w}"))
            )
                yield return $"after entry {entry.Sequence} what was taken up is not what was put away";
        }
    }

    // All that is in a state; sets and dictionaries in an order of their own, lists as they are.
    private static string Fields(RunState state)
    {
        var all = JsonNode.Parse(RunMemento.Write(RunMemento.Copy(state)))!.AsObject();
        return string.Join(
            '\n',
            all.Select(f =>
                f.Value is JsonArray many && !Lists.Any(l => f.Key.Contains(l, StringComparison.Ordinal))
                    ? $"{f.Key} {string.Join(' ', many.Select(v => v?.ToJsonString()).Order(StringComparer.Ordinal))}"
                    : $"{f.Key} {f.Value?.ToJsonString()}"
            )
        );
    }

    private static readonly string[] Lists = ["_measures", "Decisions", "Signed", "Kept", "Orders"];
}
