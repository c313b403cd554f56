using System.Collections.Immutable;
using CsCheck;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Estates;

namespace TideStep.Core.Tests;

/// <summary>Rules out of somebody's table say exactly what the table says.</summary>
public sealed class TableImportTests
{
    private static readonly ProductCatalogue Two = new Fleet()
        .Chain("engine", ["6.8", "6.10", "7.0"])
        .Chain("base", ["1", "2", "3"])
        .Catalogue;
    private static readonly TableReading Plain = new(null, null, null, ImmutableDictionary<string, Verdict>.Empty);

    private static TextTable Table(params string[] rows) =>
        new("t.csv", [.. rows.Select(r => r.Split(',').ToImmutableArray())]);

    private static IReadOnlyList<ProposedRule> Read(TextTable table, TableReading? reading = null) =>
        Fleet.Good(TableImport.Read(table, reading ?? Plain, Two.Find("engine")!, Two.Find("base")!));

    private static IEnumerable<string> Problems(TextTable table, TableReading? reading = null) =>
        TableImport
            .Read(table, reading ?? Plain, Two.Find("engine")!, Two.Find("base")!)
            .Problems.Select(p => p.ToString());

    [Fact]
    public void Versions_of_one_verdict_are_drawn_together_across_columns_and_rows()
    {
        var rules = Read(Table("engine,1,2,3", "6.8,yes,yes,no", "6.10,yes,yes,no", "7.0,,yes,yes"));
        Assert.Equal(
            ["6.8 || 6.10 with 1 || 2: Supported", "6.8 || 6.10 with 3: Unsupported", "7.0 with 2 || 3: Supported"],
            rules.Select(r => $"{r.This} with {r.At}: {r.Verdict}")
        );
        Assert.Equal([2, 3], rules[0].Rows);
    }

    [Fact]
    public void A_list_of_pairs_is_read_by_its_columns()
    {
        var reading = new TableReading(
            "release",
            "base",
            "state",
            ImmutableDictionary<string, Verdict>.Empty.Add("certified", Verdict.Supported)
        );
        var rules = Read(Table("note,base,release,state", "a,1,6.8,Certified", "b,>=2,7.0,during upgrade"), reading);
        Assert.Equal(
            ["6.8 with 1: Supported", "7.0 with >=2: Transitional"],
            rules.Select(r => $"{r.This} with {r.At}: {r.Verdict}")
        );
    }

    [Fact]
    public void What_is_not_understood_is_said_with_row_and_column_all_at_once()
    {
        var problems = Problems(Table("engine,1,9", "6.8,perhaps,yes", "6.9,yes,yes")).ToList();
        Assert.Contains(problems, p => p.StartsWith("t.csv:1:3: '9' is no release of base", StringComparison.Ordinal));
        Assert.Contains(problems, p =>
            p.StartsWith("t.csv:2:2: 'perhaps' is no verdict", StringComparison.Ordinal)
            && p.Contains("--word \"perhaps=supported\"", StringComparison.Ordinal)
        );
        Assert.Contains(problems, p =>
            p.StartsWith("t.csv:3:1: '6.9' is no release of engine", StringComparison.Ordinal)
        );
        Assert.Equal(3, problems.Count);
    }

    [Fact]
    public void A_table_without_rows_or_with_half_a_mapping_is_refused()
    {
        Assert.Single(Problems(Table("engine,1")));
        Assert.Contains(
            "Name both",
            Assert.Single(Problems(Table("engine,base", "6.8,1"), Plain with { At = "base" }))
        );
        Assert.Contains(
            "Did you mean 'base'?",
            Assert.Single(Problems(Table("engine,base,v", "6.8,1,yes"), Plain with { At = "bas", Verdict = "v" }))
        );
    }

    [Fact]
    public void Whatever_a_table_says_the_matrix_of_its_rules_says_the_same() =>
        Gen.Int[0, 3]
            .Array[9]
            .Sample(
                cells =>
                {
                    string[] words = ["", "yes", "no", "upgrade only"];
                    var (engine, other) = (Two.Find("engine")!, Two.Find("base")!);
                    string[] releases = ["6.8", "6.10", "7.0"];
                    var rules = Read(
                        Table([
                            "engine,1,2,3",
                            .. releases.Select(
                                (r, i) => $"{r},{string.Join(',', cells.Skip(i * 3).Take(3).Select(c => words[c]))}"
                            ),
                        ])
                    );
                    var text =
                        $"tidestep: product/1\nproduct: engine\nreleases: {{\"6.8\": {{}}, \"6.10\": {{}}, "
                        + $"\"7.0\": {{}}}}\n"
                        + (
                            rules.Count > 0
                                ? "rules:\n"
                                    + string.Join(
                                        "\n",
                                        rules.Select(r => r.Line("depends-on", "base", "a \"quoted\" title"))
                                    )
                                : ""
                        )
                        + $"\n";
                    var read = Fleet
                        .Good(ProductCatalogue.Create([Fleet.Good(ProductDocument.Read(text, "engine.yaml")), other]))
                        .Find("engine")!;
                    for (var i = 0; i < 9; i++)
                    {
                        var verdict = VerdictOf.Pair(
                            read,
                            engine.Scheme.TryParse(releases[i / 3])!,
                            other,
                            other.Scheme.TryParse($"{i % 3 + 1}")!,
                            RelationKind.DependsOn
                        );
                        Assert.Equal(
                            cells[i] switch
                            {
                                1 => Verdict.Supported,
                                2 => Verdict.Unsupported,
                                3 => Verdict.Transitional,
                                _ => cells.All(c => c == 0) ? Verdict.Supported : Verdict.Untested,
                            },
                            verdict.Verdict
                        );
                    }
                },
                iter: 200
            );

    [Fact]
    public void What_would_change_is_told_before_it_does()
    {
        var (engine, other) = (Two.Find("engine")!, Two.Find("base")!);
        var added = Fleet
            .Good(
                ProductDocument.Read(
                    "tidestep: product/1\nproduct: engine\nreleases: {\"6.8\": {}}\n"
                        + "rules:\n- {this: \"6.8\", depends-on: base, at: \"1\", verdict: unsupported}\n",
                    "engine.yaml"
                )
            )
            .Rules;
        var changes = TableImport.Changes(engine, other, RelationKind.DependsOn, added);
        Assert.Equal(9, changes.Length); // one is refused, and the eight others are no longer 'no data'
        Assert.Contains(("6.8", "1", Verdict.Supported, Verdict.Unsupported), changes);
    }
}
