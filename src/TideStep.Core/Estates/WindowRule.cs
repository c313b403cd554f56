using System.Collections.Immutable;
using System.Globalization;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>Hours in which work may be done, as an estate states them in its own zone: every week on a day, or
/// once.</summary>
/// <param name="Every">The day of the week, or null where it is once.</param>
/// <param name="On">The day, or null where it is every week.</param>
/// <param name="Lasts">Hours of real time, whatever the clocks do meanwhile.</param>
public sealed record WindowRule(string Id, DayOfWeek? Every, DateOnly? On, TimeOnly From, TimeSpan Lasts)
{
    /// <summary>Reads the <c>windows</c> of an estate.</summary>
    internal static ImmutableArray<WindowRule> ReadAll(Form document, Findings findings)
    {
        var rules = ImmutableArray.CreateBuilder<WindowRule>();
        foreach (var (id, node, at) in document.Map("windows"))
        {
            Form.CheckId(id, at, "window", findings);
            var form = Form.Open(node, $"window {id}", findings, at);
            var (day, on) = (
                form.Word("every", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"),
                form.Date("on")
            );
            if (form.Has("every") == form.Has("on"))
                findings.Add($"window {id}: say either 'every: sunday' or 'on: 2026-12-06'", at);
            var text = form.Required("from");
            if (
                !TimeOnly.TryParseExact(text, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var from)
                && text.Length > 0
            )
                findings.Add(
                    $"window {id}: 'from' must be a time like 01:00, not '{text}'",
                    form.PlaceOf("from"),
                    "In YAML write it in quotes."
                );
            var lasts = form.Duration("lasts");
            if (lasts is null && !form.Has("lasts"))
                findings.Add($"window {id}: 'lasts' is missing", at, "Add 'lasts: 5 h'.");
            if (lasts is { } span && (span <= TimeSpan.Zero || span > TimeSpan.FromDays(7)))
                findings.Add(
                    $"window {id}: 'lasts' must be more than nought and at most seven days",
                    form.PlaceOf("lasts")
                );
            form.Close();
            rules.Add(
                new WindowRule(
                    id,
                    day is null ? null : Enum.Parse<DayOfWeek>(day, ignoreCase: true),
                    on,
                    from,
                    lasts ?? TimeSpan.FromHours(1)
                )
            );
        }
        return rules.ToImmutable();
    }
}
