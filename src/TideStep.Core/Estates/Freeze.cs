using System.Collections.Immutable;
using System.Globalization;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>A time in which nothing may be changed, whatever windows say; in the estate's own zone.</summary>
/// <param name="From">When it begins.</param>
/// <param name="To">When it is over.</param>
/// <param name="Why">What it is for, or null.</param>
public sealed record Freeze(string Id, DateTime From, DateTime To, string? Why)
{
    /// <summary>Reads the <c>freezes</c> of an estate: days, of which the last one counts whole, or moments.</summary>
    internal static ImmutableArray<Freeze> ReadAll(Form document, Findings findings)
    {
        var freezes = ImmutableArray.CreateBuilder<Freeze>();
        foreach (var (id, node, at) in document.Map("freezes"))
        {
            Form.CheckId(id, at, "freeze", findings);
            var form = Form.Open(node, $"freeze {id}", findings, at);
            DateTime Read(string key, bool end)
            {
                var text = form.Required(key);
                if (
                    DateOnly.TryParseExact(
                        text,
                        "yyyy-MM-dd",
                        CultureInfo.InvariantCulture,
                        DateTimeStyles.None,
                        out var day
                    )
                )
                    return (end ? day.AddDays(1) : day).ToDateTime(TimeOnly.MinValue);
                if (
                    DateTime.TryParseExact(
                        text,
                        Moment,
                        CultureInfo.InvariantCulture,
                        DateTimeStyles.None,
                        out var moment
                    )
                )
                    return moment;
                if (text.Length > 0)
                    findings.Add(
                        $"freeze {id}: '{key}' must be a day like 2026-12-20 or a moment like \"2026-12-20 "
                            + $"18:00\", not '{text}'",
                        form.PlaceOf(key)
                    );
                return end ? DateTime.MaxValue : DateTime.MinValue;
            }
            var (from, to) = (Read("from", end: false), Read("to", end: true));
            if (to <= from)
                findings.Add($"freeze {id}: ends before it begins", form.PlaceOf("to"));
            freezes.Add(new Freeze(id, from, to, form.Text("why")));
            form.Close();
        }
        return freezes.ToImmutable();
    }

    /// <summary>The estate's document with more freezes after its own; what else stands in it stays as it is
    /// written.</summary>
    /// <param name="text">The document.</param>
    /// <param name="name">What to call it in messages.</param>
    /// <param name="more">The freezes.</param>
    public static Checked<string> Into(string text, string name, IReadOnlyCollection<Freeze> more)
    {
        var rows = text.TrimEnd('\n').Split('\n').ToList();
        var at = rows.FindIndex(r => r.TrimEnd() == "freezes:");
        var lines = more.Select(f => "  " + f.Line());
        if (at >= 0)
            rows.InsertRange(at + 1, lines);
        else
            rows.AddRange(["", "freezes:", .. lines]);
        var written = string.Join("\n", rows) + "\n";
        var (before, after) = (EstateDocument.Read(text, name), EstateDocument.Read(written, name));
        return
            before.Value is { } was && after.Value is { } now && now.Freezes.Length == was.Freezes.Length + more.Count
            ? new Checked<string>(written, [])
            : new Checked<string>(
                null,
                before.Problems.IsEmpty && !after.Problems.IsEmpty ? after.Problems
                    : before.Problems.IsEmpty
                        ?
                        [
                            new Problem(
                                $"the freezes of {name} are not written a line each",
                                null,
                                "Put those shown into it by hand."
                            ),
                        ]
                    : before.Problems
            );
    }

    /// <summary>How a moment is written.</summary>
    public const string Moment = "yyyy-MM-dd HH:mm";

    /// <summary>The freeze as a line of an estate's document.</summary>
    public string Line()
    {
        var days = From.TimeOfDay == TimeSpan.Zero && To.TimeOfDay == TimeSpan.Zero;
        string Written(DateTime at) =>
            days
                ? at.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
                : $"\"{at.ToString(Moment, CultureInfo.InvariantCulture)}\"";
        return $"{Id}: {{from: {Written(From)}, to: {Written(days ? To.AddDays(-1) : To)}"
            + $"{(Why is null ? "" : $", why: \"{Why.Replace("\\", "\\\\").Replace("\"", "\\\"")}\"")}}}";
    }
}
