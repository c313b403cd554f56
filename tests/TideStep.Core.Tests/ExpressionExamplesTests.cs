using System.Globalization;
using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Core.Tests;

/// <summary>The examples of the guide to expressions, as they stand there.</summary>
public sealed class ExpressionExamplesTests
{
    private static readonly Dictionary<string, ValueKind> Kinds = new()
    {
        ["size"] = ValueKind.Bytes,
        ["lag"] = ValueKind.Bytes,
        ["state"] = ValueKind.Text,
        ["role"] = ValueKind.Text,
        ["running"] = ValueKind.Version,
        ["installed"] = ValueKind.Version,
        ["licence.until"] = ValueKind.Date,
        ["window.start"] = ValueKind.Date,
        ["window.length"] = ValueKind.Time,
        ["today"] = ValueKind.Date,
        ["busy"] = ValueKind.Share,
        ["sessions"] = ValueKind.Count,
    };

    private static ValueKind? KindOf(Reference r) =>
        Kinds.TryGetValue(r.Key, out var kind)
            ? kind
            : r.Name switch
            {
                "free" => ValueKind.Bytes,
                "related" => ValueKind.Version,
                "file" or "service" => ValueKind.Flag,
                _ => null,
            };

    public static TheoryData<string, string, string> Examples()
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "TideStep.slnx")))
            root = Path.GetDirectoryName(root)!;
        var rows = new TheoryData<string, string, string>();
        foreach (
            var line in File.ReadAllLines(Path.Combine(root, "docs/formats/expressions.md"))
                .Where(l => l.StartsWith("| `", StringComparison.Ordinal))
        )
            if (
                line.Replace("\\|", "\u0001", StringComparison.Ordinal).Split('|')
                is [_, var expression, var readings, var result, _]
            )
                rows.Add(expression.Trim()[1..^1], readings.Replace('\u0001', '|').Trim(), result.Trim());
        return rows;
    }

    [Fact]
    public void There_are_so_many_of_them() => Assert.Equal(31, Examples().Count);

    [Theory]
    [MemberData(nameof(Examples))]
    public void Each_comes_to_what_stands_beside_it(string text, string readings, string result)
    {
        var expression = ExpressionParser.TryParse(text, out var reason, out var offset)
            ?? throw new InvalidOperationException($"{reason} at {offset}");
        Assert.Empty(TypeCheck.Check(expression, KindOf));
        var (alone, members) = Read(readings);
        var came = Evaluator.Evaluate(expression, Look(alone), [.. members.Select(Look)]);
        var said =
            came.Open ? "open"
            : came.Holds ? "holds"
            : came.Gap is not { } gap ? "fails"
            : $"needs {gap.Needed}, has {gap.Found}{(gap.Short is { } by ? $": {by} short" : "")}";
        Assert.Equal(result, said);
    }

    private static Func<Reference, Value?> Look(Dictionary<string, string> readings) =>
        r =>
            readings.TryGetValue(r.Key, out var text) && text.Length > 0
                ? Value.Read(text, KindOf(r)!.Value, VersionScheme.Dotted)
                : null;

    private static (Dictionary<string, string> Alone, List<Dictionary<string, string>> Members) Read(string readings)
    {
        var (alone, members) = (new Dictionary<string, string>(), new List<Dictionary<string, string>>());
        foreach (
            var reading in readings.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)
        )
        {
            if (reading.Contains(" = ", StringComparison.Ordinal))
            {
                var pair = reading.Split(" = ", 2);
                alone[pair[0]] = pair[1];
                continue;
            }
            var at = reading.LastIndexOf(": ", StringComparison.Ordinal);
            var values = reading[(at + 2)..].Split('|', StringSplitOptions.TrimEntries);
            while (members.Count < values.Length)
                members.Add([]);
            for (var i = 0; i < values.Length; i++)
                members[i][reading[..at]] = values[i];
        }
        return (alone, members);
    }

    [Theory]
    [InlineData("count(members where lag)", "'where' needs something that is true or false, not a size", 20)]
    [InlineData("sum(state of members) > 1", "there is no sum of a text", 0)]
    [InlineData("max(lag of members) > 3", "a size can't be compared with a count", 20)]
    [InlineData("count(members)", "this is a count, not something that is true or false", 0)]
    public void What_does_not_fit_is_said_with_its_place(string text, string what, int offset)
    {
        var mistake = Assert.Single(TypeCheck.Check(ExpressionParser.TryParse(text, out _, out _)!, KindOf));
        Assert.Equal(
            (what, offset.ToString(CultureInfo.InvariantCulture)),
            (mistake.What, mistake.Offset.ToString(CultureInfo.InvariantCulture))
        );
    }
}
