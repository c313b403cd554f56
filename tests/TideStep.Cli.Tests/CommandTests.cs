using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Cli.Tests;

/// <summary>The command line as its users meet it: statuses, shapes, words. Reading and planning go on files alone.</summary>
public sealed class CommandTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private readonly DemoStack _stack = fixture.Stack;

    private string[] OnFiles => ["--estate", _stack.Demo("estate.yaml"), "--readings", _stack.Demo("readings.yaml"), "--catalogue", _stack.Demo("catalogue")];

    private Task<DemoStack.Ran> OnFilesAsync(string goal, params string[] rest) => _stack.Cli(["path", "--goal", _stack.Demo(goal), .. OnFiles, .. rest]);

    private string Write(string name, string text)
    {
        var path = Path.Combine(_stack.Work, Guid.NewGuid().ToString("N")[..8] + name);
        File.WriteAllText(path, text);
        return path;
    }

    public static readonly TheoryData<string> Tables =
    [
        "estate show", "catalogue show", "catalogue matrix curlew dunlin", "plan list", "run list", "point list", "path --goal {demo}/goals/season.yaml", "plan make --goal {demo}/goals/season.yaml",
    ];

    [Theory]
    [MemberData(nameof(Tables))]
    public async Task Tables_for_people_fit_100_columns_and_carry_no_colour_off_a_terminal(string command)
    {
        var ran = await _stack.Cli([.. command.Split(' ').Select(c => c.Replace("{demo}", Path.Combine(_stack.Work, "demo")))]);
        Assert.Equal(0, ran.Status);
        Assert.DoesNotContain('\u001b', ran.Output);
        Assert.All(ran.Output.Split('\n'), line => Assert.True(line.Length <= 100, $"{line.Length}: {line}"));
    }

    [Theory]
    [MemberData(nameof(Tables))]
    public async Task The_same_as_json_is_json(string command)
    {
        var ran = await _stack.Cli([.. command.Split(' ').Select(c => c.Replace("{demo}", Path.Combine(_stack.Work, "demo"))), "--format", "json"]);
        Assert.Equal(0, ran.Status);
        Assert.NotNull(JsonNode.Parse(ran.Output));
    }

    [Theory]
    [InlineData("paht")]
    [InlineData("path", "--gaol", "x")]
    [InlineData("run", "start")]
    [InlineData("estate", "import")]
    [InlineData("path")]
    public async Task A_command_that_is_not_understood_ends_with_2_and_says_what(params string[] command)
    {
        var ran = await _stack.Cli(command);
        Assert.Equal(2, ran.Status);
        Assert.NotEmpty(ran.Error);
        Assert.Empty(ran.Output);
    }

    [Fact]
    public async Task A_format_that_is_not_there_names_those_that_are()
    {
        var ran = await _stack.Cli("estate", "show", "--format", "xml");
        Assert.Equal(2, ran.Status);
        Assert.Contains("json", ran.Error);
    }

    [Fact]
    public async Task A_service_that_does_not_answer_ends_with_3_and_names_its_address()
    {
        var ran = await _stack.Cli("run", "list", "--server", "http://127.0.0.1:9");
        Assert.Equal(3, ran.Status);
        Assert.Contains("127.0.0.1:9", ran.Error);
    }

    [Theory]
    [InlineData("estate.yaml", "site: south-shore", "sitte: south-shore", "Did you mean 'site'?")]
    [InlineData("estate.yaml", "tidestep: estate/1", "tidestep: estate/7", "estate/1")]
    [InlineData("readings.yaml", "tidestep: readings/1", "tidestep: reading/1", "readings/1")]
    public async Task A_wrong_document_ends_with_2_and_names_file_line_and_column(string name, string good, string bad, string says)
    {
        var text = await File.ReadAllTextAsync(_stack.Demo(name));
        Assert.Contains(good, text);
        var wrong = Write(name, text.Replace(good, bad));
        string[] files = [.. OnFiles.Select(f => f == _stack.Demo(name) ? wrong : f)];
        var ran = await _stack.Cli(["path", "--goal", _stack.Demo("goals/relay.yaml"), .. files]);
        Assert.Equal(2, ran.Status);
        Assert.Matches($@"{name}:\d+:\d+: ", ran.Error);
        Assert.Contains(says, ran.Error);
    }

    [Fact]
    public async Task A_file_that_is_not_there_is_named()
    {
        var ran = await _stack.Cli(["path", "--goal", "/nowhere/goal.yaml", .. OnFiles]);
        Assert.Equal(2, ran.Status);
        Assert.Contains("/nowhere/goal.yaml", ran.Error);
    }

    [Fact]
    public async Task A_path_on_files_needs_no_service()
    {
        var ran = await OnFilesAsync("goals/season.yaml", "--server", "http://127.0.0.1:9");
        Assert.Equal(0, ran.Status);
        Assert.Contains("proved", ran.Output);
    }

    [Fact]
    public async Task Documents_in_json_give_the_same_path_as_in_yaml()
    {
        var goal = Write("goal.json", """{"tidestep": "goal/1", "goal": [{"component": "relay-south", "to": "3.2"}]}""");
        var yaml = Write("goal.yaml", "tidestep: goal/1\ngoal: [{component: relay-south, to: \"3.2\"}]\n");
        var (first, second) = (await _stack.Good(["path", "--goal", goal, .. OnFiles, "--format", "json"]), await _stack.Good(["path", "--goal", yaml, .. OnFiles, "--format", "json"]));
        Assert.Equal(JsonNode.Parse(first)!["moves"]!.ToJsonString(), JsonNode.Parse(second)!["moves"]!.ToJsonString());
    }

    [Fact]
    public async Task A_path_is_the_same_every_time()
    {
        var first = await OnFilesAsync("goals/season.yaml", "--format", "json", "--day", "2026-11-23");
        for (var i = 0; i < 3; i++) Assert.Equal(first.Output, (await OnFilesAsync("goals/season.yaml", "--format", "json", "--day", "2026-11-23")).Output);
    }

    [Fact]
    public async Task Csv_has_a_heading_and_a_line_for_each_move()
    {
        var csv = (await OnFilesAsync("goals/season.yaml", "--format", "csv")).Output.TrimEnd('\n').Split('\n');
        var json = JsonNode.Parse((await OnFilesAsync("goals/season.yaml", "--format", "json")).Output)!["moves"]!.AsArray();
        Assert.Equal(json.Count + 1, csv.Length);
        Assert.Single(csv.Select(l => l.Split(',').Length).Take(1).Distinct());
    }

    [Fact]
    public async Task A_matrix_on_files_is_the_matrix_of_the_service()
    {
        var files = await _stack.Good(["catalogue", "matrix", "curlew", "dunlin", .. OnFiles, "--format", "json"]);
        Assert.Equal(JsonNode.Parse(files)!["places"]!.ToJsonString(), JsonNode.Parse(await _stack.Good("catalogue", "matrix", "curlew", "dunlin", "--format", "json"))!["places"]!.ToJsonString());
        var csv = (await _stack.Good(["catalogue", "matrix", "curlew", "dunlin", .. OnFiles, "--format", "csv"])).TrimEnd('\n').Split('\n');
        Assert.Equal(JsonNode.Parse(files)!["places"]!.AsArray().Count + 1, csv.Length);
        Assert.Equal(2, (await _stack.Cli("catalogue", "matrix", "curlw", "dunlin", "--catalogue", _stack.Demo("catalogue"))).Status);
    }

    [Fact]
    public async Task A_goal_that_is_met_says_so_and_ends_with_0()
    {
        var ran = await _stack.Cli(["path", "--goal", Write("goal.yaml", "tidestep: goal/1\ngoal: [{component: relay-south, at-least: \"3.0\"}]\n"), .. OnFiles]);
        Assert.Equal(0, ran.Status);
        Assert.Contains("met already", ran.Output);
    }

    [Theory]
    [InlineData("run", "show", "r00000000")]
    [InlineData("run", "report", "r00000000")]
    [InlineData("run", "hold", "r00000000")]
    public async Task A_run_that_is_not_there_is_named(params string[] command)
    {
        var ran = await _stack.Cli(command);
        Assert.NotEqual(0, ran.Status);
        Assert.Contains("r00000000", ran.Error);
    }

    [Fact]
    public async Task Help_lists_every_command_with_a_sentence()
    {
        var help = await _stack.Good("--help");
        foreach (var thing in new[] { "estate", "survey", "catalogue", "path", "plan", "run", "point", "profile", "console" }) Assert.Matches($@"\n\s+{thing}[^\n]*\s{{2,}}\w", help);
    }

    [Fact]
    public async Task A_name_is_kept_in_the_profile_and_stands_on_what_is_done()
    {
        await _stack.Good("profile", "set", "--name", "Tern Sedge");
        Assert.Contains("Tern Sedge", await File.ReadAllTextAsync(Directory.EnumerateFiles(_stack.Work, "profile*", SearchOption.AllDirectories).First()));
    }
}
