using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

/// <summary>For whom a step is done, under which condition, with what in its place, and what its own report
/// tells.</summary>
public sealed class StepFormTests
{
    private static Fleet Of(
        string change,
        string steps,
        string rest = "",
        string routines = "leave: [stop], return: [start]"
    ) =>
        new Fleet()
            .Sites("  s: {turn: 1}\n  t: {turn: 2}\n")
            .Node("n[1-2]", "site: s")
            .Node("m[1-2]", "site: t, traits: {cpu: arm}")
            .With("app", "engine", "6", "\"n[1-2]\", \"m[1-2]\"", rest)
            .Product(
                "engine",
                $$$"""
                releases: {"6": {}, "7": {}}
                jumps:
                  to-7: {from: "=6", to: "7", methods: {rolling: {member: 1 min, settle: 1 min}}, change: {{{change}}}}
                  to-6: {from: "=7", to: "6", down: true, methods: {rolling: {member: 1 min, settle: 1 min}},
                      change: [put]}
                routines: { {{{routines}}} }
                readings: {mode: {by: field, unit: text}}
                steps:
                  put: {do: {install: x, version: "{jump.to}"}}
                  stop: {do: {stop: x}}
                  start: {do: {start: x}}
                {{{steps}}}

                """
            );

    private static Plan PlanOf(Fleet fleet) =>
        Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));

    private static IEnumerable<PlanStep> Steps(Plan plan) =>
        plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps);

    private static string[] WhoDoes(Plan plan, string step) =>
        [.. Steps(plan).Where(s => s.Name == step).Select(s => s.Node)];

    [Theory]
    [InlineData("member", "n1 n2 m1 m2")]
    [InlineData("once", "m1")]
    [InlineData("first", "m1")]
    [InlineData("last", "n2")]
    [InlineData("site", "n1 m1")]
    [InlineData("wave", "n1 n2 m1 m2")]
    public void A_step_is_done_for_whom_its_scope_says(string scope, string nodes)
    {
        var plan = PlanOf(Of("[look, put]", $"  look: {{do: {{command: [look]}}, scope: {scope}}}"));
        Assert.Equal(nodes.Split(' ').Order(), WhoDoes(plan, "look").Order());
        Assert.Equal(4, WhoDoes(plan, "put").Length);
    }

    [Fact]
    public void Of_a_wave_of_several_the_first_does_what_is_for_the_wave()
    {
        var plan = PlanOf(
            Of("[look, put]", "  look: {do: {command: [look]}, scope: wave}", "guard: {keep: 1, at-once: 2}")
        );
        var waves = plan.Blocks.Where(b => b.Phase == Phase.Roll).ToList();
        Assert.All(waves, w => Assert.Single(w.Lanes.SelectMany(l => l.Steps), s => s.Name == "look"));
        Assert.Equal(waves.Count, WhoDoes(plan, "look").Length);
    }

    [Fact]
    public void A_step_is_done_only_where_a_trait_of_the_component_or_else_of_the_node_says_so()
    {
        var plan = PlanOf(
            Of(
                "[arm, sync, other, put]",
                """
                  arm: {do: {command: [arm]}, for: {cpu: [arm, riscv]}}
                  sync: {do: {command: [sync]}, for: {commit: synchronous}}
                  other: {do: {command: [other]}, for: {commit: relaxed}}
                """,
                "traits: {commit: synchronous}"
            )
        );
        Assert.Equal(["m1", "m2"], WhoDoes(plan, "arm").Order());
        Assert.Equal(4, WhoDoes(plan, "sync").Length);
        Assert.Empty(WhoDoes(plan, "other"));
    }

    private const string Stopping =
        "  stop-all: {title: stop, do: {stop: services}, takes: 90 s}\n"
        + "  start-all: {title: start, do: {start: services}, verify: 'mode = \"up\"'}";

    private static Fleet WithServices()
    {
        var fleet = Of("[put]", Stopping, routines: "leave: [stop-all], return: [start-all]");
        return fleet.Document(
            "engine",
            fleet.ProductTexts["engine"].Replace("{id: engine,", "{id: engine, services: [web, worker, base],")
        );
    }

    [Fact]
    public void All_services_are_stopped_in_their_order_and_started_in_reverse_each_proved_by_itself()
    {
        var plan = PlanOf(WithServices());
        var lane = plan.Blocks[0].Lanes[0];
        Assert.Equal(
            ["stop: web", "stop: worker", "stop: base"],
            lane.Steps.Where(s => s.Name == "stop-all").Select(s => s.Title)
        );
        Assert.Equal(
            ["start: base", "start: worker", "start: web"],
            lane.Steps.Where(s => s.Name == "start-all").Select(s => s.Title)
        );
        Assert.All(lane.Steps.Where(s => s.Name == "stop-all"), s =>
            Assert.Equal(TimeSpan.FromSeconds(30), s.Expected)
        );
        Assert.Equal(
            ["service(\"web\").active = false", "service(\"web\").active"],
            new[]
            {
                lane.Steps.First(s => s.Title == "stop: web").Verify!.Text,
                lane.Steps.First(s => s.Title == "start: web").Already!.Text,
            }
        );
        // What proves the whole is asked after the last.
        Assert.Equal(
            ["service(\"base\").active", "service(\"worker\").active", "mode = \"up\""],
            lane.Steps.Where(s => s.Name == "start-all").Select(s => s.Verify!.Text)
        );
    }

    [Fact]
    public void What_stood_still_before_stays_so_forwards_and_on_the_way_back()
    {
        var fleet = WithServices();
        var plan = PlanOf(fleet);
        var lane = plan.Blocks[0].Lanes[0];
        RunState After(DoneHow how, bool attempted)
        {
            var (state, at) = (new RunState(plan), DateTimeOffset.UnixEpoch);
            void Say(params RunEvent[] events)
            {
                foreach (var e in events)
                    state.Apply(new JournalEntry("r", state.Sequence + 1, 1, at += TimeSpan.FromSeconds(1), e));
            }
            Say(
                new Opened(plan.Digest, "", "Wren", null),
                new MembersRead("before", plan.Premises.Running),
                new Started("Wren"),
                new BlockEntered(1)
            );
            foreach (var step in lane.Steps.TakeWhile(s => s.Name != "start-all"))
            {
                var worker = step.Title == "stop: worker";
                Say(new StepBegun(step.Id));
                if (!worker || attempted)
                    Say(
                        new Intended(step.Id, "a" + step.Id, 1, step.Node, false),
                        new AttemptEnded(step.Id, "a" + step.Id, AttemptEnd.Succeeded, 0, "", false)
                    );
                Say(new StepDone(step.Id, worker ? how : DoneHow.Done));
            }
            return state;
        }
        var start = lane.Steps.First(s => s.Title == "start: worker");
        Assert.True(RunBinding.StoodStill(start, After(DoneHow.Already, attempted: false)));
        // Stopped by an attempt whose end was not heard, it ran before.
        Assert.False(RunBinding.StoodStill(start, After(DoneHow.Already, attempted: true)));
        Assert.False(RunBinding.StoodStill(start, After(DoneHow.Done, attempted: true)));
        Assert.False(
            RunBinding.StoodStill(
                lane.Steps.First(s => s.Title == "start: web"),
                After(DoneHow.Already, attempted: false)
            )
        );
        string[] BroughtBack(RunState state) =>
            [
                .. Steps(Fleet.Good(ReturnPlanner.Make(fleet.Index(), "r", state, 1, "e", "c")))
                    .Where(s => s.Name == "start-all")
                    .Select(s => s.Title),
            ];
        Assert.Equal(["start: base", "start: web"], BroughtBack(After(DoneHow.Already, attempted: false)));
        Assert.Equal(["start: base", "start: worker", "start: web"], BroughtBack(After(DoneHow.Done, attempted: true)));
    }

    [Fact]
    public void What_a_step_takes_from_readings_is_bound_as_the_journal_has_it_its_undo_as_well()
    {
        var fleet = Of("[set, put]", "  set: {do: {command: [set, open]}, undo: {command: [set, \"{reading.mode}\"]}}");
        var plan = PlanOf(fleet);
        var step = Steps(plan).First(s => s.Name == "set");
        var (state, index) = (new RunState(plan), fleet.Index());
        Assert.Equal(["mode"], RunBinding.ReadingsOf(step));
        Assert.Equal("set: 'mode' was not read", RunBinding.Of(step, state, index.Estate).Missing);
        void Say(RunEvent e) => state.Apply(new JournalEntry("r", state.Sequence + 1, 1, DateTimeOffset.UnixEpoch, e));
        Say(
            new ParametersRead(step.Id, ImmutableSortedDictionary<string, string>.Empty.Add("mode", "closed; rm -rf /"))
        );
        // Read again later it would be what the step itself has made of it.
        Say(new ParametersRead(step.Id, ImmutableSortedDictionary<string, string>.Empty.Add("mode", "open")));
        var (bound, missing) = RunBinding.Of(step, state, index.Estate);
        Assert.Null(missing);
        Assert.Equal(["set", "closed; rm -rf /"], ((CommandAction)bound.Undo!).Arguments);
    }

    [Fact]
    public void A_secret_stands_in_the_plan_by_its_name_alone()
    {
        var plan = PlanOf(Of("[join, put]", "  join: {do: {command: [join, --key-file, \"{secret.Relay_key}\"]}}"));
        var step = Steps(plan).First(s => s.Name == "join");
        Assert.Equal(["join", "--key-file", "{secret.Relay_key}"], ((CommandAction)step.Do).Arguments);
        Assert.Equal(["Relay_key"], RunBinding.SecretsOf(step));
        foreach (
            var elsewhere in new[]
            {
                "{request: \"http://x/{secret.key}\"}",
                "{install: \"{secret.key}\", version: \"7\"}",
                "{stop: \"{secret.key}\"}",
            }
        )
        {
            var fleet = Of("[join, put]", $"  join: {{do: {elsewhere}}}");
            Assert.Contains(
                "engine.yaml:14:14: step join: nothing binds the placeholder {secret.key}",
                Assert.Throws<InvalidOperationException>(() => fleet.Index()).Message
            );
        }
    }

    [Theory]
    [InlineData("1000 objects, 0 failed", null)]
    [InlineData("first pass: 9 failed\n1000 objects, 0 failed\ndone", null)]
    [InlineData("1000 objects, 3 failed", "it tells failed 3, at most 0 may be")]
    [InlineData("10 objects, 0 failed", "it tells objects 10, at least 100 must be")]
    [InlineData("done", "its output does not tell 'failed'; its output does not tell 'objects'")]
    public void A_conversions_own_report_decides_whether_it_succeeded(string output, string? wrong) =>
        Assert.Equal(
            wrong,
            ToldNumbers
                .Of(
                    [
                        new ToldNumber("failed", "([0-9]+) failed", null, 0),
                        new ToldNumber("objects", "([0-9]+) objects", 100, null),
                    ],
                    output
                )
                .Wrong
        );

    [Theory]
    [InlineData("  look: {do: {stop: services}}", "it is for all services, and the product names none")]
    [InlineData("  look: {do: {command: [x]}, scope: twice}", "'twice' is no valid scope")]
    [InlineData(
        "  look: {do: {command: [x]}, scope: once, on: others}",
        "what is done on others belongs to each member"
    )]
    [InlineData("  look: {do: {command: [x]}, for: {cpu: []}}", "'cpu' needs a value")]
    [InlineData("  look: {do: {command: [x]}, tells: {failed: 'failed'}}", "no regular expression with a group")]
    [InlineData(
        "  look: {do: {command: [x]}, tells: {failed: {pattern: '([0-9]+)', at-most: many}}}",
        "'many' is no number"
    )]
    [InlineData("  look: {do: {capture: a, by: [], to: /b}}", "'by' must be a list of arguments")]
    [InlineData(
        "  look: {do: {capture: a, by: [dump], paths: [/x], to: /b}}",
        "a point is written by a command, or paths are captured"
    )]
    [InlineData("  look: {do: {capture: a, by: [dump]}}", "nothing says where the point is written")]
    public void What_is_written_of_steps_has_to_make_sense(string step, string problem) =>
        Assert.Contains(
            problem,
            string.Join(
                "; ",
                ProductDocument.Read(Of("[look, put]", step).ProductTexts["engine"], "engine.yaml").Problems
            )
        );

    private const string Snap =
        "  snap: {do: {capture: snap, take: {request: \"http://{node.address}/snapshots\", body: '{\"name\": "
        + "\"{point.name}\"}'}, there: {request: \"http://{node.address}/snapshots/{point.name}\", method: "
        + "GET}, says: complete, bytes: 'size ([0-9]+)', take-away: {query: \"select "
        + "drop_snapshot({point.name})\"}}}";

    [Fact]
    public void A_point_that_the_far_side_keeps_is_known_by_the_name_that_the_run_gives_it()
    {
        var plan = PlanOf(Of("[put], points: [{capture: snap, while: stopped}]", Snap));
        var step = Steps(plan).First(s => s is { Node: "n1", Name: "snap" });
        Assert.NotNull(step.Point);
        var kept = ((CaptureAction)step.Do).Kept!;
        // The plan is the same for every run: what the run knows is put in only there.
        Assert.Equal("http://n1/snapshots/{point.name}", ((RequestAction)kept.There).Url);
        Assert.Equal("http://n1/snapshots/a%2Fb-r1", ((RequestAction)RunBinding.Named(kept.There, "a/b-r1")).Url);
        Assert.Equal("{\"name\": \"a\\u0022b\"}", ((RequestAction)RunBinding.Named(kept.Take!, "a\"b")).Body);
        Assert.Equal(
            ("select drop_snapshot($1)", "x"),
            (
                ((QueryAction)RunBinding.Named(kept.TakeAway!, "x")).Statement,
                ((QueryAction)RunBinding.Named(kept.TakeAway!, "x")).Parameters[0]
            )
        );
    }

    [Theory]
    [InlineData("capture: snap, says: complete", "'says' is for a point that the far side keeps itself")]
    [InlineData("capture: snap, there: {command: [look]}, to: /var/backups", "is no file of ours")]
    [InlineData("capture: snap, there: {command: [look]}, says: '('", "'says' is no regular expression")]
    [InlineData("capture: snap, there: {command: [look]}, bytes: '[0-9]+'", "with a group for the number")]
    [InlineData("capture: snap, there: {install: x, version: '1'}", "must be a command, a request or a query")]
    [InlineData("capture: snap, there: {}", "must name one action")]
    public void What_does_not_tell_how_a_kept_point_is_known_is_refused(string action, string why)
    {
        var read = ProductDocument.Read(
            Of("[put]", $"  snap: {{do: {{{action}}}}}").ProductTexts["engine"],
            "engine.yaml"
        );
        Assert.Contains(read.Problems, f => f.What.Contains(why, StringComparison.Ordinal) && f.At is not null);
    }

    [Theory]
    [InlineData("attempts: {times: 3, when: {statuses: [75, 300]}}", "'300' is no exit status")]
    [InlineData("attempts: {times: 3, when: {says: '('}}", "'says' is no regular expression")]
    [InlineData("attempts: {times: 3, when: {}}", "no kind of failure is named")]
    [InlineData("attempts: {when: {unverified: true}}", "with one attempt nothing is tried again")]
    [InlineData("milestones: [unpack, {title: convert}]", "nothing tells when 'convert' begins")]
    [InlineData("milestones: [{title: unpack, says: '('}]", "'says' is no regular expression")]
    [InlineData("ends-well: [0, x]", "'x' is no exit status")]
    public void Kinds_of_failure_that_mean_nothing_are_told_with_their_place(string key, string what)
    {
        var read = ProductDocument.Read(
            "tidestep: product/1\nproduct: p\nreleases: {\"1\": {}}\nsteps:\n  a: {do: {command: [a]}, " + key + "}\n",
            "p.yaml"
        );
        Assert.Contains(read.Problems, p => p.What.Contains(what, StringComparison.Ordinal) && p.At!.Line == 5);
    }

    [Theory]
    [InlineData("do: {stop: x}, ends-well: [0, 1]", "only a command ends with a status of its own")]
    [InlineData(
        "do: {capture: a, paths: [/d]}, attempts: {times: 2, when: {unverified: true}}",
        "a rollback point is looked at anyway"
    )]
    public void What_has_no_status_of_its_own_can_name_none(string step, string what) =>
        Assert.Contains(
            ProductDocument
                .Read("tidestep: product/1\nproduct: p\nreleases: {\"1\": {}}\nsteps:\n  a: {" + step + "}\n", "p.yaml")
                .Problems,
            p => p.What.Contains(what, StringComparison.Ordinal)
        );

    [Theory]
    [InlineData("", 1)]
    [InlineData("Unpacking 40 %", 1)]
    [InlineData("Unpacking 100 %\nConverting table 3 of 90", 2)]
    [InlineData("Starting up", 3)] // what was passed over between two looks has begun too
    [InlineData("Starting up\nConverting again", 3)]
    public void A_long_step_has_come_as_far_as_its_output_says(string output, int begun) =>
        Assert.Equal(
            begun,
            Milestone.Begun(
                [
                    new Milestone("unpack", null, null),
                    new Milestone("convert", "Converting table", TimeSpan.FromHours(1)),
                    new Milestone("start", "^Starting|\nStarting", null),
                ],
                output
            )
        );
}
