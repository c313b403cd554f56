using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using AngleSharp.Html.Parser;
using CsvHelper;
using CsvHelper.Configuration;
using ExcelDataReader;
using Markdig;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;

namespace TideStep.Cli.Tables;

/// <summary>Reads a table out of a CSV, XLSX, Markdown or HTML file.</summary>
public static class TableFile
{
    private const long LargestFile = 50_000_000;

    /// <summary>The table of that number, counted from 1; sheets of a workbook count as tables.</summary>
    public static TextTable Read(string path, int number)
    {
        if (new FileInfo(path) is { Exists: true, Length: > LargestFile }) throw Wrong(path, "the file is larger than 50 MB", "Cut the table out of it.");
        var tables = Path.GetExtension(path).ToLowerInvariant() switch
        {
            ".csv" => [Csv(path, ",")],
            ".tsv" => [Csv(path, "\t")],
            ".xlsx" => Sheets(path),
            ".md" => Html(Markdown.ToHtml(File.ReadAllText(path), new MarkdownPipelineBuilder().UsePipeTables().UseGridTables().DisableHtml().Build())),
            ".html" or ".htm" => Html(File.ReadAllText(path)),
            var other => throw Wrong(path, $"'{other}' is no kind of table that is read", "Known are .csv, .tsv, .xlsx, .md and .html."),
        };
        if (number < 1 || number > tables.Count) throw Wrong(path, tables.Count == 0 ? "the file holds no table" : $"there is no table {number}; the file holds {tables.Count}", "Name another with --table.");
        return new TextTable(path, tables[number - 1]);
    }

    private static MisusedException Wrong(string path, string what, string hint) => new([new Problem(what, null, hint, new Place(path, 1, 1))]);

    private static ImmutableArray<ImmutableArray<string>> Csv(string path, string delimiter)
    {
        using var text = new StreamReader(path, Encoding.UTF8);
        using var parser = new CsvParser(text, new CsvConfiguration(CultureInfo.InvariantCulture) { Delimiter = delimiter, BadDataFound = null });
        var rows = ImmutableArray.CreateBuilder<ImmutableArray<string>>();
        while (parser.Read()) rows.Add([.. parser.Record ?? []]);
        return rows.ToImmutable();
    }

    private static List<ImmutableArray<ImmutableArray<string>>> Sheets(string path)
    {
        // The reader asks for old code pages even where the file needs none.
        Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);
        try
        {
            using var stream = File.OpenRead(path);
            using var reader = ExcelReaderFactory.CreateOpenXmlReader(stream);
            var sheets = new List<ImmutableArray<ImmutableArray<string>>>();
            do
            {
                var rows = ImmutableArray.CreateBuilder<ImmutableArray<string>>();
                while (reader.Read()) rows.Add([.. Enumerable.Range(0, reader.FieldCount).Select(i => Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture) ?? "")]);
                sheets.Add(rows.ToImmutable());
            }
            while (reader.NextResult());
            return sheets;
        }
        catch (Exception e) when (e is ExcelDataReader.Exceptions.ExcelReaderException or InvalidDataException or System.Xml.XmlException) { throw Wrong(path, $"the workbook can't be read: {e.Message}", "Save it anew as .xlsx, or as .csv."); }
    }

    private static List<ImmutableArray<ImmutableArray<string>>> Html(string text) =>
        [.. new HtmlParser().ParseDocument(text).QuerySelectorAll("table").Select(table =>
            table.QuerySelectorAll("tr").Select(row => row.QuerySelectorAll("th, td").Select(cell => cell.TextContent.Trim()).ToImmutableArray()).ToImmutableArray())];
}
