using TideStep.Core.Checks;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Tests;

namespace TideStep.Core.Tests;

/// <summary>What hosts, components and the library tell beforehand is put to a plan with its numbers.</summary>
public sealed class HostCheckTests
{
    private static readonly DateTimeOffset Now = Nights.At(-9, 12);

    private const string Well =
        "kernel: \"6.1\", disk.fullest: 40 %, disk.mount: /, clock.off: 0.1 s, package-lock.free: true, "
        + "packages.held: \"\", units.failed: \"\", restart.due: false, administrator: true";

    private static Fleet One(string component = "", string product = "", string jump = "", string windows = "") =>
        Windows(
            windows,
            new Fleet()
                .Node(
                    "a[1-3]",
                    "site: s, reach: {by: ssh, address: \"{id}\", account: keeper, key: \"secret:k\", host-keys: h}"
                )
                .With("app", "engine", "1", "\"a[1-3]\"", component)
                .Product(
                    "engine",
                    $"releases: {{\"1\": {{}}, \"2\": {{}}}}\nreadings: {{sessions: {{by: field, unit: "
                        + $"count}}, licence-until: {{by: field, unit: date}}, copies: {{by: field, unit: "
                        + $"count}}}}\n{product}\nsteps: {{put: {{do: {{install: engine-server, version: "
                        + $"\"{{jump.to}}\"}}}}, keep: {{do: {{capture: keep, paths: [/var/lib/engine], to: "
                        + $"/var/backups/engine}}}}}}\njumps:\n  to-2:\n    from: \"=1\"\n    to: \"2\"\n"
                        + $"    methods: {{rolling: {{member: 5 min, settle: 1 min}}}}\n    change: [put]\n{jump}"
                )
        );

    private static Fleet Windows(string windows, Fleet fleet) => windows.Length > 0 ? fleet.Windows(windows) : fleet;

    private static string Member(int number, string values, string running = "1") =>
        $"  app/a{number}: {{running: \"{running}\", values: {{{values}}}}}\n";

    private static string All(string values) => Member(1, values) + Member(2, Well) + Member(3, Well);

    private static CheckRound Of(Fleet fleet, string members, CheckContext? context = null)
    {
        var index = fleet.Index(members);
        return PlanChecks.Of(
            index,
            Fleet.Good(PlanMaker.Make(index, fleet.Path("goal: [{component: app, to: 2}]", members), "e", "c")),
            context ?? new CheckContext(Now)
        );
    }

    private static Finding Find(CheckRound round, string check, string subject) =>
        Assert.Single(round.Findings, f => f.Check == check && f.Subject == subject);

    [Theory]
    [InlineData("disk.fullest: 40 %", "disk.fullest: 97 %", "room", "/ is 97 % full, at most 90 % is asked")]
    [InlineData("clock.off: 0.1 s", "clock.off: -40 s", "clock", "its clock is 40 s behind ours")]
    [InlineData(
        "package-lock.free: true",
        "package-lock.free: false",
        "package-lock",
        "another program holds the package lock"
    )]
    [InlineData(
        "packages.held: \"\"",
        "packages.held: other engine-server",
        "package-held",
        "engine-server is held at its version, and the plan installs it"
    )]
    [InlineData("units.failed: \"\"", "units.failed: engine.service", "services", "failed: engine.service")]
    [InlineData("restart.due: false", "restart.due: true", "restart-due", "the host itself owes a restart")]
    [InlineData("administrator: true", "administrator: false", "rights", "the account may not act as administrator")]
    public void What_a_host_tells_is_found_with_its_numbers(string well, string ill, string check, string what)
    {
        var round = Of(One(), All(Well.Replace(well, ill)));
        var finding = Find(round, check, "a1");
        Assert.Equal((CheckResult.Failed, what, "a1"), (finding.Result, finding.What, finding.Node));
        Assert.NotNull(finding.Remedy);
        Assert.Equal(CheckResult.Passed, Find(round, check, "a2").Result);
    }

    [Fact]
    public void What_a_host_could_not_tell_is_open_with_the_reason_and_an_appliance_is_not_asked()
    {
        var round = Of(
            One(),
            $"  app/a1: {{running: \"1\", values: {{kernel: \"6.1\"}}, missed: {{clock.off: no answer within 10 s}}}}\n"
                + Member(2, "sessions: 1")
                + Member(3, Well)
        );
        Assert.Equal(
            (CheckResult.Open, "clock.off could not be read: no answer within 10 s"),
            (Find(round, "clock", "a1").Result, Find(round, "clock", "a1").What)
        );
        Assert.DoesNotContain(round.Findings, f => f.Subject == "a2" && f.Check == "clock");
    }

    [Fact]
    public void Updates_of_its_own_that_begin_in_the_window_are_told()
    {
        // The window is on Sunday the 29th; its 02:00 is 208 hours after the readings.
        var fleet = One(windows: "  night: {every: sunday, from: \"01:00\", lasts: 5 h}\n");
        Assert.Equal(
            CheckResult.Failed,
            Find(Of(fleet, All(Well + ", updates.next: 208 h")), "updates-of-its-own", "a1").Result
        );
        Assert.Equal(
            CheckResult.Passed,
            Find(Of(fleet, All(Well + ", updates.next: 30 h")), "updates-of-its-own", "a1").Result
        );
    }

    [Fact]
    public void A_rollback_point_needs_room_and_lies_apart()
    {
        const string points = "    points: [{capture: keep, while: stopped}]\n";
        var round = Of(
            One(jump: points),
            All(Well + ", \"size(\\\"/var/lib/engine\\\")\": 4 GiB, \"free(\\\"/var/backups\\\")\": 3 GiB")
        );
        var room = Find(round, "point-room /var/backups/engine", "a1");
        Assert.Equal(
            (CheckResult.Failed, "needs at most 4 GiB in /var/backups/engine, has 3 GiB: 1 GiB short"),
            (room.Result, room.What)
        );
        Assert.Equal(Level.Advice, Find(round, "point-apart /var/backups/engine", "a1").Level);
        var within = Of(
            One(jump: points, product: "")
                .Product(
                    "engine",
                    One(jump: points)
                        .ProductTexts["engine"]
                        .Split('\n', 3)[2]
                        .Replace("to: /var/backups/engine", "to: /var/lib/engine/old")
                ),
            All(Well)
        );
        Assert.Contains("inside /var/lib/engine", Find(within, "point-place /var/lib/engine/old", "a1").What);
    }

    [Fact]
    public void Those_left_must_bear_the_load()
    {
        var fleet = One("capacity: {of: sessions, each: 100}");
        string Loaded(int sessions) =>
            string.Concat(Enumerable.Range(1, 3).Select(i => Member(i, $"sessions: {sessions}")));
        var short_ = Find(Of(fleet, Loaded(90)), "capacity", "app");
        Assert.Equal(
            (CheckResult.Failed, "sessions come to 270; 2 members bear 200: 70 short", 70d),
            (short_.Result, short_.What, short_.ShortBy)
        );
        Assert.Equal(CheckResult.Passed, Find(Of(fleet, Loaded(60)), "capacity", "app").Result);
        Assert.Equal(CheckResult.Open, Find(Of(fleet, Member(1, "sessions: 3")), "capacity", "app").Result);
    }

    [Fact]
    public void A_licence_has_to_last_beyond_the_work_and_one_copy_has_to_be_there()
    {
        var round = Of(
            One(),
            Member(1, $"licence-until: {Nights.On(-7)}, copies: 2")
                + Member(2, $"licence-until: {Nights.On(359)}, copies: 1")
        );
        Assert.Equal(
            (CheckResult.Failed, $"its licence holds through {Nights.On(-7)}, 1 d before the work on {Nights.On(-6)}"),
            (Find(round, "licence", "app/a1").Result, Find(round, "licence", "app/a1").What)
        );
        Assert.Equal(CheckResult.Passed, Find(round, "licence", "app/a2").Result);
        Assert.Equal(
            (CheckResult.Failed, CheckResult.Passed),
            (Find(round, "one-copy", "app/a1").Result, Find(round, "one-copy", "app/a2").Result)
        );
    }

    [Fact]
    public void Connections_that_are_needed_are_asked_for_from_each_host()
    {
        var fleet = One("depends-on: [store]", jump: "")
            .Node(
                "b1",
                "site: s, reach: {by: ssh, address: 10.0.0.9, account: keeper, key: \"secret:k\", host-keys: h}"
            )
            .With("store", "shelf", "3", "b1");
        fleet.Product("shelf", "releases: {\"3\": {}}\n");
        var text = fleet.ProductTexts["shelf"].Replace("id: shelf,", "id: shelf, port: 5432,");
        fleet.Product("shelf", "releases: {\"3\": {}}\n");
        var index = new EstateIndex(
            fleet.Estate,
            Fleet.Good(
                ReadingsDocument.Read(
                    $"tidestep: readings/1\ntaken: {Nights.On(-9)}T10:00:00Z\n"
                        + "components: {app: {running: \"1\"}, store: {running: \"3\"}}\n"
                        + "members:\n  app/a1: {running: \"1\", values: {\"reach(\\\"10.0.0.9\\\", "
                        + "\\\"5432\\\").open\": false}}\n",
                    "r",
                    fleet.Estate
                )
            ),
            Fleet.Good(
                Catalogue.ProductCatalogue.Create([
                    Fleet.Good(Catalogue.ProductDocument.Read(text, "shelf")),
                    Fleet.Good(Catalogue.ProductDocument.Read(fleet.ProductTexts["engine"], "engine")),
                ])
            )
        );
        var path = Fleet.Good(
            Paths.PathFinder.Find(
                new Paths.PathRequest(
                    index,
                    Fleet.Good(GoalDocument.Read("tidestep: goal/1\ngoal: [{component: app, to: 2}]\n", "g")),
                    Nights.Day(-6)
                )
            )
        );
        var round = PlanChecks.Of(index, Fleet.Good(PlanMaker.Make(index, path, "e", "c")), new CheckContext(Now));
        Assert.Equal(
            (CheckResult.Failed, Level.Blocker, "a1 gets no connection to 10.0.0.9, port 5432"),
            (
                Find(round, "connection", "app/a1 to store/b1").Result,
                Find(round, "connection", "app/a1 to store/b1").Level,
                Find(round, "connection", "app/a1 to store/b1").What
            )
        );
    }

    [Fact]
    public void A_name_that_a_host_does_not_know_stands_in_the_way()
    {
        var fleet = Telling("load: {by: field, unit: count}", "depends-on: [hub]")
            .Node(
                "h1",
                "site: s, reach: {by: ssh, address: hub.marram.example, account: keeper, key: \"secret:k\", "
                    + "host-keys: h}"
            )
            .With("hub", "center", "5", "h1")
            .Product("center", "releases: {\"5\": {}}\n");
        string Knows(int number, bool knows) =>
            Member(number, $"\"name(\\\"hub.marram.example\\\").resolves\": {(knows ? "true" : "false")}");
        var round = Of(fleet, Knows(1, true) + Knows(2, false));
        var found = Assert.Single(round.Findings, f => f.Check == "name");
        Assert.Equal(
            ("app/a2 to hub.marram.example", Level.Blocker, "a2 does not know the name hub.marram.example"),
            (found.Subject, found.Level, found.What)
        );
    }

    [Theory]
    [InlineData("hub.marram.example", true)]
    [InlineData("10.0.0.9", false)]
    [InlineData("fd00::9", false)]
    [InlineData("http://127.0.0.1:7471", false)]
    public void Numbers_need_no_name(string address, bool name) => Assert.Equal(name, ComponentChecks.IsName(address));

    private static Fleet Telling(
        string readings,
        string component = "",
        string jump = "",
        string releases = "\"1\": {}, \"2\": {}"
    ) =>
        new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "1", "\"a[1-3]\"", component)
            .Product(
                "engine",
                $"releases: {{{releases}}}\nreadings: {{{readings}}}\n"
                    + $"jumps:\n  to-2:\n    from: \"=1\"\n    to: \"2\"\n    methods: {{rolling: {{member: 20 min, "
                    + $"settle: 10 min}}}}\n    change: [put]\n{jump}\nsteps: {{put: {{do: {{install: engine, "
                    + $"version: \"{{jump.to}}\"}}}}}}"
            );

    [Theory]
    [InlineData(
        "2 GiB",
        CheckResult.Failed,
        "a member is away for up to 30 min, in which it writes 3 GiB at 6 GiB an hour; it may keep 2 GiB: 1 GiB short"
    )]
    [InlineData(
        "3 GiB",
        CheckResult.Passed,
        "a member is away for up to 30 min, in which it writes 3 GiB at 6 GiB an hour; it may keep 3 GiB"
    )]
    public void What_is_kept_for_a_member_that_is_away_has_to_fit(string room, CheckResult result, string what)
    {
        var found = Find(
            Of(
                Telling("log-room: {by: field, unit: bytes}, log-per-hour: {by: field, unit: bytes}"),
                Member(1, $"log-room: {room}, log-per-hour: 6 GiB")
            ),
            "kept-log",
            "app/a1"
        );
        Assert.Equal((result, what), (found.Result, found.What));
    }

    [Fact]
    public void That_nobody_tells_what_is_kept_is_open() =>
        Assert.Equal(
            CheckResult.Open,
            Find(
                Of(Telling("log-room: {by: field, unit: bytes}, log-per-hour: {by: field, unit: bytes}"), ""),
                "kept-log",
                "app"
            ).Result
        );

    [Fact]
    public void A_backlog_is_a_caution_and_stands_in_the_way_where_its_store_is_rebuilt()
    {
        Finding Backlog(string jump, string values) =>
            Find(Of(Telling("backlog: {by: field, unit: count}", jump: jump), Member(1, values)), "backlog", "app/a1");
        Assert.Equal(
            (CheckResult.Failed, Level.Caution, "7 wait to be passed on"),
            Backlog("", "backlog: 7") is var left ? (left.Result, left.Level, left.What) : default
        );
        Assert.Equal(
            (CheckResult.Failed, Level.Blocker, "7 wait to be passed on, and its store is rebuilt"),
            Backlog("    converts: [the store gets a new form]\n", "backlog: 7") is var rebuilt
                ? (rebuilt.Result, rebuilt.Level, rebuilt.What)
                : default
        );
        Assert.Equal(CheckResult.Passed, Backlog("", "backlog: 0").Result);
    }

    [Fact]
    public void A_member_points_to_one_of_those_that_its_component_depends_on()
    {
        var fleet = Telling("parent: {by: field, unit: text}", "depends-on: [hub]")
            .Node("h1")
            .With("hub", "center", "5", "h1")
            .Product("center", "releases: {\"5\": {}}\n");
        var round = Of(fleet, Member(1, "parent: h1") + Member(2, "parent: h9"));
        Assert.Equal(CheckResult.Passed, Find(round, "parent", "app/a1").Result);
        Assert.Equal(
            (CheckResult.Failed, "it points to h9, which is none of hub"),
            (Find(round, "parent", "app/a2").Result, Find(round, "parent", "app/a2").What)
        );
        Assert.Equal(CheckResult.Open, Find(round, "parent", "app/a3").Result);
    }

    [Fact]
    public void What_a_release_removes_is_asked_for_its_users()
    {
        var fleet = Telling(
            "plain-logins: {by: field, unit: count}",
            releases: "\"1\": {}, \"2\": {removes: [{what: plain logins, in-use: plain-logins > 0}, old pages]}"
        );
        Finding Of3(string a, string b, string c) =>
            Find(Of(fleet, Member(1, a) + Member(2, b) + Member(3, c)), "removed", "engine: plain logins");
        var used = Of3("plain-logins: 4", "plain-logins: 0", "");
        Assert.Equal(
            (
                CheckResult.Failed,
                Level.Blocker,
                "engine 2 removes plain logins, and app/a1 still uses it (plain-logins > 0)"
            ),
            (used.Result, used.Level, used.What)
        );
        Assert.Equal(CheckResult.Open, Of3("plain-logins: 0", "plain-logins: 0", "").Result);
        Assert.Equal(CheckResult.Passed, Of3("plain-logins: 0", "plain-logins: 0", "plain-logins: 0").Result);
        Assert.Equal(Level.Caution, Find(Of(fleet, ""), "removed", "engine: old pages").Level);
    }

    [Fact]
    public void A_package_source_that_does_not_answer_stands_in_the_way()
    {
        Assert.Equal(
            CheckResult.Passed,
            Find(Of(One(), All(Well + ", sources.closed: \"\"")), "package-source", "a1").Result
        );
        var closed = Find(
            Of(One(), All(Well + ", sources.closed: \"packages.marram.example:80\"")),
            "package-source",
            "a1"
        );
        Assert.Equal(
            (CheckResult.Failed, Level.Blocker, "no answer from packages.marram.example:80"),
            (closed.Result, closed.Level, closed.What)
        );
    }

    [Fact]
    public void What_people_have_to_do_has_an_owner_a_time_and_instructions()
    {
        var fleet = One(
            jump: "    tasks: [{title: tell the harbour, owner: the harbour desk, ahead: 2 d, instructions: Call "
                + "the desk by telephone.}]\n",
            windows: "  night: {every: sunday, from: \"01:00\", lasts: 5 h}\n"
        );
        var open = Find(Of(fleet, ""), "manual", "tell the harbour");
        Assert.Equal(
            $"the harbour desk has to do it and sign it, by {Nights.On(-2)} 01:00 +00:00: app to 2",
            open.What
        );
        Assert.Equal("Call the desk by telephone. Then sign it with what shows that it is done.", open.Remedy);
        Assert.Contains(
            "which is past",
            Find(Of(fleet, "", new CheckContext(Now.AddDays(8))), "manual", "tell the harbour").What
        );
        var item = Assert.Single(
            ManualItem.Of(
                Fleet.Good(PlanMaker.Make(fleet.Index(""), fleet.Path("goal: [{component: app, to: 2}]", ""), "e", "c"))
            )
        );
        var signed = Find(
            Of(
                fleet,
                "",
                new CheckContext(Now)
                {
                    Signed =
                    [
                        new SignedItem(item.Key, "Robin Dale", Now, "called")
                        {
                            File = new EvidenceFile("call.txt", 2048, "ab"),
                        },
                    ],
                }
            ),
            "manual",
            "tell the harbour"
        );
        Assert.Contains("called (call.txt, 2 KiB)", signed.What);
    }

    [Theory]
    [InlineData("{to: same-minor, else: warn}", "1.1.2", false)]
    [InlineData("{to: same-minor, else: warn}", "1.2", true)]
    [InlineData("{to: any}", "1.2", false)]
    [InlineData("{to: same-build, else: out}", "1.1.2", true)]
    public void Members_are_alike_to_the_degree_that_is_asked(string alike, string odd, bool told)
    {
        var fleet = new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "1.1.1", "\"a[1-3]\"", $"members-alike: {alike}")
            .Product("engine", "releases: {\"1.1.1\": {}, \"1.1.2\": {}, \"1.2\": {}}\n");
        var index = fleet.Index($"  app/a2: {{running: \"{odd}\"}}\n");
        Assert.Equal(
            told ? ["app/a2"] : [],
            Drift.OutOfLineMembers(index, index.Components[0], index.Catalogue.Find("engine")!).Select(o => o.Member.Id)
        );
        Assert.Equal(
            told,
            Drift.Of(index, new Dictionary<string, string>(), Nights.Day(-9)).Any(d => d.Against == "component")
        );
    }

    [Fact]
    public void Artefacts_must_be_there_whole_and_what_the_catalogue_means()
    {
        const string sum = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa";
        var fleet = One(jump: $"    artefacts: [{{id: main, file: engine-2.deb, sha256: {sum}}}]\n");
        CheckRound With(params HeldArtefact[] held) =>
            Of(fleet, "", new CheckContext(Now) { Library = held.ToDictionary(h => h.Name) });
        Assert.Contains("not in the library", Find(With(), "artefact", "engine-2.deb").What);
        Assert.Contains(
            "not whole",
            Find(With(new HeldArtefact("engine-2.deb", 10, sum, false)), "artefact", "engine-2.deb").What
        );
        Assert.Contains(
            "not the file that is meant",
            Find(With(new HeldArtefact("engine-2.deb", 10, new string('b', 64), true)), "artefact", "engine-2.deb").What
        );
        Assert.Equal(
            CheckResult.Passed,
            Find(With(new HeldArtefact("engine-2.deb", 10, sum, true)), "artefact", "engine-2.deb").Result
        );
    }

    [Fact]
    public void Tide_Step_itself_has_to_be_new_enough()
    {
        var fleet = One();
        fleet.Product("engine", fleet.ProductTexts["engine"].Split('\n', 3)[2]);
        var own = fleet.ProductTexts["engine"].Replace("id: engine,", "id: engine, needs: \">=0.9\",");
        var index = new EstateIndex(
            fleet.Estate,
            fleet.Index().Readings,
            Fleet.Good(Catalogue.ProductCatalogue.Create([Fleet.Good(Catalogue.ProductDocument.Read(own, "engine"))]))
        );
        var path = Fleet.Good(
            Paths.PathFinder.Find(
                new Paths.PathRequest(
                    index,
                    Fleet.Good(GoalDocument.Read("tidestep: goal/1\ngoal: [{component: app, to: 2}]\n", "g")),
                    Nights.Day(-6)
                )
            )
        );
        var plan = Fleet.Good(PlanMaker.Make(index, path, "e", "c"));
        Assert.Equal(
            CheckResult.Failed,
            Find(
                PlanChecks.Of(index, plan, new CheckContext(Now) { OwnVersion = "0.1.0" }),
                "tide-step",
                "engine"
            ).Result
        );
        Assert.Equal(
            CheckResult.Passed,
            Find(PlanChecks.Of(index, plan, new CheckContext(Now) { OwnVersion = "1.0" }), "tide-step", "engine").Result
        );
    }
}
