using System.Text.RegularExpressions;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Tests;

namespace TideStep.Core.Tests;

/// <summary>Releases older than today's stand in every catalogue. Nothing can reach them, so what leads on from them
/// may change neither a path nor whether it is proved.</summary>
public sealed class OlderReleasesTests
{
    private static string Root
    {
        get
        {
            var root = AppContext.BaseDirectory;
            while (!File.Exists(Path.Combine(root, "TideStep.slnx")))
                root = Path.GetDirectoryName(root)!;
            return Path.Combine(root, "demo");
        }
    }

    // Below the oldest release comes one more, whose only way on is an outage.
    private static string WithOlder(string text)
    {
        if (Regex.Match(text, "^  \"([0-9.]+)\": \\{", RegexOptions.Multiline) is not { Success: true } oldest)
            return text;
        var change = Regex.Match(text, @"change: (\[[a-z, -]+\])");
        if (!change.Success)
            return text;
        var release = text.Insert(oldest.Index, "  \"0.1\": {line: standard}\n");
        return release.Contains("\njumps:\n", StringComparison.Ordinal)
            ? release.Replace(
                "\njumps:\n",
                $"\njumps:\n  out-of-0.1: {{from: \"=0.1\", to: \"{oldest.Groups[1].Value}\", "
                    + "methods: {offline: {outage: 5 min, settle: 1 min}}, "
                    + $"change: {change.Groups[1].Value}}}\n",
                StringComparison.Ordinal
            )
            : text;
    }

    private static (PathAnswer Answer, int Older) Season(Func<string, string> change)
    {
        string Text(string name) => File.ReadAllText(Path.Combine(Root, name));
        var estate = Fleet.Good(EstateDocument.Read(Text("estate.yaml"), "estate.yaml"));
        var catalogue = Fleet.Good(
            ProductCatalogue.Create(
                Directory
                    .GetFiles(Path.Combine(Root, "catalogue"))
                    .Order(StringComparer.Ordinal)
                    .Select(f => Fleet.Good(ProductDocument.Read(change(File.ReadAllText(f)), f)))
            )
        );
        var readings = Fleet.Good(ReadingsDocument.Read(Text("readings.yaml"), "readings.yaml", estate));
        var request = new PathRequest(
            new EstateIndex(estate, readings, catalogue),
            Fleet.Good(GoalDocument.Read(Text("goals/season.yaml"), "season.yaml")),
            DateOnly.Parse(Text("planning-day")[..10], System.Globalization.CultureInfo.InvariantCulture)
        );
        return (
            Fleet.Good(PathFinder.Find(request)),
            catalogue.Products.Count(p => p.Releases.Any(r => r.Version.Label == "0.1"))
        );
    }

    [Fact]
    public void What_only_an_older_release_could_do_neither_changes_a_path_nor_keeps_it_from_being_proved()
    {
        var (plain, none) = Season(t => t);
        var (answer, older) = Season(WithOlder);
        Assert.Equal(0, none);
        Assert.True(older >= 10, $"only {older} products have an older release");
        Assert.True(plain.Proved && answer.Proved);
        Assert.Equal(plain.Criteria, answer.Criteria);
        Assert.Equal(
            plain.Moves.SelectMany(m => m.Jumps).Select(j => (j.Component, j.Jump.Id, j.Method)),
            answer.Moves.SelectMany(m => m.Jumps).Select(j => (j.Component, j.Jump.Id, j.Method))
        );
    }
}
