using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Core.Checks;

/// <summary>Who may accept what, for how long: in a production estate a blocker needs a second person, and nothing is
/// accepted for ever.</summary>
public static class WaiverRules
{
    private static readonly TimeSpan Longest = TimeSpan.FromDays(92);
    private static readonly TimeSpan Usual = TimeSpan.FromDays(7);

    /// <summary>Nobody's word makes these safe: another run at work, Tide Step's own host; and what people have to do
    /// is done and signed, not accepted.</summary>
    private static readonly string[] Never = ["carries-us", "reserved", "manual", Premise, Ready, Secret];

    /// <summary>The checks for what a start itself refuses: premises, words and rehearsals, secrets.</summary>
    public const string Premise = "premise",
        Ready = "ready",
        Secret = "secret";

    /// <summary>Whether somebody's word can make it count no more.</summary>
    public static bool MayBeAccepted(Finding finding) =>
        finding.Result is CheckResult.Failed or CheckResult.Open && !Never.Contains(finding.Check);

    public static Checked<Waiver> Make(
        EstateClass estate,
        Finding finding,
        string by,
        string reason,
        DateTimeOffset now,
        DateTimeOffset? ends
    )
    {
        var findings = new Findings();
        if (finding.Result is not (CheckResult.Failed or CheckResult.Open))
            findings.Add(
                $"'{finding.Id}' has nothing to accept: it "
                    + $"{(finding.Result == CheckResult.Passed ? "passed" : "does not apply")}",
                null
            );
        if (Never.Contains(finding.Check))
            findings.Add($"'{finding.Id}' can't be accepted", null, finding.Remedy);
        if (string.IsNullOrWhiteSpace(reason))
            findings.Add("a waiver needs a reason", null, "Say why it may be borne, for those who read the report.");
        var until = ends ?? now + Usual;
        if (until <= now)
            findings.Add(
                $"the waiver would have ended already, on {until:yyyy-MM-dd HH:mm}",
                null,
                "Give a later end."
            );
        if (until - now > Longest)
            findings.Add(
                $"a waiver ends within {Longest.Days} days",
                null,
                "Give an earlier end, and look at it again then."
            );
        return new Checked<Waiver>(
            findings.Any
                ? null
                : new Waiver(finding.Id, by, reason.Trim(), now, until, finding.Level, finding.Result, finding.ShortBy)
                {
                    NeedsSecond = estate == EstateClass.Production && finding.Level == Level.Blocker,
                },
            findings.All
        );
    }

    public static Checked<Waiver> Second(Waiver waiver, string by)
    {
        var findings = new Findings();
        if (!waiver.NeedsSecond)
            findings.Add($"the waiver of '{waiver.Finding}' needs no second person", null);
        else if (waiver.Second is { } already)
            findings.Add($"{already} has said so already", null);
        else if (string.Equals(by, waiver.By, StringComparison.OrdinalIgnoreCase))
            findings.Add($"{by} made the waiver; the second person must be another", null);
        return new Checked<Waiver>(findings.Any ? null : waiver with { Second = by }, findings.All);
    }
}
