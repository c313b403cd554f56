using System.Collections.Immutable;
using System.Globalization;
using System.IO.Compression;
using System.Text;
using System.Text.RegularExpressions;
using AngleSharp.Html.Parser;
using CsvHelper;
using CsvHelper.Configuration;
using ExcelDataReader;
using Markdig;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;

namespace TideStep.Tables;

/// <summary>Reads the tables out of a CSV, XLSX, Markdown or HTML file.</summary>
public static partial class TableFile
{
    /// <summary>The largest file that is read, in bytes.</summary>
    public const long LargestFile = 50_000_000;

    // What a file unfolds to is counted before or while it is read: it may stand for far more than it weighs.
    private const long MostUnpacked = 100_000_000;
    private const long MostMarkup = 10_000_000;
    private const long MostCells = 1_000_000;
    private const int MostNested = 500;

    private sealed class TooMuchException(string what, string hint) : Exception(what)
    {
        public string Hint { get; } = hint;
    }

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
                ".html" or ".htm" => Html(Nested(Text(content))),
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
        catch (TooMuchException e)
        {
            return Wrong(name, e.Message, e.Hint);
        }
        catch (Exception e)
            when (e
                    is ExcelDataReader.Exceptions.ExcelReaderException
                        or InvalidDataException
                        or System.Xml.XmlException
                        or CsvHelperException
                        or ArgumentException // of markup that is nested too deep
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
        if (content.Length > MostMarkup)
            throw new TooMuchException(
                $"the page is larger than {MostMarkup / 1_000_000} MB",
                "Cut the table out of it."
            );
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
        for (long cells = 0; parser.Read(); )
        {
            if ((cells += parser.Count) > MostCells)
                throw TooManyCells($"more than {MostCells:N0}");
            rows.Add([.. parser.Record ?? []]);
        }
        return rows.ToImmutable();
    }

    private static List<ImmutableArray<ImmutableArray<string>>> Sheets(Stream content)
    {
        // The reader asks for old code pages even where the file needs none.
        Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);
        RefuseLarge(content);
        using var reader = ExcelReaderFactory.CreateOpenXmlReader(content);
        var sheets = new List<ImmutableArray<ImmutableArray<string>>>();
        long cells = 0;
        do
        {
            // A cell at the far corner makes everything before it cells as well.
            if ((cells += (long)reader.RowCount * reader.FieldCount) > MostCells)
                throw TooManyCells(
                    $"{cells:N0}, {reader.RowCount:N0} rows of {reader.FieldCount:N0} in the sheet '{reader.Name}'"
                );
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

    // Elements that may stay open, or never are: they nest nothing.
    private static readonly HashSet<string> Flat = new(StringComparer.OrdinalIgnoreCase)
    {
        "area",
        "base",
        "br",
        "col",
        "colgroup",
        "dd",
        "dt",
        "embed",
        "hr",
        "img",
        "input",
        "li",
        "link",
        "meta",
        "option",
        "p",
        "source",
        "tbody",
        "td",
        "tfoot",
        "th",
        "thead",
        "tr",
        "track",
        "wbr",
    };

    [GeneratedRegex("<(/?)([A-Za-z][A-Za-z0-9-]*)")]
    private static partial Regex Tag();

    // The time that a page takes grows with the square of its depth.
    private static string Nested(string text)
    {
        var depth = 0;
        foreach (var tag in Tag().EnumerateMatches(text))
        {
            var close = text[tag.Index + 1] == '/';
            var name = text.AsSpan(tag.Index + (close ? 2 : 1), tag.Length - (close ? 2 : 1));
            if (Flat.GetAlternateLookup<ReadOnlySpan<char>>().Contains(name))
                continue;
            depth = close ? Math.Max(0, depth - 1) : depth + 1;
            if (depth > MostNested)
                throw new TooMuchException(
                    $"the page is nested more than {MostNested} elements deep",
                    "Cut the table out of it."
                );
        }
        return text;
    }

    private static TooMuchException TooManyCells(string many) =>
        new(
            $"the file has too many cells: {many}; {MostCells:N0} are read at most",
            "Keep what belongs to the table, and clear cells far away from it."
        );

    // What a workbook's parts say of their own size may be wrong: they are unpacked once, and counted.
    private static void RefuseLarge(Stream content)
    {
        using (var zip = new ZipArchive(content, ZipArchiveMode.Read, leaveOpen: true))
        {
            var (piece, unpacked) = (new byte[1 << 16], 0L);
            foreach (var part in zip.Entries)
            {
                using var stream = part.Open();
                while (stream.Read(piece) is > 0 and var read)
                    if ((unpacked += read) > MostUnpacked)
                        throw new TooMuchException(
                            $"the workbook unpacks to more than {MostUnpacked / 1_000_000} MB",
                            "Save the sheet that holds the table alone, or as .csv."
                        );
            }
        }
        content.Position = 0;
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
