using CsCheck;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Tests;

/// <summary>The process ended at every append and around every effect: nothing is lost, nothing unrepeatable is done
/// twice, nothing temporary stays.</summary>
public sealed class ProcessEndedTests
{
    private static void EndedWell(Carriage carriage, int atOnce = 1)
    {
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        foreach (var node in carriage.Nodes)
        {
            Assert.Equal("7", carriage.Far.RunningOf(node, "app"));
            foreach (var verb in new[] { "stop x", "install x", "start x", "command quiet", "command loud" })
                Assert.Single(carriage.Far.Deeds, d => d == $"{node} {verb}");
        }
        Assert.Empty(carriage.Far.Measures);
        Assert.InRange(carriage.Far.MostStopped, 1, atOnce);
        Assert.Equal(carriage.Far.Deeds.Count, carriage.Far.Deeds.Distinct().Count());
    }

    [Fact]
    public async Task At_every_append_in_turn_in_one_run()
    {
        var carriage = new Carriage();
        // Whoever takes it up reads the members again first; then it comes one entry further.
        var owners = await carriage.ToEndAsync(n => carriage.Journal.Left = n == 1 ? 1 : 2);
        Assert.True(owners > 20, $"only {owners} owners");
        EndedWell(carriage);
    }

    [Fact]
    public async Task At_the_kth_append_for_every_k()
    {
        var whole = new Carriage();
        await whole.ToEndAsync(_ => { });
        for (var k = 0; k < whole.Journal.Entries.Count; k++)
        {
            var carriage = new Carriage();
            await carriage.ToEndAsync(n => carriage.Journal.Left = n == 1 ? k : null);
            EndedWell(carriage);
        }
    }

    [Theory]
    [InlineData("begin")]
    [InlineData("begun")]
    [InlineData("status")]
    [InlineData("raise")]
    public async Task Around_every_call_to_a_far_side(string call)
    {
        for (var k = 1; ; k++)
        {
            var carriage = new Carriage();
            var calls = 0;
            var hit = false;
            carriage.Far.Around = (name, _, _) => name == call && ++calls == k ? throw Hit() : Task.CompletedTask;
            ProcessEnded Hit()
            {
                hit = true;
                return new ProcessEnded();
            }
            await carriage.ToEndAsync(_ => { });
            EndedWell(carriage);
            if (!hit)
                break;
        }
    }

    /// <summary>Random plans: how many members, how many at once, where the process ends, which first attempts fail and
    /// are repeated by the step's own word.</summary>
    [Fact]
    public void At_random_points_of_random_runs_with_failures() =>
        Gen.Select(Gen.Int[2, 6], Gen.Int[1, 3], Gen.Int[0, 12].Array[0, 6], Gen.Int[0, 1_000_000])
            .Sample(
                (members, atOnce, cuts, seed) =>
                {
                    var failing = new Random(seed);
                    var tries = Carriage.Steps.Replace("limit: 1 s", "limit: 1 s, attempts: {times: 3, every: 1 s}");
                    var carriage = new Carriage(
                        members,
                        tries,
                        "[quiet, put]",
                        $"domains: ignored, guard: {{keep: 0, at-once: {atOnce}}}"
                    );
                    var failed = new HashSet<string>();
                    carriage.Far.Outcome = (node, action) =>
                        action.Verb == "install" && failing.Next(3) == 0 && failed.Add(node) ? 1 : 0;
                    carriage
                        .ToEndAsync(n => carriage.Journal.Left = n <= cuts.Length ? cuts[n - 1] : null)
                        .GetAwaiter()
                        .GetResult();
                    EndedWell(carriage, atOnce);
                },
                iter: 300,
                threads: 1
            );

    [Fact]
    public async Task An_owner_that_was_paused_and_returns_does_nothing_any_more()
    {
        var carriage = new Carriage();
        var paused = new TaskCompletionSource();
        var goOn = new TaskCompletionSource();
        var first = true;
        carriage.Far.Around = async (call, node, verb) =>
        {
            if (call == "begin" && verb == "install" && first)
            {
                first = false;
                paused.SetResult();
                await goOn.Task;
            }
        };
        var old = await carriage.OwnerAsync(start: true);
        var stale = old.ExecuteAsync(default);
        await paused.Task;
        var owner = await carriage.OwnerAsync();
        await owner.ExecuteAsync(default);
        EndedWell(carriage);
        goOn.SetResult();
        await Assert.ThrowsAsync<StaleOwnerException>(() => stale);
        EndedWell(carriage);
    }

    [Fact]
    public async Task An_effect_whose_record_is_lost_is_not_repeated_unless_it_may_be()
    {
        foreach (var (repeatable, owners) in new[] { (false, 1), (true, 3) })
        {
            var carriage = new Carriage(
                2,
                Carriage.Steps.Replace(
                    "start: {do: {start: x}}",
                    $"start: {{do: {{start: x}}{(repeatable ? ", repeatable: true" : "")}}}"
                )
            );
            carriage.Far.Around = (call, node, verb) =>
            {
                if (call == "begun" && verb == "start")
                {
                    carriage.Far.Around = (_, _, _) => Task.CompletedTask;
                    carriage.Far.Forget(node);
                    throw new ProcessEnded();
                }
                return Task.CompletedTask;
            };
            await Assert.ThrowsAsync<ProcessEnded>(async () =>
                await (await carriage.OwnerAsync(start: true)).ExecuteAsync(default)
            );
            var next = await carriage.OwnerAsync();
            using var stop = new CancellationTokenSource();
            var working = next.ExecuteAsync(stop.Token);
            var status = await Carriage.UntilAsync(next, working, s =>
                s.Status is RunStatus.Halted or RunStatus.Completed ? s.Status.ToString() : null
            );
            Assert.Equal(repeatable ? "Completed" : "Halted", status);
            Assert.Equal(owners, carriage.Far.Deeds.Count(d => d.EndsWith("start x", StringComparison.Ordinal)));
            await stop.CancelAsync();
            await working.ContinueWith(_ => { }, TaskScheduler.Default);
        }
    }
}
