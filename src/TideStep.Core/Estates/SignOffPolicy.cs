using System.Collections.Immutable;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>Where an estate asks a person to say that the work may go on, and for how long that word holds.</summary>
/// <param name="Lasts">How long a word holds.</param>
/// <param name="ByAnother">Whether it must be somebody else than those whose work it is; what the estate's class says
/// where null.</param>
public sealed record SignOffWish(TimeSpan Lasts, bool? ByAnother);

/// <summary>The sign-offs that an estate asks for; none where nothing stands.</summary>
/// <param name="Start">Before a run starts.</param>
/// <param name="NoReturn">Before the part after which no clean or lossy return is left.</param>
/// <param name="Phases">Before the first part of each of these phases of a move.</param>
public sealed record SignOffPolicy(
    SignOffWish? Start,
    SignOffWish? NoReturn,
    ImmutableSortedDictionary<string, SignOffWish> Phases
)
{
    public static readonly SignOffPolicy None = new(null, null, ImmutableSortedDictionary<string, SignOffWish>.Empty);

    /// <summary>The phases by the words of the vocabulary.</summary>
    internal static readonly string[] PhaseWords =
    [
        "prepare",
        "secure",
        "quiesce",
        "roll",
        "verify",
        "resume",
        "close",
    ];

    private static readonly TimeSpan UsualBefore = TimeSpan.FromDays(7);
    private static readonly TimeSpan UsualInside = TimeSpan.FromHours(12);
    private static readonly TimeSpan Longest = TimeSpan.FromDays(92);

    /// <summary>How long a word at a phase holds where only the product asks for it.</summary>
    internal static readonly SignOffWish OfProduct = new(UsualInside, null);

    /// <summary>Reads the <c>sign-offs</c> of an estate: <c>start</c>, <c>no-return</c> and names of phases, each with
    /// how long it lasts and by whom.</summary>
    internal static SignOffPolicy Read(Form document, Findings findings)
    {
        SignOffWish? start = null,
            noReturn = null;
        var phases = ImmutableSortedDictionary.CreateBuilder<string, SignOffWish>(StringComparer.Ordinal);
        foreach (var (id, node, at) in document.Map("sign-offs"))
        {
            var form = Form.Open(node is TextNode { Text: "" } ? null : node, $"sign-off {id}", findings, at);
            var lasts = form.Duration("lasts") ?? (id == "start" ? UsualBefore : UsualInside);
            if (lasts <= TimeSpan.Zero || lasts > Longest)
                findings.Add(
                    $"sign-off {id}: 'lasts' must be more than nought and at most {Longest.Days} days",
                    form.PlaceOf("lasts")
                );
            var wish = new SignOffWish(
                lasts,
                form.Word("by", "another", "anybody") switch
                {
                    "another" => true,
                    "anybody" => false,
                    _ => null,
                }
            );
            form.Close();
            if (id == "start")
                start = wish;
            else if (id == "no-return")
                noReturn = wish;
            else if (PhaseWords.Contains(id))
                phases[id] = wish;
            else
                findings.Add(
                    $"sign-offs: '{id}' is nothing that is signed",
                    at,
                    Nearest.Hint(id, ["start", "no-return", .. PhaseWords])
                );
        }
        return new SignOffPolicy(start, noReturn, phases.ToImmutable());
    }
}
