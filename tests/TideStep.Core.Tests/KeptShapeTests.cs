using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

/// <summary>What any program before has kept is read by this one; what a newer one kept is refused.</summary>
public sealed class KeptShapeTests
{
    private sealed record Berth(string Quay, int Metres);

    private static JsonObject Renamed(JsonObject kept)
    {
        kept["quay"] = kept["pier"]?.DeepClone();
        return kept;
    }

    private static JsonObject InMetres(JsonObject kept)
    {
        kept["metres"] = (int)kept["feet"]! * 3 / 10;
        return kept;
    }

    private static readonly KeptShape Third = new(Renamed, InMetres);

    [Theory]
    [InlineData("{\"pier\": \"north\", \"feet\": 100}")]
    [InlineData("{\"pier\": \"north\", \"feet\": 100, \"shape\": 1}")]
    [InlineData("{\"quay\": \"north\", \"feet\": 100, \"shape\": 2}")]
    [InlineData("{\"shape\": 3, \"quay\": \"north\", \"metres\": 30}")]
    public void Older_shapes_are_raised_to_this_one(string kept) =>
        Assert.Equal(new Berth("north", 30), Third.Read<Berth>(kept));

    [Fact]
    public void What_is_written_says_its_shape_where_it_is_not_the_first()
    {
        var berth = new Berth("north", 30);
        Assert.Equal(3, (int)JsonNode.Parse(Third.Write(berth))!["shape"]!);
        Assert.Equal(berth, Third.Read<Berth>(Third.Write(berth)));
        Assert.DoesNotContain("shape", KeptShape.First.Write(berth));
        Assert.Equal(berth, KeptShape.First.Read<Berth>(KeptShape.First.Write(berth)));
    }

    [Fact]
    public void What_a_newer_program_wrote_is_refused_and_said()
    {
        var refused = Assert.Throws<FormatException>(() => Third.Read<Berth>("{\"shape\": 4, \"berth\": \"north\"}"));
        Assert.Contains("shape 4", refused.Message);
        Assert.Contains("knows 3", refused.Message);
        Assert.Throws<FormatException>(() => RunEventText.Read("{\"event\": \"held\", \"shape\": 2}"));
    }

    private static readonly string Golden = Path.Combine(Samples.Root, "tests", "fixtures", "events-1.jsonl");

    private static IEnumerable<Type> Kinds =>
        typeof(RunEvent)
            .GetCustomAttributes(typeof(JsonDerivedTypeAttribute), false)
            .Cast<JsonDerivedTypeAttribute>()
            .Select(a => a.DerivedType);

    // TIDESTEP_GOLDEN=1 writes the file: for kinds that are new, never for those that are there.
    [Fact]
    public void Every_kind_of_event_as_it_was_once_written_is_read_with_all_that_is_in_it()
    {
        if (Environment.GetEnvironmentVariable("TIDESTEP_GOLDEN") == "1")
            File.AppendAllLines(
                Golden,
                Kinds
                    .Where(k => !File.Exists(Golden) || File.ReadLines(Golden).All(l => KindOf(l) != k))
                    .Select(k => RunEventText.Write((RunEvent)Samples.Of(k)!))
                    .ToList()
            );
        var lines = File.ReadAllLines(Golden);
        Assert.Equal(Kinds.OrderBy(k => k.Name), lines.Select(KindOf).OrderBy(k => k.Name));
        foreach (var line in lines)
            Assert.True(
                JsonNode.DeepEquals(JsonNode.Parse(line), JsonNode.Parse(RunEventText.Write(RunEventText.Read(line)))),
                $"{line}\nis read as\n{RunEventText.Write(RunEventText.Read(line))}"
            );
    }

    private static Type KindOf(string line) => RunEventText.Read(line).GetType();
}
