using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Core.Tests;

/// <summary>A plan names what it needs besides its steps: answers, artefacts, people, time.</summary>
public sealed class PlanNeedsTests
{
    private static Fleet Two(
        string jump,
        string readings = "",
        string steps = "put: {do: {install: x, version: \"{answer.mode}\"}}"
    ) =>
        new Fleet()
            .Node("a1", "site: s, traits: {cpu: small}")
            .Node("a2", "site: s, traits: {cpu: wide}")
            .With("app", "engine", "1", "a1, a2")
            .With("web", "engine", "1", "a1, a2")
            .Product(
                "engine",
                $"releases: {{\"1\": {{}}, \"2\": {{problems: [{{what: slow at first, prevent: warm it "
                    + $"up}}]}}}}\njumps:\n  up: {{from: \"=1\", to: \"2\", methods: {{rolling: {{member: 5 "
                    + $"min}}}}, change: [put]{jump}}}\n  back: {{from: \"=2\", to: \"1\", down: true, methods: "
                    + $"{{rolling: {{member: 5 min}}}}, artefacts: [{{id: old, file: old.pkg}}]}}\n"
                    + $"readings: {{size: {{by: field, unit: bytes}}}}\nsteps: {{{steps}}}\n{readings}"
            );

    private static Checked<Plan> Make(
        Fleet fleet,
        string goal = "goal: [{product: engine, to: 2}]",
        string members = ""
    ) => PlanMaker.Make(fleet.Index(members), fleet.Path(goal, members), "e", "c");

    private const string Asks = ", answers: [{id: mode, asks: \"Which mode?\"}]";

    [Fact]
    public void A_question_is_asked_once_and_its_answer_goes_wherever_it_is_named()
    {
        var plan = Fleet.Good(Make(Two(Asks), "goal: [{product: engine, to: 2}]\nanswers: {mode: calm}"));
        Assert.Equal(
            ("mode", "Which mode?", "calm", true),
            plan.Answers.Select(a => (a.Id, a.Asks, a.Answer, a.Given)).Single()
        );
        Assert.Equal([1, 2], plan.Answers[0].Moves);
        Assert.All(
            plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => s.Do).OfType<InstallAction>(),
            i => Assert.Equal("calm", i.Version)
        );
    }

    [Fact]
    public void A_question_that_nobody_answered_is_a_problem_unless_something_holds_otherwise()
    {
        var problem = Assert.Single(Make(Two(Asks)).Problems, p =>
            p.What.Contains("Which mode?", StringComparison.Ordinal)
        );
        Assert.Equal("Add to the goal: answers: {mode: ...}.", problem.Hint);
        var plan = Fleet.Good(Make(Two(", answers: [{id: mode, asks: \"Which mode?\", otherwise: plain}]")));
        Assert.Equal(("plain", false), (plan.Answers[0].Answer, plan.Answers[0].Given));
    }

    [Fact]
    public void An_answer_to_nothing_is_noted_with_the_nearest_question_and_stands_in_no_way() =>
        Assert.Contains(
            Fleet.Good(Make(Two(Asks), "goal: [{product: engine, to: 2}]\nanswers: {mode: calm, mood: x}")).Notes,
            n =>
                n.Contains("answers 'mood', which nothing on this path asks", StringComparison.Ordinal)
                && n[n.IndexOf(';')..].Contains("mode", StringComparison.Ordinal)
        );

    private const string Plain = "put: {do: {command: [x]}}";

    [Fact]
    public void Each_host_variant_has_its_artefact_and_the_return_path_its_own()
    {
        var plan = Fleet.Good(
            Make(
                Two(
                    ", artefacts: [{id: new, file: small.pkg, size: 2 MiB, for: {cpu: small}}, {id: new, "
                        + "file: wide.pkg, for: {cpu: wide}}]",
                    steps: Plain
                )
            )
        );
        Assert.Equal(
            [("small.pkg", "a1", false), ("old.pkg", "a1 a2", true), ("wide.pkg", "a2", false)],
            plan.Artefacts.Select(a => (a.File!, string.Join(" ", a.Nodes), a.ForReturn))
        );
        Assert.Equal(2 * 1024 * 1024, plan.Artefacts[0].Bytes);
    }

    [Fact]
    public void A_node_for_which_no_variant_is_made_is_a_problem()
    {
        var problems = Make(Two(", artefacts: [{id: new, file: small.pkg, for: {cpu: small}}]", steps: Plain)).Problems;
        Assert.Contains(problems, p =>
            p.What.Contains("app on a2: no variant of the artefact 'new'", StringComparison.Ordinal)
            && p.Hint!.Contains("the node has cpu wide", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void What_people_have_to_do_is_sorted_by_its_time()
    {
        var plan = Fleet.Good(
            Make(
                Two(
                    ", converts: [the index], tasks: [{title: look, when: after}, {title: tell, when: "
                        + "before}, {title: clear, when: later}, {title: watch, when: inside}]",
                    steps: Plain
                ),
                "goal: [{component: app, to: 2}]"
            )
        );
        Assert.Equal(
            ["tell", "warm it up (known of 2: slow at first)", "watch", "look", "clear"],
            plan.Tasks.Select(t => t.Title)
        );
        Assert.Equal(["app: the index"], plan.Moves[0].Converts);
    }

    [Fact]
    public void Time_grows_with_what_a_step_works_on_and_may_be_longer()
    {
        var fleet = Two(
            "",
            steps: "put: {do: {command: [x]}, takes: {base: 1 min, each: 2 min, per: 1 GiB, of: size, up-to: 150%}}"
        );
        var plan = Fleet.Good(
            Make(fleet, "goal: [{component: app, to: 2}]", "  app/a1: {running: \"1\", values: {size: 3 GiB}}\n")
        );
        var steps = plan
            .Blocks.SelectMany(b => b.Lanes)
            .SelectMany(l => l.Steps)
            .Where(s => s.Name == "put")
            .ToDictionary(s => s.Node);
        Assert.Equal(
            (TimeSpan.FromMinutes(7), TimeSpan.FromMinutes(10.5)),
            (steps["a1"].Expected, steps["a1"].AtMost!.Value)
        );
        Assert.Equal("1 min and 2 min for each 1 GiB of size: 3 GiB", steps["a1"].Reckoning);
        Assert.Equal(TimeSpan.FromMinutes(1), steps["a2"].Expected);
        Assert.EndsWith("which is not known", steps["a2"].Reckoning);
        Assert.Equal(TimeSpan.FromMinutes(10.5), plan.Blocks[0].AtMost);
    }

    [Fact]
    public void Points_captured_with_everything_stopped_belong_together()
    {
        var fleet = new Fleet()
            .Node("a[1-2]")
            .With("app", "engine", "1", "\"a[1-2]\"")
            .Product(
                "engine",
                "releases: {\"1\": {}, \"2\": {}}\njumps:\n  up: {from: \"=1\", to: \"2\", methods: "
                    + "{offline: {outage: 5 min}}, points: [{capture: save, while: stopped}, {capture: copy, "
                    + "while: serving}], change: [put]}\nsteps: {put: {do: {command: [x]}}, save: {do: {capture: "
                    + "save}}, copy: {do: {capture: copy}}}\n"
            );
        var plan = Fleet.Good(Make(fleet, "goal: [{component: app, to: 2}]"));
        Assert.Equal(
            [(null, "copy"), (null, "copy"), ("m1", "save"), ("m1", "save")],
            plan.Points.Select(p => (p.Set, p.Kind))
        );
    }

    [Theory]
    [InlineData("takes: {each: 2 min, per: soon, of: size}", "'per' must be a size")]
    [InlineData("takes: {base: 2 min, up-to: 90%}", "'up-to' must be a share of at least 100%")]
    [InlineData("takes: {each: 2 min, per: 1 GiB}", "'of' is missing")]
    public void A_time_that_is_not_understood_is_said_with_its_place(string takes, string says) =>
        Assert.Contains(
            ProductDocument
                .Read($"tidestep: product/1\nproduct: p\nsteps:\n  put: {{do: {{command: [x]}}, {takes}}}\n", "p.yaml")
                .Problems,
            p => p.What.Contains(says, StringComparison.Ordinal) && p.At is { Line: 4 }
        );

    [Fact]
    public void Between_two_releases_parts_are_added_dropped_renamed_and_split()
    {
        var fleet = new Fleet().Product(
            "engine",
            "releases:\n  \"1\": {parts: [core, tools, old, table]}\n"
                + "  \"2\": {parts: [core, {name: helpers, was: tools}, table], brings: [speed]}\n"
                + "  \"3\": {parts: [core, {name: aids, was: helpers}, {name: left, was: table}, {name: right, "
                + "was: table}, extra], deprecates: [core], problems: [{what: slow, prevent: wait}]}\n"
        );
        var changes = Fleet.Good(ReleaseChanges.Of(fleet.Catalogue, "engine", "1", "3"));
        Assert.Equal("extra", Assert.Single(changes.Added));
        Assert.Equal("old", Assert.Single(changes.Dropped));
        Assert.Equal(
            "tools > aids",
            string.Join(", ", changes.Renamed.Select(r => $"{r.Was} > {string.Join(" ", r.Is)}"))
        );
        Assert.Equal(
            "table > left right",
            string.Join(", ", changes.Split.Select(r => $"{r.Was} > {string.Join(" ", r.Is)}"))
        );
        Assert.Equal(
            ["2 brings speed", "3 deprecates core", "3 problem slow; prevented by: wait"],
            changes.Notes.Select(n => $"{n.Release} {n.Kind} {n.What}")
        );
        Assert.Contains("'3'", Assert.Single(ReleaseChanges.Of(fleet.Catalogue, "engine", "1", "33").Problems).Hint);
        Assert.Contains(
            "does not come after",
            Assert.Single(ReleaseChanges.Of(fleet.Catalogue, "engine", "3", "1").Problems).What
        );
    }

    [Fact]
    public void What_a_step_of_the_plan_itself_prevents_is_nobodys_task()
    {
        var fleet = Two("", steps: Plain);
        fleet.Product(
            "engine",
            fleet.ProductTexts["engine"].Split('\n', 3)[2].Replace("prevent: warm it up", "prevent: put")
        );
        Assert.DoesNotContain(Fleet.Good(Make(fleet)).Tasks, t =>
            t.Title.Contains("slow at first", StringComparison.Ordinal)
        );
    }
}
