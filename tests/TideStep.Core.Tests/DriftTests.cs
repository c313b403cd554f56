using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Core.Tests;

/// <summary>Only what differs is told, with what it should be beside it; what was not read is never taken for
/// current.</summary>
public sealed class DriftTests
{
    private static Fleet Three() =>
        new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "2", "\"a[1-3]\"")
            .Product("engine", $"releases: {{\"1\": {{ends: {Nights.On(32)}}}, \"2\": {{ends: {Nights.On(1129)}}}}}\n");

    private static IEnumerable<string> Of(string members, params (string, string)[] left) =>
        Drift
            .Of(Three().Index(members), left.ToDictionary(l => l.Item1, l => l.Item2), Nights.Day(-6))
            .Select(d => $"{d.Subject} {d.Value} {d.Expected} > {d.Found} ({d.Against})");

    [Fact]
    public void Where_nothing_differs_nothing_is_told() => Assert.Empty(Of("", ("app/a1", "2")));

    [Fact]
    public void A_member_is_held_against_its_component_the_restart_it_owes_the_last_run_and_the_catalogue()
    {
        Assert.Equal(
            [
                "app/a1 running 2 > 1 (component)",
                $"app 1 a release that is supported > support ends on {Nights.On(32)}, in 38 d (support)",
            ],
            Of("  app/a1: {running: \"1\"}\n")
        );
        Assert.Equal(
            ["app/a2 running 2, by a restart > 1 (restart)", "app/a2 running 2 > 1 (component)"],
            Of("  app/a2: {running: \"1\", installed: \"2\"}\n")
                .Where(d => d.StartsWith("app/", StringComparison.Ordinal))
                .OrderDescending()
        );
        Assert.Equal(["app/a3 running 1 > 2 (last run)"], Of("", ("app/a3", "1")));
        Assert.Equal(["app/a3 in service yes > no (component)"], Of("  app/a3: {running: \"2\", in-service: false}\n"));
        Assert.Contains("app running a release of engine > 9 (catalogue)", Of("  app/a1: {running: \"9\"}\n"));
        Assert.Equal(
            ["app/a3 staged nothing that waits > 3 waits to be used (staged)"],
            Of("  app/a3: {running: \"2\", staged: \"3\"}\n")
        );
        Assert.Empty(Of("  app/a3: {running: \"2\", staged: \"1\"}\n"));
    }

    [Fact]
    public void What_was_not_read_is_told_with_what_was_known_and_when_and_counts_as_unknown()
    {
        var estate = Three().Estate;
        var text =
            $"tidestep: readings/1\ntaken: {Nights.On(-9)}T10:00:00Z\nmembers: {{app/a1: {{running: \"2\"}}, app/a2: "
            + $"{{running: \"2\"}}}}\nunreached: {{app/a3: {{why: no route, known: {Nights.On(-10)}T08:30:00Z, last: "
            + "{running: \"2\"}}}\n";
        var readings = Fleet.Good(ReadingsDocument.Read(text, "readings.yaml", estate));
        var index = new EstateIndex(estate, readings, Three().Catalogue);
        Assert.True(index.IsOut(estate.FindMember("app/a3")!));
        var told = Assert.Single(Drift.Of(index, new Dictionary<string, string>(), Nights.Day(-6)));
        Assert.Equal(
            ("app/a3", $"2, as on {Nights.On(-10)} 08:30", "not read: no route"),
            (told.Subject, told.Expected, told.Found)
        );
        Assert.Equal(
            ["app/a3 running", "app/a3 in service", "app/a3 installed"],
            Drift.Between(readings, Three().Index().Readings).Select(d => $"{d.Subject} {d.Value}")
        );
        var both = ReadingsDocument.Read(
            text.Replace("app/a3: {why", "app/a1: {why", StringComparison.Ordinal),
            "readings.yaml",
            estate
        );
        Assert.Contains("was read and could not be read", Assert.Single(both.Problems).What);
    }

    [Fact]
    public void Between_two_surveys_only_what_changed_is_told()
    {
        var (was, now) = (
            Three().Index("  app/a1: {running: \"2\", values: {lag: 1 MiB, size: 2 GiB}}\n").Readings,
            Three().Index("  app/a1: {running: \"2\", values: {lag: 3 MiB, size: 2 GiB}}\n").Readings
        );
        Assert.Equal(
            new Difference("app/a1", "earlier survey", "lag", "1 MiB", "3 MiB"),
            Assert.Single(Drift.Between(was, now))
        );
        Assert.Empty(Drift.Between(was, was));
    }
}
