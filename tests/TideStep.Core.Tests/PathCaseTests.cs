using System.Text.Json.Nodes;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Tests;

/// <summary>Small cases with right answers that were found by others: the documents of each lie in a folder of
/// <c>cases/paths</c>, with the best path and its cost.</summary>
public sealed class PathCaseTests
{
    public static TheoryData<string> Names =>
        [.. Directory.GetDirectories(Folder).Select(d => Path.GetFileName(d)!).Order(StringComparer.Ordinal)];

    private static string Folder => Path.Combine(AppContext.BaseDirectory, "cases", "paths");

    [Theory]
    [MemberData(nameof(Names))]
    public void The_path_of_a_case_is_the_right_one(string name)
    {
        string Text(string file) => File.ReadAllText(Path.Combine(Folder, name, file));
        var estate = Fleet.Good(EstateDocument.Read(Text("estate.json"), "estate.json"));
        var readings = Fleet.Good(ReadingsDocument.Read(Text("readings.json"), "readings.json", estate));
        var products = Directory
            .GetFiles(Path.Combine(Folder, name, "catalogue"))
            .Select(f => Fleet.Good(ProductDocument.Read(File.ReadAllText(f), f)));
        var goal = Fleet.Good(GoalDocument.Read(Text("goal.json"), "goal.json"));
        var index = new EstateIndex(estate, readings, Fleet.Good(ProductCatalogue.Create(products)));
        var answer = Fleet.Good(PathFinder.FindWithAlternatives(new PathRequest(index, goal, goal.Day!.Value)));
        var right = JsonNode.Parse(Text("right-answer.txt"))!["cost"];
        Assert.True(answer.Proved);
        Assert.Equal(right is not null, answer.Found);
        if (right is null)
            return;
        Assert.Equal(right["moves"]!.AsArray().Select(m => (string)m!), answer.Moves.Select(m => m.Written));
        Assert.Equal(
            right["methods"]!.AsArray().Select(m => string.Join('+', m!.AsArray().Select(w => (string)w!))),
            answer.Moves.Select(m => string.Join('+', m.Jumps.Select(j => j.Method.Word())))
        );
        Assert.Equal((long)right["outage"]! * 60, (long)answer.Moves.Sum(m => m.OutageTime.TotalSeconds));
        Assert.Equal((long)right["untested"]!, answer.Criteria.Single(c => c.Number == 1).Value);
    }
}
