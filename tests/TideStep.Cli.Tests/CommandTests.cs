using System.Text.Json.Nodes;
using TideStep.Tests;

namespace TideStep.Cli.Tests;

/// <summary>The command line as its users meet it: statuses, shapes, words. Reading and planning go on files
/// alone.</summary>
public sealed class CommandTests(StackFixture fixture) : IClassFixture<StackFixture>
{
    private readonly DemoStack _stack = fixture.Stack;

    private string[] OnFiles =>
        [
            "--estate",
            _stack.Demo("estate.yaml"),
            "--readings",
            _stack.Demo("readings.yaml"),
            "--catalogue",
            _stack.Demo("catalogue"),
        ];

    private Task<DemoStack.Ran> OnFilesAsync(string goal, params string[] rest) =>
        _stack.Cli(["path", "--goal", _stack.Demo(goal), .. OnFiles, .. rest]);

    private string Write(string name, string text)
    {
        var path = Path.Combine(_stack.Work, Guid.NewGuid().ToString("N")[..8] + name);
        File.WriteAllText(path, text);
        return path;
    }

    public static readonly TheoryData<string> Tables =
    [
        "estate show",
        "catalogue show",
        "catalogue matrix curlew dunlin",
        "plan list",
        "run list",
        "point list",
        "check waivers",
        "survey list",
        "path --goal {demo}/goals/season.yaml",
        "plan make --goal {demo}/goals/season.yaml",
    ];

    [Theory]
    [MemberData(nameof(Tables))]
    public async Task Tables_for_people_fit_100_columns_and_carry_no_colour_off_a_terminal(string command)
    {
        string[] words = [.. command.Split(' ').Select(c => c.Replace("{demo}", Path.Combine(_stack.Work, "demo")))];
        var ran = await _stack.CliOf(100, words);
        Assert.Equal(0, ran.Status);
        Assert.DoesNotContain('\u001b', ran.Output);
        Assert.All(ran.Output.Split('\n'), line => Assert.True(line.Length <= 100, $"{line.Length}: {line}"));
        // Wrapped or not, nothing is left out.
        static string Letters(string text) => new([.. text.Where(c => !char.IsWhiteSpace(c)).Order()]);
        Assert.DoesNotContain('…', ran.Output);
        Assert.Equal(Letters((await _stack.Cli(words)).Output), Letters(ran.Output));
    }

    [Theory]
    [MemberData(nameof(Tables))]
    public async Task The_same_as_json_is_json(string command)
    {
        var ran = await _stack.Cli([
            .. command.Split(' ').Select(c => c.Replace("{demo}", Path.Combine(_stack.Work, "demo"))),
            "--format",
            "json",
        ]);
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
    public async Task A_wrong_document_ends_with_2_and_names_file_line_and_column(
        string name,
        string good,
        string bad,
        string says
    )
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
        var goal = Write(
            "goal.json",
            """{"tidestep": "goal/1", "goal": [{"component": "relay-south", "to": "3.2"}]}"""
        );
        var yaml = Write("goal.yaml", "tidestep: goal/1\ngoal: [{component: relay-south, to: \"3.2\"}]\n");
        var (first, second) = (
            await _stack.Good(["path", "--goal", goal, .. OnFiles, "--format", "json"]),
            await _stack.Good(["path", "--goal", yaml, .. OnFiles, "--format", "json"])
        );
        Assert.Equal(JsonNode.Parse(first)!["moves"]!.ToJsonString(), JsonNode.Parse(second)!["moves"]!.ToJsonString());
    }

    [Fact]
    public async Task A_path_is_the_same_every_time()
    {
        var first = await OnFilesAsync("goals/season.yaml", "--format", "json", "--day", DemoStack.PlanningDay);
        for (var i = 0; i < 3; i++)
            Assert.Equal(
                first.Output,
                (await OnFilesAsync("goals/season.yaml", "--format", "json", "--day", DemoStack.PlanningDay)).Output
            );
    }

    [Fact]
    public async Task Csv_has_a_heading_and_a_line_for_each_move()
    {
        var csv = (await OnFilesAsync("goals/season.yaml", "--format", "csv")).Output.TrimEnd('\n').Split('\n');
        var json = JsonNode.Parse((await OnFilesAsync("goals/season.yaml", "--format", "json")).Output)![
            "moves"
        ]!.AsArray();
        Assert.Equal(json.Count + 1, csv.Length);
        Assert.Single(csv.Select(l => l.Split(',').Length).Take(1).Distinct());
    }

    // The smallest workbook that is one: two sheets with inline texts.
    private static string Cell(char column, int row, string text) =>
        $"<c r='{column}{row}' t='inlineStr'><is><t>{text}</t></is></c>";

    private string Workbook(params string[][][] sheets)
    {
        var path = Path.Combine(_stack.Work, Guid.NewGuid().ToString("N")[..8] + ".xlsx");
        using var zip = System.IO.Compression.ZipFile.Open(path, System.IO.Compression.ZipArchiveMode.Create);
        void Add(string name, string text)
        {
            using var entry = new StreamWriter(zip.CreateEntry(name).Open());
            entry.Write(text);
        }
        const string main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main",
            rel = "http://schemas.openxmlformats.org/officeDocument/2006/relationships",
            package = "http://schemas.openxmlformats.org/package/2006";
        Add(
            "[Content_Types].xml",
            $"<Types xmlns='{package}/content-types'><Default Extension='xml' "
                + $"ContentType='application/xml'/><Default Extension='rels' "
                + $"ContentType='application/vnd.openxmlformats-package.relationships+xml'/><Override "
                + $"PartName='/xl/workbook.xml' "
                + $"ContentType='application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml'/></Types>"
        );
        Add(
            "_rels/.rels",
            $"<Relationships xmlns='{package}/relationships'><Relationship Id='r1' "
                + $"Type='{rel}/officeDocument' Target='xl/workbook.xml'/></Relationships>"
        );
        Add(
            "xl/workbook.xml",
            $"<workbook xmlns='{main}' xmlns:r='{rel}'><sheets>"
                + (
                    string.Concat(
                        sheets.Select((_, i) => $"<sheet name='s{i + 1}' sheetId='{i + 1}' r:id='r{i + 1}'/>")
                    )
                )
                + $"</sheets></workbook>"
        );
        Add(
            "xl/_rels/workbook.xml.rels",
            $"<Relationships xmlns='{package}/relationships'>"
                + (
                    string.Concat(
                        sheets.Select(
                            (_, i) =>
                                $"<Relationship Id='r{i + 1}' Type='{rel}/worksheet' Target='worksheets/sheet"
                                + $"{i + 1}.xml'/>"
                        )
                    )
                )
                + $"</Relationships>"
        );
        for (var s = 0; s < sheets.Length; s++)
            Add(
                $"xl/worksheets/sheet{s + 1}.xml",
                $"<worksheet xmlns='{main}'><sheetData>"
                    + (
                        string.Concat(
                            sheets[s]
                                .Select(
                                    (row, r) =>
                                        $"<row r='{r + 1}'>"
                                        + string.Concat(row.Select((cell, c) => Cell((char)('A' + c), r + 1, cell)))
                                        + $"</row>"
                                )
                        )
                    )
                    + $"</sheetData></worksheet>"
            );
        return path;
    }

    private Task<DemoStack.Ran> ImportAsync(string table, params string[] rest) =>
        _stack.Cli([
            "catalogue",
            "import",
            table,
            "--catalogue",
            _stack.Demo("catalogue"),
            "--product",
            "knot",
            "--other",
            "curlew",
            "--relation",
            "inside",
            .. rest,
        ]);

    [Fact]
    public async Task The_same_table_gives_the_same_rules_from_every_kind_of_file()
    {
        var files = new[]
        {
            Write("t.csv", "Knot,6.8,7.0,7.2\n4.0,yes,no,certified\n"),
            Write("t.md", "# Knot\n\n| Knot | 6.8 | 7.0 | 7.2 |\n|---|---|---|---|\n| 4.0 | yes | no | certified |\n"),
            Write(
                "t.html",
                "<p>Knot</p><table><tr><th>Knot<th>6.8<th>7.0<th>7.2"
                    + "<tr><td>4.0<td>yes<td>no<td><b>certified</b></table>"
            ),
            Workbook(
                [
                    ["nothing", "here"],
                ],
                [
                    ["Knot", "6.8", "7.0", "7.2"],
                    ["4.0", "yes", "no", "certified"],
                ]
            ),
        };
        var answers = new List<string>();
        foreach (var file in files)
        {
            var ran = await ImportAsync(
                file,
                "--word",
                "certified=supported",
                "--format",
                "json",
                "--table",
                file.EndsWith("xlsx", StringComparison.Ordinal) ? "2" : "1"
            );
            Assert.True(ran.Status == 0, ran.Error);
            answers.Add(JsonNode.Parse(ran.Output)!["rules"]!.ToJsonString());
        }
        Assert.Single(answers.Distinct());
        Assert.Contains("6.8 || 7.2", answers[0]);
    }

    [Fact]
    public async Task Rules_from_a_table_are_written_only_when_told_where_to_and_hold_then()
    {
        var (table, document) = (Write("t.csv", "Knot,7.2\n4.0,yes\n"), _stack.Demo("catalogue/knot.yaml"));
        var before = await File.ReadAllTextAsync(document);
        var shown = await ImportAsync(table);
        Assert.Contains("knot 4.0 with curlew 7.2: untested becomes supported", shown.Output);
        Assert.Contains("Nothing was written", shown.Output);
        Assert.Equal(before, await File.ReadAllTextAsync(document));
        Assert.Equal(2, (await ImportAsync(table, "--into", _stack.Demo("catalogue/curlew.yaml"))).Status);
        Assert.Equal(0, (await ImportAsync(table, "--source", "Knot \"notes\"", "--into", document)).Status);
        try
        {
            var matrix = JsonNode.Parse(
                await _stack.Good([
                    "catalogue",
                    "matrix",
                    "knot",
                    "curlew",
                    "--relation",
                    "inside",
                    "--catalogue",
                    _stack.Demo("catalogue"),
                    "--format",
                    "json",
                ])
            )!;
            Assert.Equal(
                "supported",
                (string)matrix["places"]!.AsArray().Single(p => (string)p!["at"]! == "7.2")!["verdict"]!
            );
        }
        finally
        {
            await File.WriteAllTextAsync(document, before);
        }
    }

    [Theory]
    [InlineData("t.pdf", "x", "is no kind of table")]
    [InlineData("t.html", "<p>no table</p>", "holds no table")]
    [InlineData("t.xlsx", "not a workbook", "can't be read")]
    [InlineData("t.csv", "Knot,7.9\n4.0,yes\n", "'7.9' is no release of curlew")]
    public async Task A_table_that_is_not_understood_ends_with_2_and_says_where(string name, string text, string says)
    {
        var ran = await ImportAsync(Write(name, text));
        Assert.Equal(2, ran.Status);
        Assert.Contains(says, ran.Error);
    }

    [Fact]
    public async Task A_catalogue_that_is_in_order_is_said_to_be_and_one_that_is_not_ends_with_1()
    {
        Assert.Contains(
            "Nothing was found",
            await _stack.Good("catalogue", "check", "--catalogue", _stack.Demo("catalogue"))
        );
        Assert.Contains("Nothing was found", await _stack.Good("catalogue", "check"));
        var folder = Directory.CreateDirectory(Path.Combine(_stack.Work, "odd")).FullName;
        await File.WriteAllTextAsync(
            Path.Combine(folder, "odd.yaml"),
            "tidestep: product/1\nproduct: odd\nreleases: {\"1\": {}}\n"
                + "rules: [{this: \"1\", depends-on: nothing, at: \"*\", verdict: supported}]\n"
        );
        var ran = await _stack.Cli("catalogue", "check", "--catalogue", folder);
        Assert.Equal(1, ran.Status);
        Assert.Contains("odd.yaml:4:9: rule odd#1 speaks of 'nothing'", ran.Output.Replace("\n    ", " "));
    }

    [Fact]
    public async Task Two_plans_on_files_are_compared_in_words()
    {
        var estate = Write(
            "estate.yaml",
            (await File.ReadAllTextAsync(_stack.Demo("estate.yaml"))).Replace("at-once: 6}", "at-once: 4}")
        );
        string[] make = ["plan", "make", "--goal", _stack.Demo("goals/season.yaml"), "--format", "json"];
        var one = Write("one.json", await _stack.Good([.. make, .. OnFiles]));
        var two = Write(
            "two.json",
            await _stack.Good([.. make, .. OnFiles.Select(f => f == _stack.Demo("estate.yaml") ? estate : f)])
        );
        Assert.Equal(0, (await _stack.Cli("plan", "compare", one, one)).Status);
        var ran = await _stack.Cli("plan", "compare", one, two);
        Assert.Equal(1, ran.Status);
        Assert.Contains("gates 6.3 to 7.1 goes in 7 waves instead of 5", ran.Output);
        var changed = Write("three.json", (await File.ReadAllTextAsync(one)).Replace("relay-south", "relay-sooth"));
        Assert.Contains("was changed", (await _stack.Cli("plan", "compare", one, changed)).Error);
        Assert.Contains("is no plan", (await _stack.Cli("plan", "compare", one, Write("four.json", "tidestep"))).Error);
    }

    [Fact]
    public async Task The_rules_and_states_behind_a_path_can_be_had()
    {
        var ran = await OnFilesAsync("goals/season.yaml", "--pairs", "--rules", "--day", DemoStack.PlanningDay);
        Assert.Contains("os-north and os-south move as well: tickets-north", ran.Output);
        Assert.Contains("ledger-north 8.2", ran.Output);
        Assert.Matches("The answer rests on \\d+ of \\d+ rules", ran.Output);
        Assert.Contains("pratincole#1", ran.Output);
        Assert.Contains("It rests as well on where these ranges end", ran.Output);
        Assert.Contains(": <7 of curlew#1", ran.Output);
    }

    [Fact]
    public async Task A_matrix_on_files_is_the_matrix_of_the_service()
    {
        var files = await _stack.Good(["catalogue", "matrix", "curlew", "dunlin", .. OnFiles, "--format", "json"]);
        Assert.Equal(
            JsonNode.Parse(files)!["places"]!.ToJsonString(),
            JsonNode.Parse(await _stack.Good("catalogue", "matrix", "curlew", "dunlin", "--format", "json"))![
                "places"
            ]!.ToJsonString()
        );
        var csv = (await _stack.Good(["catalogue", "matrix", "curlew", "dunlin", .. OnFiles, "--format", "csv"]))
            .TrimEnd('\n')
            .Split('\n');
        Assert.Equal(JsonNode.Parse(files)!["places"]!.AsArray().Count + 1, csv.Length);
        Assert.Equal(
            2,
            (await _stack.Cli("catalogue", "matrix", "curlw", "dunlin", "--catalogue", _stack.Demo("catalogue"))).Status
        );
    }

    [Fact]
    public async Task A_goal_that_is_met_says_so_and_ends_with_0()
    {
        var ran = await _stack.Cli([
            "path",
            "--goal",
            Write("goal.yaml", "tidestep: goal/1\ngoal: [{component: relay-south, at-least: \"3.0\"}]\n"),
            .. OnFiles,
        ]);
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
        foreach (
            var thing in new[] { "estate", "survey", "catalogue", "path", "plan", "run", "point", "profile", "console" }
        )
            Assert.Matches($@"\n\s+{thing}[^\n]*\s{{2,}}\w", help);
    }

    [Fact]
    public async Task A_name_is_kept_in_the_profile_and_stands_on_what_is_done()
    {
        await _stack.Good("profile", "set", "--name", "Tern Sedge");
        Assert.Contains(
            "Tern Sedge",
            await File.ReadAllTextAsync(
                Directory.EnumerateFiles(_stack.Work, "profile*", SearchOption.AllDirectories).First()
            )
        );
    }
}
