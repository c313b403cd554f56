using System.Xml.Linq;

namespace TideStep.Core.Tests;

/// <summary>Dependencies point down the picture of docs/decisions/001-layers.md only.</summary>
public sealed class ArchitectureTests
{
    private static readonly Dictionary<string, string[]> Allowed = new()
    {
        ["Core"] = [],
        ["Storage"] = ["Core"],
        ["Connectors"] = ["Core"],
        ["Engine"] = ["Storage", "Connectors", "Core"],
        ["Tables"] = ["Core"],
        ["Service"] = ["Engine", "Tables", "Storage", "Connectors", "Core"],
        ["Client"] = ["Core"],
        ["Cli"] = ["Client", "Tables", "Core"],
        ["StandIn"] = ["Core"],
        ["Programs"] = ["Service", "Cli", "StandIn"],
    };

    private static string Source()
    {
        var at = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(at, "TideStep.slnx")))
            at = Path.GetDirectoryName(at)!;
        return Path.Combine(at, "src");
    }

    private static IEnumerable<string> Items(string project, string item) =>
        XDocument
            .Load(Path.Combine(Source(), $"TideStep.{project}", $"TideStep.{project}.csproj"))
            .Descendants(item)
            .Select(e => (string)e.Attribute("Include")!);

    [Fact]
    public void Projects_refer_only_to_what_stands_below_them()
    {
        Assert.Equal(
            Allowed.Keys.Order(),
            Directory
                .GetDirectories(Source(), "TideStep.*")
                .Select(d => Path.GetFileName(d)["TideStep.".Length..])
                .Order()
        );
        foreach (var (project, below) in Allowed)
            Assert.All(Items(project, "ProjectReference"), r =>
                Assert.Contains(Path.GetFileNameWithoutExtension(r)["TideStep.".Length..], below)
            );
    }

    [Fact]
    public void Core_knows_no_package_of_input_or_output() =>
        Assert.Equal(["Superpower", "YamlDotNet"], Items("Core", "PackageReference").Order());

    [Theory]
    [InlineData("DateTimeOffset.UtcNow")]
    [InlineData("DateTime.Now")]
    [InlineData("DateTime.UtcNow")]
    [InlineData("Guid.NewGuid")]
    [InlineData("File.Read")]
    [InlineData("File.Write")]
    [InlineData("HttpClient")]
    [InlineData("Task.Run")]
    [InlineData("Environment.Get")]
    public void Core_has_no_clock_no_chance_and_no_files(string word) =>
        Assert.DoesNotContain(
            Directory
                .EnumerateFiles(Path.Combine(Source(), "TideStep.Core"), "*.cs", SearchOption.AllDirectories)
                .Where(f => !f.Contains("/obj/")),
            f => File.ReadAllText(f).Contains(word)
        );
}
