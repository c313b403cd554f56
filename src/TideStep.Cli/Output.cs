using System.Text.Json;
using System.Text.Json.Nodes;
using Spectre.Console;
using TideStep.Core.Documents;

namespace TideStep.Cli;

/// <summary>Exit statuses: stable, documented, the same for every command.</summary>
public static class Exit
{
    public const int Done = 0;
    public const int No = 1;
    public const int Misused = 2;
    public const int Unreached = 3;
    public const int Halted = 4;
}

/// <summary>Writes results for people (tables) or for programs (JSON, YAML, CSV), and problems with their
/// places.</summary>
public sealed class Output
{
    private readonly string _format;
    private readonly IAnsiConsole _console;

    public Output(string format)
    {
        _format = format;
        _console = AnsiConsole.Console;
        var asked = int.TryParse(Environment.GetEnvironmentVariable("COLUMNS"), out var columns) && columns > 0;
        if (asked)
            _console.Profile.Width = columns;
        else if (Console.IsOutputRedirected)
            _console.Profile.Width = ProseWidth;
        _tableWidth = asked || !Console.IsOutputRedirected ? _console.Profile.Width : int.MaxValue;
        _console.Profile.Width = Math.Min(_console.Profile.Width, WidestProse);
    }

    private const int ProseWidth = 100;
    private const int WidestProse = 140;
    private readonly int _tableWidth;

    public bool ForPeople => _format == "table";

    public IAnsiConsole Terminal => _console;

    /// <summary>Writes a value for programs, or lets people's form be written. CSV is of <paramref name="rows"/> where
    /// the value is more than one list.</summary>
    public void Write(object value, Action people, object? rows = null)
    {
        var node = JsonSerializer.SerializeToNode(value, Json.Options);
        switch (_format)
        {
            case "json":
                Console.WriteLine(JsonSerializer.Serialize(value, Json.Indented));
                break;
            case "yaml":
                Console.Write(Yaml.Write(node));
                break;
            case "csv":
                Console.Write(Csv.Write(rows is null ? node : JsonSerializer.SerializeToNode(rows, Json.Options)));
                break;
            default:
                people();
                break;
        }
    }

    private bool _told;

    /// <summary>A line that is written over by the next one; only where a person looks on.</summary>
    public void Progress(string text)
    {
        if (!ForPeople || Console.IsErrorRedirected)
            return;
        Console.Error.Write($"\r{Cut(Harmless.Line(text), 98), -99}");
        _told = true;
    }

    public void EndProgress()
    {
        if (_told)
            Console.Error.Write($"\r{"", -99}\r");
        _told = false;
    }

    /// <summary>A plain table: no lines, the unit in the heading. Where it would be wider than the terminal (or
    /// <c>COLUMNS</c>) the widest columns wrap at words; into a file or a pipe it is as wide as it is.</summary>
    public void Table(string[] headings, IEnumerable<string[]> rows)
    {
        var all = rows.Select(r => Array.ConvertAll(r, Harmless.Line)).ToList();
        var widths = headings
            .Select((h, i) => Math.Max(h.Length, all.Count == 0 ? 0 : all.Max(r => r[i].Length)))
            .ToArray();
        Narrow(widths, headings.Select((h, i) => LongestWord(all.Select(r => r[i]).Append(h))).ToArray());
        var bold = _console.Profile.Capabilities.Ansi && !Console.IsOutputRedirected;
        foreach (var line in Lines(headings, widths))
            Console.WriteLine(bold ? $"\u001b[1m{line}\u001b[0m" : line);
        foreach (var line in all.SelectMany(row => Lines(row, widths)))
            Console.WriteLine(line);
    }

    private const string Gap = "  ";
    private const int NarrowestColumn = 12;

    // The widest column that can give a sign without breaking a word gives it; where none can, words break.
    private void Narrow(int[] widths, int[] least)
    {
        while (widths.Sum() + Gap.Length * (widths.Length - 1) > _tableWidth && widths.Max() > NarrowestColumn)
        {
            var wide = Enumerable.Range(0, widths.Length).Where(i => widths[i] > Math.Max(least[i], NarrowestColumn));
            widths[wide.DefaultIfEmpty(Array.LastIndexOf(widths, widths.Max())).MaxBy(i => (widths[i], i))]--;
        }
    }

    private static int LongestWord(IEnumerable<string> texts) =>
        texts.SelectMany(t => t.Split(' ')).Max(word => word.Length);

    private static IEnumerable<string> Lines(string[] cells, int[] widths)
    {
        var wrapped = cells.Select((c, i) => Wrapped(c, widths[i]).ToList()).ToList();
        for (var line = 0; line < wrapped.Max(w => w.Count); line++)
            yield return string.Join(Gap, wrapped.Select((w, i) => (line < w.Count ? w[line] : "").PadRight(widths[i])))
                .TrimEnd();
    }

    // At words where there are any; a word that is wider than its column goes on in the next line.
    private static IEnumerable<string> Wrapped(string text, int room)
    {
        while (text.Length > room)
        {
            var at = text.LastIndexOf(' ', room);
            yield return at > 0 ? text[..at] : text[..room];
            text = at > 0 ? text[(at + 1)..] : text[room..];
        }
        yield return text;
    }

    private static string Cut(string text, int room) => text.Length <= room ? text : text[..(room - 1)] + "…";

    /// <summary>A line of prose; one that is too wide goes on at a word, indented.</summary>
    public void Line(string text = "")
    {
        text = Harmless.Lines(text);
        var indent = text.Length - text.TrimStart().Length + 4;
        while (
            text.Length > _console.Profile.Width
            && text.LastIndexOf(' ', _console.Profile.Width) is var at
            && at > indent
        )
        {
            Console.WriteLine(text[..at]);
            text = new string(' ', indent) + text[(at + 1)..];
        }
        Console.WriteLine(text);
    }

    public void Heading(string text) => _console.MarkupLine($"[bold]{Markup.Escape(Harmless.Line(text))}[/]");

    /// <summary>Writes problems to the error stream: place, what, what to do.</summary>
    public static void Problems(IEnumerable<Problem> problems)
    {
        foreach (var problem in problems)
        {
            Console.Error.WriteLine(Harmless.Lines((problem.At is null ? "" : $"{problem.At}: ") + problem.What));
            if (problem.Detail is not null)
                Console.Error.WriteLine(Harmless.Lines($"    {problem.Detail}"));
            if (problem.Hint is not null)
                Console.Error.WriteLine(Harmless.Lines($"    {problem.Hint}"));
        }
    }
}

/// <summary>JSON values as YAML: every text quoted that could be read as something else.</summary>
internal static class Yaml
{
    public static string Write(JsonNode? node)
    {
        var text = new System.Text.StringBuilder();
        Write(node, 0, text);
        return text.ToString();
    }

    private static void Write(JsonNode? node, int level, System.Text.StringBuilder text)
    {
        var pad = new string(' ', level * 2);
        switch (node)
        {
            case JsonObject { Count: > 0 } map:
                foreach (var (key, value) in map)
                {
                    text.Append(pad).Append(JsonSerializer.Serialize(key, Json.Options)).Append(':');
                    Child(value, level, text);
                }
                break;
            case JsonArray { Count: > 0 } list:
                foreach (var item in list)
                {
                    text.Append(pad).Append('-');
                    Child(item, level, text);
                }
                break;
            default:
                text.Append(pad).Append(Scalar(node)).Append('\n');
                break;
        }
    }

    private static void Child(JsonNode? value, int level, System.Text.StringBuilder text)
    {
        if (value is JsonObject { Count: > 0 } or JsonArray { Count: > 0 })
        {
            text.Append('\n');
            Write(value, level + 1, text);
        }
        else
            text.Append(' ').Append(Scalar(value)).Append('\n');
    }

    private static string Scalar(JsonNode? value) =>
        value switch
        {
            null => "null",
            JsonObject => "{}",
            JsonArray => "[]",
            _ => value.ToJsonString(Json.Options),
        };
}

/// <summary>Lists as CSV (RFC 4180): the columns are the fields of the first row, inner lists joined by
/// semicolons.</summary>
internal static class Csv
{
    public static string Write(JsonNode? node)
    {
        var rows =
            node is JsonArray list ? [.. list]
            : node is JsonObject map
                ? map.Select(p => p.Value)
                    .OfType<JsonArray>()
                    .OrderByDescending(a => a.Count)
                    .FirstOrDefault()
                    ?.ToList()
                    ?? [node]
            : new List<JsonNode?> { node };
        if (rows.Count == 0)
            return "";
        if (rows[0] is not JsonObject first)
            return string.Concat(rows.Select(r => Cell(r) + "\r\n"));
        var columns = first
            .Select(p => p.Key)
            .Concat(rows.OfType<JsonObject>().SelectMany(r => r.Select(p => p.Key)))
            .Distinct()
            .ToList();
        return string.Join(',', columns)
            + "\r\n"
            + string.Concat(
                rows.OfType<JsonObject>().Select(r => string.Join(',', columns.Select(c => Cell(r[c]))) + "\r\n")
            );
    }

    private static string Cell(JsonNode? value)
    {
        var text = value switch
        {
            null => "",
            JsonValue v when v.TryGetValue<string>(out var s) => s,
            JsonArray a => string.Join("; ", a.Select(Cell)),
            _ => value.ToJsonString(Json.Options),
        };
        text = Harmless.Field(text);
        return text.IndexOfAny([',', '"', '\n', '\r', ';']) >= 0 ? $"\"{text.Replace("\"", "\"\"")}\"" : text;
    }
}
