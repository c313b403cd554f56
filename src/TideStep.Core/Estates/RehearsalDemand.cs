using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>That a plan has to be rehearsed before it may start.</summary>
/// <param name="InTestEstate">Whether its steps must have been carried out in a test estate; else against
/// stand-ins.</param>
/// <param name="Lasts">How long a rehearsal counts.</param>
/// <param name="Chance">The chance to keep its windows that a rehearsal against stand-ins must show.</param>
public sealed record RehearsalDemand(bool InTestEstate, TimeSpan Lasts, double Chance)
{
    internal static RehearsalDemand? Read(Form document, Findings findings)
    {
        if (document.Node("rehearsal") is not { } node)
            return null;
        var form = Form.OpenOrWord(node, "by", "rehearsal", findings);
        var by = form.Word("by", "stand-ins", "test-estate");
        if (!form.Has("by"))
            findings.Add("rehearsal: 'by' is missing", form.At, "Write stand-ins or test-estate.");
        var lasts = form.Duration("lasts") ?? TimeSpan.FromDays(30);
        if (lasts <= TimeSpan.Zero)
            findings.Add("rehearsal: 'lasts' must be more than nought", form.PlaceOf("lasts"));
        var chance = 0.0;
        if (
            form.Text("chance") is { } text
            && !(
                text.EndsWith('%')
                && double.TryParse(text[..^1], System.Globalization.CultureInfo.InvariantCulture, out chance)
                && (chance /= 100) is >= 0 and <= 1
            )
        )
            findings.Add($"rehearsal: 'chance' must be a share like 90%, not '{text}'", form.PlaceOf("chance"));
        form.Close();
        return new RehearsalDemand(by == "test-estate", lasts, chance);
    }
}
