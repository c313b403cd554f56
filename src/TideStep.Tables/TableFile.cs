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

namespace TideStep.Tables;

/// <summary>Reads the tables out of a CSV, XLSX, Markdown or HTML file.</summary>
public static class TableFile
{
    /// <summary>The largest file that is read, in bytes.</summary>
    public const long LargestFile = 50_000_000;

    /// <summary>The tables of a file on this machine; see <see cref="Read(string, Stream)"/>.</summary>
    public static Checked<IReadOnlyList<TextTable>> Read(string path)
    {
        try
        {
            using var stream = File.OpenRead(path);
            return stream.Length > LargestFile
                ? Wrong(path, "the file is larger than 50 MB", "Cut the table out of it.")
                : Read(path, stream);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return Wrong(path, $"the file can't be read: {e.Message}", null);
        }
    }

    /// <summary>The tables of a file, in its order; the sheets of a workbook are tables. What kind it is, its name
    /// says.</summary>
    /// <param name="name">The name of the file, for its kind and for messages.</param>
    /// <param name="content">The file, seekable.</param>
    public static Checked<IReadOnlyList<TextTable>> Read(string name, Stream content)
    {
        try
        {
            var tables = Path.GetExtension(name).ToLowerInvariant() switch
            {
                ".csv" => [Csv(content, ",")],
                ".tsv" => [Csv(content, "\t")],
                ".xlsx" => Sheets(content),
                ".md" => Html(
                    Markdown.ToHtml(
                        Text(content),
                        new MarkdownPipelineBuilder().UsePipeTables().UseGridTables().DisableHtml().Build()
                    )
                ),
                ".html" or ".htm" => Html(Text(content)),
                _ => null,
            };
            return tables is null
                    ? Wrong(
                        name,
                        $"'{Path.GetExtension(name)}' is no kind of table that is read",
                        "Known are .csv, .tsv, .xlsx, .md and .html."
                    )
                : tables.Count == 0 ? Wrong(name, "the file holds no table", null)
                : new Checked<IReadOnlyList<TextTable>>([.. tables.Select(t => new TextTable(name, t))], []);
        }
        catch (Exception e)
            when (e
                    is ExcelDataReader.Exceptions.ExcelReaderException
                        or InvalidDataException
                        or System.Xml.XmlException
                        or CsvHelperException
            )
        {
            return Wrong(
                name,
                $"the file can't be read: {e.Message.Split('\n')[0].Trim()}",
                "Save it anew, or as .csv."
            );
        }
    }

    /// <summary>The table of that number, counted from 1.</summary>
    public static Checked<TextTable> Numbered(Checked<IReadOnlyList<TextTable>> tables, int number) =>
        tables.Value is not { } all ? new Checked<TextTable>(null, tables.Problems)
        : number >= 1 && number <= all.Count ? new Checked<TextTable>(all[number - 1], [])
        : new Checked<TextTable>(
            null,
            [
                new Problem(
                    $"there is no table {number}; the file holds {all.Count}",
                    null,
                    "Name another one.",
                    new Place(all[0].File, 1, 1)
                ),
            ]
        );

    private static Checked<IReadOnlyList<TextTable>> Wrong(string name, string what, string? hint) =>
        new(null, [new Problem(what, null, hint, new Place(name, 1, 1))]);

    private static string Text(Stream content)
    {
        using var reader = new StreamReader(content, Encoding.UTF8, leaveOpen: true);
        return reader.ReadToEnd();
    }

    private static ImmutableArray<ImmutableArray<string>> Csv(Stream content, string delimiter)
    {
        using var text = new StreamReader(content, Encoding.UTF8, leaveOpen: true);
        using var parser = new CsvParser(
            text,
            new CsvConfiguration(CultureInfo.InvariantCulture) { Delimiter = delimiter, BadDataFound = null }
        );
        var rows = ImmutableArray.CreateBuilder<ImmutableArray<string>>();
        while (parser.Read())
            rows.Add([.. parser.Record ?? []]);
        return rows.ToImmutable();
    }

    private static List<ImmutableArray<ImmutableArray<string>>> Sheets(Stream content)
    {
        // The reader asks for old code pages even where the file needs none.
        Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);
        using var reader = ExcelReaderFactory.CreateOpenXmlReader(content);
        var sheets = new List<ImmutableArray<ImmutableArray<string>>>();
        do
        {
            var rows = ImmutableArray.CreateBuilder<ImmutableArray<string>>();
            while (reader.Read())
                rows.Add([
                    .. Enumerable
                        .Range(0, reader.FieldCount)
                        .Select(i => Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture) ?? ""),
                ]);
            sheets.Add(rows.ToImmutable());
        } while (reader.NextResult());
        return sheets;
    }

    private static List<ImmutableArray<ImmutableArray<string>>> Html(string text) =>
        [
            .. new HtmlParser()
                .ParseDocument(text)
                .QuerySelectorAll("table")
                .Select(table =>
                    table
                        .QuerySelectorAll("tr")
                        .Select(row =>
                            row.QuerySelectorAll("th, td").Select(cell => cell.TextContent.Trim()).ToImmutableArray()
                        )
                        .ToImmutableArray()
                ),
        ];
}
