using System.IO.Compression;
using System.Text;

namespace TideStep.Tables.Tests;

/// <summary>Small files that stand for very much are refused before anything is made of them.</summary>
public sealed class LargeFileTests
{
    private const string Main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
    private const string Rel = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
    private const string Package = "http://schemas.openxmlformats.org/package/2006";

    // The smallest workbook that is one, with one sheet.
    private static MemoryStream Workbook(Action<StreamWriter> sheet)
    {
        var file = new MemoryStream();
        using (var zip = new ZipArchive(file, ZipArchiveMode.Create, leaveOpen: true))
        {
            void Add(string name, Action<StreamWriter> text)
            {
                using var entry = new StreamWriter(zip.CreateEntry(name).Open());
                text(entry);
            }
            Add("[Content_Types].xml", w =>
                w.Write(
                    $"<Types xmlns='{Package}/content-types'><Default Extension='xml' "
                        + $"ContentType='application/xml'/></Types>"
                )
            );
            Add("_rels/.rels", w =>
                w.Write(
                    $"<Relationships xmlns='{Package}/relationships'><Relationship Id='r1' "
                        + $"Type='{Rel}/officeDocument' Target='xl/workbook.xml'/></Relationships>"
                )
            );
            Add("xl/workbook.xml", w =>
                w.Write(
                    $"<workbook xmlns='{Main}' xmlns:r='{Rel}'><sheets><sheet name='s' sheetId='1' r:id='r1'/>"
                        + $"</sheets></workbook>"
                )
            );
            Add("xl/_rels/workbook.xml.rels", w =>
                w.Write(
                    $"<Relationships xmlns='{Package}/relationships'><Relationship Id='r1' "
                        + $"Type='{Rel}/worksheet' Target='worksheets/sheet1.xml'/></Relationships>"
                )
            );
            Add("xl/worksheets/sheet1.xml", w =>
            {
                w.Write($"<worksheet xmlns='{Main}'><sheetData>");
                sheet(w);
                w.Write("</sheetData></worksheet>");
            });
        }
        file.Position = 0;
        return file;
    }

    private static string Refusal(string name, Stream content) => TableFile.Read(name, content).Problems.Single().What;

    [Fact]
    public void A_cell_at_the_far_corner_is_not_unfolded()
    {
        var file = Workbook(w =>
            w.Write("<row r='1'><c r='A1'><v>1</v></c></row><row r='1048576'><c r='XFD1048576'><v>2</v></c></row>")
        );
        Assert.True(file.Length < 4000, $"{file.Length} bytes");
        var before = GC.GetAllocatedBytesForCurrentThread();
        Assert.Contains("too many cells", Refusal("t.xlsx", file));
        Assert.True(GC.GetAllocatedBytesForCurrentThread() - before < 100_000_000);
    }

    [Fact]
    public void A_workbook_that_unpacks_to_very_much_is_not_unpacked()
    {
        var file = Workbook(w =>
        {
            for (var i = 0; i < 110_000; i++)
                w.Write(new string(' ', 1000));
        });
        Assert.True(file.Length < 1_000_000, $"{file.Length} bytes");
        Assert.Contains("unpacks to more than 100 MB", Refusal("t.xlsx", file));
    }

    [Fact]
    public void A_small_sheet_is_read()
    {
        var table = TableFile.Read(
            "t.xlsx",
            Workbook(w => w.Write("<row r='1'><c r='A1'><v>1</v></c><c r='B1'><v>2</v></c></row>"))
        );
        Assert.Equal(["1", "2"], Assert.Single(table.Value!).Rows.Single());
    }

    [Fact]
    public void Delimiters_alone_are_not_unfolded() =>
        Assert.Contains(
            "too many cells",
            Refusal("t.csv", new MemoryStream(Encoding.UTF8.GetBytes(new string(',', 1_500_000))))
        );

    [Theory]
    [InlineData(".md")]
    [InlineData(".html")]
    public void Markup_that_is_huge_or_nested_without_end_is_refused_or_holds_no_table(string kind)
    {
        Assert.Contains("larger than 10 MB", Refusal("t" + kind, new MemoryStream(new byte[11_000_000])));
        var deep = string.Concat(Enumerable.Repeat(kind == ".md" ? ">" : "<div>", 100_000));
        Assert.NotEmpty(Refusal("t" + kind, new MemoryStream(Encoding.UTF8.GetBytes(deep))));
    }
}
