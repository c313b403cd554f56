using System.Collections.Immutable;
using Microsoft.Data.Sqlite;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>The desks as the service uses them, on a real store: what is imported, what may start, what is taken up
/// again.</summary>
public sealed class DeskTests : DeskBed
{
    [Fact]
    public async Task A_damaged_row_of_the_list_is_made_anew_from_the_journal()
    {
        var run = await OpenAsync();
        Task<IReadOnlyList<RunLine>> ListAsync() =>
            new RunList(_runs, _store).OfAsync(10, null, null, null, null, default);
        var before = Assert.Single(await ListAsync());
        await InTheDatabaseAsync("update run_lines set body = '{'");
        Assert.Equal(before, Assert.Single(await ListAsync()));
        var (_, _, kept) = Assert.Single(await _store.LinesAsync(10, null, null, default));
        Assert.Equal(run, kept!.Run);
        Assert.NotEqual("{", kept.Body);
    }

    [Theory]
    [InlineData(
        "update journal set event = '{\"event\":\"started\"' where run = '{run}' and sequence = 3",
        "entry 3 of run {run} is not what was written"
    )]
    [InlineData("update runs set parent = 'r0' where id = '{run}'", "the row of run {run} is not what was written")]
    [InlineData(
        "delete from journal where position = (select max(position) from journal where run = '{run}')",
        "is missing"
    )]
    [InlineData("delete from journal where run = '{run}' and sequence = 2", "entry 2")]
    [InlineData("update plans set body = replace(body, '\"6\"', '\"5\"')", "was changed where it is kept")]
    public async Task What_is_damaged_sets_its_run_aside_and_everything_else_works(string damage, string said)
    {
        var (damaged, whole) = (await OpenAsync(), await OpenAsync());
        Assert.Empty(await _runs.StartAsync(damaged, "Wren", default));
        await EndOf(damaged);
        var ofPlan = damage.Contains("plans", StringComparison.Ordinal);
        await InTheDatabaseAsync(damage.Replace("{run}", damaged, StringComparison.Ordinal));
        await _runs.ResumeAsync(default);
        var lines = await new RunList(_runs, _store).OfAsync(10, null, null, null, null, default);
        Assert.Equal(2, lines.Count);
        Assert.Contains(
            said.Replace("{run}", damaged, StringComparison.Ordinal),
            lines.Single(l => l.Run == damaged).SetAside
        );
        Assert.Equal(ofPlan, lines.Single(l => l.Run == whole).SetAside is not null);
        await Assert.ThrowsAsync<DamagedRecordException>(() => _runs.StateAsync(damaged, default));
        if (!ofPlan)
            Assert.NotNull(await _runs.StateAsync(whole, default));
    }

    [Fact]
    public async Task A_database_of_a_newer_program_is_refused_in_words()
    {
        await _store.DisposeAsync();
        await using (
            var connection = new SqliteConnection($"Data Source={Path.Combine(_folder, "t.db")};Pooling=False")
        )
        {
            await connection.OpenAsync();
            await using var command = connection.CreateCommand();
            command.CommandText = "insert into schema_versions (number, at) values (999, 'later')";
            await command.ExecuteNonQueryAsync();
        }
        var refused = Assert.Throws<StoreUnavailableException>(Open);
        Assert.Contains("was written by a newer Tide Step: its schema is 999", refused.Message);
        // What was refused holds nothing: it can be tried again.
        Assert.Contains("newer", Assert.Throws<StoreUnavailableException>(Open).Message);
    }

    [Fact]
    public async Task Lists_are_rows_that_follow_the_journal()
    {
        var run = await OpenAsync();
        var list = new RunList(_runs, _store);
        async Task<RunLine> LineAsync() => Assert.Single(await list.OfAsync(10, null, null, "run app", null, default));
        Assert.Equal(RunStatus.Ready, (await LineAsync()).Status);
        Assert.Empty(await _runs.StartAsync(run, "Wren", default));
        await EndOf(run);
        for (var twice = 0; twice < 2; twice++)
            Assert.Equal((RunStatus.Completed, 1.0), ((await LineAsync()).Status, (await LineAsync()).Share));
        Assert.Empty(await list.OfAsync(10, null, null, "no such word", null, default));
        Assert.Empty(await list.OfAsync(10, null, null, null, s => s == RunStatus.Halted, default));
        await _store.ForgetRowsAsync(default);
        Assert.Equal(RunStatus.Completed, (await LineAsync()).Status);
    }

    [Fact]
    public async Task Words_that_several_instances_keep_at_the_same_moment_are_all_kept()
    {
        // Each has a desk of its own on the same store, as instances have.
        SharedDocument<ImmutableArray<string>> Desk() => new(_store, "words", [], TimeProvider.System);
        await Task.WhenAll(
            Enumerable
                .Range(0, 40)
                .Select(i => Task.Run(() => Desk().ChangeAsync("plan", all => all.Add($"w{i}"), "Wren", default)))
        );
        Assert.Equal(
            Enumerable.Range(0, 40).Select(i => $"w{i}").Order(),
            (await Desk().ReadAsync("plan", default)).Order()
        );
        // What changes nothing is no revision.
        await Desk().ChangeAsync("plan", all => all, "Wren", default);
        Assert.Equal(40, (await _store.FindAsync("words", "plan", default))!.Revision);
        Assert.Empty(await Desk().ReadAsync("another plan", default));
    }

    [Fact]
    public async Task A_survey_of_a_part_leaves_the_others_as_old_as_they_were()
    {
        await _estates.SurveyAsync("Wren", default);
        var before = await _estates.ReadingsAsync(default);
        _far.SetRunning("n1", "app", "7");
        _far.SetRunning("n2", "app", "7");
        await _estates.SurveyAsync("Wren", new SurveyScope(Node: "n1"), default);
        var after = await _estates.ReadingsAsync(default);
        Assert.Equal(("7", "6"), (after.Members["app/n1"].Running, after.Members["app/n2"].Running));
        Assert.Equal(before.TakenOf("app/n2"), after.TakenOf("app/n2"));
        Assert.True(after.TakenOf("app/n1") > before.TakenOf("app/n1"));
        Assert.Equal(
            "there is no node 'n3'",
            new SurveyScope(Node: "n3").Wrong((await _estates.CurrentEstateAsync(default))!)!.What
        );
        Assert.Equal(
            ["7", "6"],
            (await _estates.HistoryAsync("app/n1", "running", 10, default)).Take(2).Select(h => h.Value)
        );
        var view = (await _estates.MemberAsync("app/n2", default))!;
        Assert.Equal(("6", before.TakenOf("app/n2")), (view.Readings.First(r => r.Name == "running").Value, view.At));
    }

    [Fact]
    public void A_survey_is_due_so_long_after_the_last_whoever_took_it()
    {
        var now = Nights.At(-9, 12);
        Assert.Null(SurveySchedule.Due(new SurveyEvery(null, ""), now, now));
        Assert.Equal(
            now.AddHours(5),
            SurveySchedule.Due(new SurveyEvery(TimeSpan.FromHours(6), "Wren"), now.AddHours(-1), now)
        );
        Assert.Equal(now, SurveySchedule.Due(new SurveyEvery(TimeSpan.FromHours(6), "Wren"), now.AddDays(-3), now));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Surveys_of_two_parts_that_overlap_lose_nothing_of_each_other(bool ofAnotherInstance)
    {
        await _estates.SurveyAsync("Wren", default);
        var other = ofAnotherInstance
            ? new EstateDesk(_store, new MemberReader([_far], _settings, TimeProvider.System), TimeProvider.System)
            : _estates;
        _far.SetRunning("n1", "app", "7");
        _far.SetRunning("n2", "app", "7");
        // The first has read its part, and is done only after the second.
        var (reading, second) = (new TaskCompletionSource(), new TaskCompletionSource());
        _far.Around = async (call, node, _) =>
        {
            if (call == "read" && node == "n1")
            {
                reading.TrySetResult();
                await second.Task;
            }
        };
        var first = _estates.SurveyAsync("Wren", new SurveyScope(Node: "n1"), default);
        await reading.Task;
        await other.SurveyAsync("Wren", new SurveyScope(Node: "n2"), default);
        second.SetResult();
        await first;
        var after = await _estates.ReadingsAsync(default);
        Assert.Equal(("7", "7"), (after.Members["app/n1"].Running, after.Members["app/n2"].Running));
    }

    [Fact]
    public async Task A_run_is_opened_started_and_ends_with_what_was_read_before_and_after()
    {
        var run = await OpenAsync();
        Assert.Empty(_far.Deeds);
        Assert.Empty(await _runs.StartAsync(run, "Wren", default));
        var state = await EndOf(run);
        Assert.Equal(RunEnd.Completed, state.End);
        Assert.Equal("6", state.Before["app/n1"]);
        Assert.Equal("7", state.After["app/n1"]);
    }

    [Fact]
    public async Task What_is_planned_next_rests_on_what_a_run_left_and_says_who_read_it()
    {
        var run = await OpenAsync();
        Assert.Empty(await _runs.StartAsync(run, "Wren", default));
        await EndOf(run);
        var readings = await _estates.ReadingsAsync(default);
        Assert.Equal(("7", "7"), (readings.Members["app/n1"].Running, readings.Members["app/n2"].Running));
        Assert.Equal($"run {run}", (await _estates.SurveysAsync(1, null, default)).Single().By);
        var (_, again) = await _estates.PathAsync(Goal, "goal.yaml", forPlan: false, null, default);
        Assert.True(again.Value!.AlreadyMet);
    }

    [Fact]
    public async Task Standing_orders_given_before_the_start_go_with_the_run()
    {
        var run = await OpenAsync();
        Assert.Null(
            await _runs.SayAsync(
                run,
                s => Orders.Give(s, [new StandingOrder(DecisionKind.StopHere, TimeSpan.FromMinutes(5), 1)], "Ida"),
                default
            )
        );
        Assert.NotNull(await _runs.SayAsync(run, s => Orders.GoOn(s, "Ida"), default));
        Assert.Empty(_far.Deeds);
        Assert.Empty(await _runs.StartAsync(run, "Wren", default));
        var state = await EndOf(run);
        Assert.Equal(DecisionKind.StopHere, Assert.Single(state.Orders).Decision);
        Assert.Equal(RunEnd.Completed, state.End);
    }

    [Fact]
    public async Task A_member_that_owes_a_restart_serves_though_its_product_wants_both_versions_alike()
    {
        var fleet = Two;
        var text = fleet.ProductTexts["engine"].Replace("routines: {", "routines: {in-step: 'running = installed', ");
        Assert.Empty((await ImportAsync(new IncomingDocument("engine.yaml", text))).Problems);
        _far.Installed["n1 app"] = "7";
        await _estates.SurveyAsync("Wren", default);
        var reading = (await _estates.ReadingsAsync(default)).Members["app/n1"];
        Assert.Equal(("6", "7", true), (reading.Running, reading.Installed, reading.InService));
    }

    [Fact]
    public async Task A_run_can_be_started_once()
    {
        var run = await OpenAsync();
        await _runs.StartAsync(run, "Wren", default);
        Assert.Contains("has been started", Assert.Single(await _runs.StartAsync(run, "Wren", default)).What);
        await EndOf(run);
    }

    [Fact]
    public async Task A_member_that_runs_something_else_by_now_refuses_the_start_and_changes_nothing()
    {
        var run = await OpenAsync();
        _far.SetRunning("n2", "app", "7");
        Assert.Contains(
            "app/n2 runs 7, the plan expects 6",
            Assert.Single(await _runs.StartAsync(run, "Wren", default)).What
        );
        Assert.Empty(_far.Deeds);
        Assert.Equal(RunStatus.Ready, (await _runs.StateAsync(run, default))!.Status);
    }

    [Fact]
    public async Task A_document_that_changed_since_the_plan_refuses_the_start()
    {
        var run = await OpenAsync();
        Assert.Empty(
            (
                await ImportAsync(
                    new IncomingDocument(
                        "engine.yaml",
                        Two.ProductTexts["engine"].Replace("1 min, settle", "2 min, settle")
                    )
                )
            ).Problems
        );
        Assert.Contains(await _runs.StartAsync(run, "Wren", default), p =>
            p.What.Contains("catalogue has changed", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_wrong_document_imports_nothing_of_all_that_came_with_it()
    {
        var (before, _) = await _estates.RevisionsAsync(default);
        var (saved, problems) = await ImportAsync(
            new IncomingDocument("estate.yaml", Two.Node("n9").EstateText),
            new IncomingDocument("bad.yaml", "tidestep: product/1\nproduct: bad\nreleses: {}\n")
        );
        Assert.Empty(saved);
        Assert.Contains(problems, p =>
            p.At is { File: "bad.yaml", Line: 3 } && p.Hint!.Contains("releases", StringComparison.Ordinal)
        );
        Assert.Equal(before, (await _estates.RevisionsAsync(default)).Estate);
    }

    [Fact]
    public async Task Readings_without_an_estate_and_a_goal_are_refused_at_import()
    {
        var (_, problems) = await ImportAsync(new IncomingDocument("goal.yaml", Goal));
        Assert.Contains("a goal is not imported", Assert.Single(problems).What);
    }

    [Fact]
    public async Task A_component_that_a_run_works_on_is_held_from_every_other_run()
    {
        var (first, second) = (await OpenAsync(), await OpenAsync());
        _far.Outcome = (_, action) => action.Verb == "install" ? 1 : 0;
        await _runs.StartAsync(first, "Wren", default);
        Assert.Equal(RunStatus.Halted, (await EndOf(first)).Status);
        _far.SetRunning("n1", "app", "6");
        Assert.Contains(await _runs.StartAsync(second, "Tern", default), p =>
            p.What.Contains(first, StringComparison.Ordinal) || p.What.Contains("app/n1", StringComparison.Ordinal)
        );
        Assert.Equal(RunStatus.Ready, (await _runs.StateAsync(second, default))!.Status);
    }

    [Fact]
    public async Task A_plan_that_is_opened_and_started_at_once_leaves_no_run_behind_when_it_is_refused()
    {
        var (plan, _) = await _estates.MakePlanAsync(Goal, "goal.yaml", "Wren", null, default);
        _far.SetRunning("n2", "app", "7");
        Assert.Contains(
            "app/n2 runs 7",
            Assert.Single((await _runs.OpenAndStartAsync(plan.Value!.Digest, "", "Wren", default)).Problems).What
        );
        _far.SetRunning("n2", "app", "6");
        Assert.Empty(await _store.RunsAsync(false, 10, null, default));
        _far.Outcome = (_, action) => action.Verb == "install" ? 1 : 0;
        var (first, none) = await _runs.OpenAndStartAsync(plan.Value.Digest, "", "Wren", default);
        Assert.Empty(none);
        Assert.Equal(RunStatus.Halted, (await EndOf(first!)).Status);
        _far.SetRunning("n1", "app", "6");
        var (second, held) = await _runs.OpenAndStartAsync(plan.Value.Digest, "", "Tern", default);
        Assert.Null(second);
        Assert.NotEmpty(held);
        Assert.Equal(first, Assert.Single(await _store.RunsAsync(false, 10, null, default)).Id);
    }

    [Fact]
    public async Task A_start_that_the_services_end_broke_off_holds_nothing()
    {
        var broken = await OpenAsync();
        await _store.ReserveAsync(broken, ["component app"], default);
        await _runs.ResumeAsync(default);
        Assert.Empty(await _store.ReserveAsync("another", ["component app"], default));
    }

    [Fact]
    public async Task A_service_that_starts_again_takes_up_what_had_begun()
    {
        var run = await OpenAsync();
        var reached = new TaskCompletionSource();
        var never = new TaskCompletionSource();
        _far.Around = async (call, _, verb) =>
        {
            if (call == "begin" && verb == "install" && reached.TrySetResult())
                await never.Task;
        };
        await _runs.StartAsync(run, "Wren", default);
        await reached.Task;
        never.SetCanceled();
        await _runs.DisposeAsync();
        await _store.DisposeAsync();
        _far.Around = (_, _, _) => Task.CompletedTask;
        Open();
        await _runs.ResumeAsync(default);
        Assert.Equal(RunEnd.Completed, (await EndOf(run)).End);
        Assert.Equal(2, _far.Deeds.Count(d => d.EndsWith("install x", StringComparison.Ordinal)));
    }

    [Fact]
    public async Task On_a_full_disk_a_run_holds_and_nothing_is_begun_and_with_room_it_goes_on()
    {
        var run = await OpenAsync();
        var (full, again) = (new TaskCompletionSource(), new TaskCompletionSource());
        _logged = what =>
            (
                what.Contains("is interrupted", StringComparison.Ordinal) ? full
                : what.Contains("can't be taken up yet", StringComparison.Ordinal) ? again
                : null
            )?.TrySetResult();
        _far.Around = (call, node, verb) =>
        {
            if (call == "begun" && node == "n1" && verb == "install")
                _disk.Full = true;
            return Task.CompletedTask;
        };
        await _runs.StartAsync(run, "Wren", default);
        await full.Task.WaitAsync(TimeSpan.FromSeconds(60));
        await again.Task.WaitAsync(TimeSpan.FromSeconds(60));
        Assert.DoesNotContain(_far.Deeds, d => d.StartsWith("n2", StringComparison.Ordinal));
        _far.Around = (_, _, _) => Task.CompletedTask;
        _disk.Full = false;
        for (
            var tries = 0;
            _runs.ExecutorOf(run) is null && (await _runs.StateAsync(run, default))!.End is null;
            tries++, await Task.Delay(50)
        )
            Assert.True(tries < 1200, "the run is not taken up again");
        Assert.Equal(RunEnd.Completed, (await EndOf(run)).End);
        Assert.Equal(2, _far.Deeds.Count(d => d.EndsWith("install x", StringComparison.Ordinal)));
    }

    [Fact]
    public async Task A_survey_keeps_what_it_read_and_names_what_it_could_not_reach()
    {
        _far.SetRunning("n1", "app", "7");
        _far.Around = (call, node, _) => node == "n2" && call == "read" ? throw FarSide.Away(node) : Task.CompletedTask;
        var (readings, unreached) = await _estates.SurveyAsync("Wren", default);
        Assert.Equal("app/n2", Assert.Single(unreached).Member);
        Assert.Equal("7", readings.Of((await _estates.IndexAsync(default))!.Estate.FindMember("app/n1")!).Running);
    }

    [Theory]
    [InlineData("move 9")]
    [InlineData("yesterday")]
    public async Task A_place_to_return_to_that_is_not_there_is_named(string place)
    {
        var run = await OpenAsync();
        var plan = await _runs.WayBack.PlanAsync(run, (await _runs.StateAsync(run, default))!, place, default);
        Assert.Contains(place, Assert.Single(plan.Problems).What);
    }

    [Fact]
    public async Task What_is_not_there_is_said()
    {
        Assert.Contains("no plan", (await _runs.OpenAsync("sha256:none", "", "Wren", default)).Problem!.What);
        Assert.Contains("no run", Assert.Single(await _runs.StartAsync("r0", "Wren", default)).What);
        Assert.Null(await _runs.StateAsync("r0", default));
    }

    [Fact]
    public async Task A_run_is_taken_up_from_what_was_kept_of_it_and_what_came_since()
    {
        _every = 4;
        await _runs.DisposeAsync();
        await _store.DisposeAsync();
        Open();
        var run = await OpenAsync();
        _far.Outcome = (node, _) => node == "n2" ? 1 : 0;
        Assert.Empty(await _runs.StartAsync(run, "Wren", default));
        Assert.Equal(RunStatus.Halted, (await EndOf(run)).Status);
        StoredSnapshot? kept = null;
        for (var i = 0; i < 1000 && kept is null; i++, await Task.Delay(5))
            kept = await _store.FindSnapshotAsync(run, RunMemento.Shape, default);
        Assert.InRange(kept!.Sequence, 4, (await _store.ReadAsync(run, 0, default)).Count);
        Assert.Null(await _store.FindSnapshotAsync(run, "another shape", default));
        // Whatever becomes of it, the state is the journal's.
        foreach (
            var damage in new[]
            {
                null,
                "update run_snapshots set body = 'x'",
                "update run_snapshots set shape = 'of tomorrow'",
                "update run_snapshots set sequence = 2",
                "delete from run_snapshots",
            }
        )
        {
            await _runs.DisposeAsync();
            if (damage is not null)
                await InTheDatabaseAsync(damage);
            else
            {
                await _store.DisposeAsync();
                Open();
            }
            var (state, folded) = (
                (await _runs.StateAsync(run, default))!,
                RunState.Fold((await _runs.StateAsync(run, default))!.Plan, await _store.ReadAsync(run, 0, default))
            );
            Assert.Equal((folded.Sequence, folded.Status, folded.Halt), (state.Sequence, state.Status, state.Halt));
            Assert.Equal(NextWork.Of(folded).Select(w => $"{w}"), NextWork.Of(state).Select(w => $"{w}"));
        }
        // It goes on from there to its end.
        _far.Outcome = (_, _) => 0;
        await _runs.ResumeAsync(default);
        Assert.Null(
            await _runs.SayAsync(
                run,
                s => ([new Decided(DecisionKind.TryAgain, "Wren", null, null) { Step = s.FailedSteps.First() }], null),
                default
            )
        );
        Assert.Equal(RunEnd.Completed, (await EndOf(run)).End);
    }
}
