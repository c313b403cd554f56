using TideStep.Core.Estates;

namespace TideStep.StandIn.Tests;

/// <summary>The fleet's nodes behave as real far sides do, faults included; runs are judged by their record, so it must
/// be right.</summary>
public sealed class SimulatedNodeTests
{
    private const string Estate =
        "tidestep: estate/1\nestate: t\nsites: {s: {}}\nnodes: {\"n[1-2]\": {site: s, reach: {by: stand-in, "
        + "address: x}}}\ncomponents: {app: {product: p, members: [\"n[1-2]\"]}}\n";
    private static readonly string Readings =
        $"tidestep: readings/1\ntaken: {Nights.On(-9)}T10:00:00Z\ncomponents: {{app: {{running: \"1.0\"}}}}\n";

    private readonly Fleet _fleet;
    private int _attempts;

    public SimulatedNodeTests()
    {
        var estate = EstateDocument.Read(Estate, "estate.yaml").Value!;
        _fleet = new Fleet(estate, ReadingsDocument.Read(Readings, "readings.yaml", estate).Value!, pace: 0);
    }

    private SimulatedNode Node => _fleet.Find("n1")!;
    private MemberReport Member => Node.Report().Members.Single();

    private AttemptRequest Request(
        string verb,
        string[] arguments,
        long epoch = 1,
        string? id = null,
        long? startBy = null
    ) =>
        new(
            "t1",
            id ?? $"a{++_attempts}",
            epoch,
            1,
            startBy ?? DateTimeOffset.UtcNow.AddMinutes(1).ToUnixTimeSeconds(),
            "app",
            verb,
            arguments
        );

    private async Task<AttemptStatus> Do(string verb, params string[] arguments)
    {
        var request = Request(verb, arguments);
        Assert.Null(Node.Begin(request));
        return await EndOf(request.Attempt);
    }

    private async Task<AttemptStatus> EndOf(string attempt)
    {
        for (var i = 0; i < 5000; i++)
        {
            if (Node.Status("t1", attempt) is { State: not "running" } ended)
                return ended;
            await Task.Delay(1);
        }
        throw new TimeoutException(attempt);
    }

    [Fact]
    public async Task An_installed_version_is_not_in_effect_until_the_service_starts_again()
    {
        await Do("install", "p", "2.0");
        Assert.Equal(("1.0", "2.0"), (Member.Running, Member.Installed));
        await Do("stop", "p");
        Assert.False(Member.Serving);
        await Do("start", "p");
        Assert.Equal("2.0", Member.Running);
    }

    [Fact]
    public void An_older_epoch_is_refused_and_leaves_no_deed()
    {
        Node.Raise(new FenceRequest("t1", 5, 40));
        Assert.Contains("below 5", Node.Begin(Request("stop", ["p"], epoch: 4)));
        Assert.Empty(_fleet.Record.All);
        Assert.Equal(new FenceState(5, 40), Node.Raise(new FenceRequest("t1", 3, 10)));
    }

    [Fact]
    public void Installations_have_fences_of_their_own()
    {
        Node.Raise(new FenceRequest("other", 9, 9));
        Assert.Null(Node.Begin(Request("stop", ["p"])));
    }

    [Fact]
    public async Task The_same_attempt_is_carried_out_once()
    {
        Assert.Null(Node.Begin(Request("install", ["p", "2.0"], id: "a")));
        Assert.Contains("known already", Node.Begin(Request("install", ["p", "2.0"], id: "a")));
        await EndOf("a");
        Assert.Single(_fleet.Record.All, d => d.What == "begun");
    }

    [Fact]
    public void What_comes_too_late_is_refused() =>
        Assert.Contains("start-by", Node.Begin(Request("stop", ["p"], startBy: 1000)));

    [Fact]
    public void What_never_came_is_unknown() => Assert.Equal("unknown", Node.Status("t1", "never").State);

    [Fact]
    public async Task A_fault_for_one_time_strikes_once_and_only_its_action()
    {
        Node.Fault(new FaultRequest("n1", "install", "fail-once"));
        Assert.Equal(0, (await Do("stop", "p")).ExitCode);
        Assert.Equal(1, (await Do("install", "p", "2.0")).ExitCode);
        Assert.Equal("1.0", Member.Installed);
        Assert.Equal(0, (await Do("install", "p", "2.0")).ExitCode);
    }

    [Fact]
    public async Task A_lasting_fault_strikes_until_it_is_switched_off()
    {
        Node.Fault(new FaultRequest("n1", "*", "fail-always"));
        Assert.Equal(1, (await Do("stop", "p")).ExitCode);
        Assert.Equal(1, (await Do("stop", "p")).ExitCode);
        Node.ClearFaults();
        Assert.Equal(0, (await Do("stop", "p")).ExitCode);
    }

    [Theory]
    [InlineData("disk-full", 28)]
    [InlineData("bad-checksum", 4)]
    public async Task An_install_that_is_struck_changes_nothing(string fault, int status)
    {
        Node.Fault(new FaultRequest("n1", "install", fault));
        Assert.Equal(status, (await Do("install", "p", "2.0")).ExitCode);
        Assert.Equal("1.0", Member.Installed);
    }

    [Fact]
    public async Task A_wrong_version_starts_as_it_was()
    {
        Node.Fault(new FaultRequest("n1", "start", "wrong-version"));
        await Do("install", "p", "2.0");
        await Do("stop", "p");
        await Do("start", "p");
        Assert.Equal(("1.0", "2.0"), (Member.Running, Member.Installed));
    }

    [Theory]
    [InlineData("record-torn", "torn")]
    [InlineData("record-missing", "unknown")]
    public async Task A_record_can_be_torn_or_missing_though_the_deed_was_done(string fault, string state)
    {
        Node.Fault(new FaultRequest("n1", "*", fault));
        Assert.Null(Node.Begin(Request("install", ["p", "2.0"], id: "a")));
        for (var i = 0; i < 5000 && Member.Installed != "2.0"; i++)
            await Task.Delay(1);
        Assert.Equal(state, Node.Status("t1", "a").State);
        Assert.Equal("2.0", Member.Installed);
    }

    [Fact]
    public async Task A_restart_ends_the_boot_and_puts_what_is_installed_into_effect()
    {
        await Do("install", "p", "2.0");
        var boot = Node.Report().Boot;
        await Do("restart-node");
        Assert.Equal(boot + 1, Node.Report().Boot);
        Assert.Equal("2.0", Member.Running);
    }

    [Fact]
    public void What_hangs_runs_until_the_node_restarts_and_then_has_no_end()
    {
        Node.Fault(new FaultRequest("n1", "install", "hang"));
        Assert.Null(Node.Begin(Request("install", ["p", "2.0"], id: "a")));
        Assert.Equal("running", Node.Status("t1", "a").State);
        Assert.Null(Node.Begin(Request("restart-node", [], id: "b")));
        SpinWait.SpinUntil(() => Node.Status("t1", "a").State != "running", TimeSpan.FromSeconds(60));
        Assert.Equal("restarted", Node.Status("t1", "a").State);
    }

    [Fact]
    public void What_hangs_can_be_stopped_by_its_owner_and_by_no_older_one()
    {
        Node.Fault(new FaultRequest("n1", "install", "hang"));
        Assert.Null(Node.Begin(Request("install", ["p", "2.0"], epoch: 4, id: "a")));
        Assert.Contains("below 4", Node.Stop("a", new StopRequest("t1", 3)));
        Assert.Equal("running", Node.Status("t1", "a").State);
        Assert.Null(Node.Stop("a", new StopRequest("t1", 4)));
        Assert.Equal(143, Node.Status("t1", "a").ExitCode);
        Assert.Equal("1.0", Member.Installed);
    }

    [Fact]
    public void Contact_is_lost_at_once_or_when_an_action_begins_and_comes_back()
    {
        Node.Fault(new FaultRequest("n1", "*", "lose-contact"));
        Assert.False(Node.Answers);
        Node.ClearFaults();
        Assert.True(Node.Answers);
        Node.Fault(new FaultRequest("n1", "install", "lose-contact"));
        Assert.True(Node.Answers);
        Node.Begin(Request("install", ["p", "2.0"]));
        Assert.False(Node.Answers);
    }

    [Fact]
    public async Task A_point_is_whole_only_under_its_own_checksum()
    {
        var answer = System.Text.Json.Nodes.JsonNode.Parse((await Do("capture", "point-1")).Output)!;
        Assert.Equal(0, (await Do("check-point", (string)answer["place"]!, (string)answer["sha256"]!)).ExitCode);
        Assert.Equal(5, (await Do("check-point", (string)answer["place"]!, "00")).ExitCode);
        Assert.Equal(5, (await Do("check-point", "elsewhere", (string)answer["sha256"]!)).ExitCode);
        Assert.Equal(0, (await Do("command", "try-out", (string)answer["place"]!)).ExitCode);
        Assert.Equal(5, (await Do("command", "try-out", "elsewhere")).ExitCode);
    }

    [Fact]
    public async Task A_point_is_taken_away_only_under_its_own_checksum_and_once()
    {
        var answer = System.Text.Json.Nodes.JsonNode.Parse((await Do("capture", "point-1")).Output)!;
        var (place, sum) = ((string)answer["place"]!, (string)answer["sha256"]!);
        Assert.Equal(6, (await Do("discard-point", place, "00")).ExitCode);
        Assert.Equal(0, (await Do("check-point", place, sum)).ExitCode);
        Assert.EndsWith("is gone", (await Do("discard-point", place, sum)).Output);
        Assert.Equal(5, (await Do("check-point", place, sum)).ExitCode);
        Assert.EndsWith("was gone already", (await Do("discard-point", place, sum)).Output);
    }

    [Fact]
    public async Task A_node_that_reverts_boots_the_slot_that_was_good()
    {
        await Do("start", "p");
        await Do("command", "stage", "2.0");
        await Do("command", "switch");
        Node.Fault(new FaultRequest("n1", "restart-node", "reverts"));
        await Do("restart-node");
        var member = Node.Report().Members.Single();
        Assert.Equal(("1.0", "1.0", "2.0"), (member.Running, member.Installed, member.Staged));
    }

    [Fact]
    public async Task Nodes_do_not_touch_one_another()
    {
        await Do("install", "p", "2.0");
        Assert.Equal("1.0", _fleet.Find("n2")!.Report().Members.Single().Installed);
        Assert.All(_fleet.Record.All, d => Assert.Equal("n1", d.Node));
    }
}
