using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Tests;

/// <summary>Small estates whose documents promise what can't be kept, or stand on what does not run.</summary>
public sealed class RunCaseTests
{
    private static string Text(string file) =>
        File.ReadAllText(Path.Combine(AppContext.BaseDirectory, "cases", "runs", file));

    private static PathAnswer MissingPart(string login)
    {
        const string folder = "missing-part";
        var estate = Fleet.Good(EstateDocument.Read(Text($"{folder}/estate.yaml"), "estate.yaml"));
        var text = Text($"{folder}/readings.yaml").Replace("login: \"4\"", $"login: {login}");
        var readings = Fleet.Good(ReadingsDocument.Read(text, "readings.yaml", estate));
        var catalogue = ProductCatalogue.Create(
            new[] { "lg", "sp" }.Select(p => Fleet.Good(ProductDocument.Read(Text($"{folder}/catalogue/{p}.yaml"), p)))
        );
        var goal = Fleet.Good(GoalDocument.Read(Text($"{folder}/goal.yaml"), "goal.yaml"));
        var index = new EstateIndex(estate, readings, Fleet.Good(catalogue));
        return Fleet.Good(PathFinder.Find(new PathRequest(index, goal, DateOnly.MaxValue)));
    }

    [Theory]
    [InlineData("none", "server@2 by jump up requires another version of login than none")]
    [InlineData("unknown", "server@2 demands a version of login, which could not be read")]
    public void What_runs_nothing_or_is_not_known_meets_no_requirement(string login, string why)
    {
        var answer = MissingPart(login);
        Assert.False(answer.Found);
        Assert.True(answer.Proved);
        Assert.Contains(answer.Reasons, r => r.What.Contains(why, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData(
        "capture-in-ahead",
        "stilt",
        "stilt.yaml:16:19: jump to-4.2.0: 'backup-first' captures a rollback point"
    )]
    [InlineData(
        "promised-return",
        "marten",
        "marten.yaml:46:58: step back-to-snapshot: nothing binds the placeholder {point.nonsense}"
    )]
    public void What_can_not_be_done_is_refused_at_its_place_when_it_is_read(string folder, string product, string why)
    {
        var read = ProductDocument.Read(Text($"{folder}/catalogue/{product}.yaml"), $"{product}.yaml");
        Assert.False(read.Ok);
        Assert.Contains(read.Problems, p => p.ToString().StartsWith(why, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("rolling: {member: 1 min, outage: 1 min}", "'outage' is no figure of rolling")]
    [InlineData("offline: {member: 1 min}", "'member' is no figure of offline")]
    [InlineData("offline: {settle: 1 min}", "'outage' is missing")]
    [InlineData("side-by-side: {outage: 1 min}", "'install' is missing")]
    [InlineData("two-slot: {settle: 1 min}", "'member' is missing")]
    public void A_figure_of_another_method_is_refused_and_a_missing_one_said(string methods, string why)
    {
        var read = ProductDocument.Read(
            "tidestep: product/1\nproduct: p\nreleases: {\"1\": {}, \"2\": {}}\nsteps: {put: {do: {person: put}}}\n"
                + $"jumps: {{to-2: {{from: \"1\", to: \"2\", methods: {{{methods}}}, change: [put]}}}}\n",
            "p.yaml"
        );
        Assert.Contains(read.Problems, p => p.What.Contains(why, StringComparison.Ordinal));
    }

    [Fact]
    public void A_first_installation_is_offline_and_leads_from_nothing_down()
    {
        var read = ProductDocument.Read(
            "tidestep: product/1\nproduct: p\nreleases: {\"1\": {}}\nsteps: {put: {do: {person: put}}}\n"
                + "jumps: {new: {from: none, to: \"1\", down: true, "
                + "methods: {rolling: {member: 1 min}}, change: [put]}}\n",
            "p.yaml"
        );
        Assert.Contains(read.Problems, p => p.What.Contains("not by 'rolling'", StringComparison.Ordinal));
        Assert.Contains(read.Problems, p => p.What.Contains("come down from", StringComparison.Ordinal));
    }
}
