using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>What a member answered to a question before and after; an answer that could not be had is null.</summary>
/// <param name="Borne">Whether the difference is within what the product says may differ; so is none.</param>
/// <param name="What">The difference in words; empty where there is none.</param>
public sealed record Compared(string Member, string Ask, string? Before, string? After, bool Borne, string What);

/// <summary>Compares the answers to the same questions before and after the work; pure.</summary>
public static class BeforeAndAfter
{
    /// <summary>How an answer is named: the member and the question.</summary>
    public static string Key(string member, string ask) => $"{member} {ask}";

    /// <summary>How the keys are named that a question's sample chose.</summary>
    public static string KeysOf(string member, string ask) => $"{member} {ask} keys";

    /// <summary>Every question of a plan with what was answered.</summary>
    public static ImmutableArray<Compared> Of(
        Plan plan,
        IReadOnlyDictionary<string, string> before,
        IReadOnlyDictionary<string, string> after
    ) =>
        [
            .. plan.Asks.SelectMany(a =>
                a.Members.Select(m =>
                    One(a, m, before.GetValueOrDefault(Key(m, a.Ask.Id)), after.GetValueOrDefault(Key(m, a.Ask.Id)))
                )
            ),
        ];

    private static Compared One(PlannedAsk asked, string member, string? was, string? now)
    {
        var ask = asked.Ask;
        Compared Say(bool borne, string what) => new(member, ask.Id, was, now, borne, what);
        // What could not be told before can't have been lost; that it can't be told any more is a difference.
        if (was is null)
            return Say(true, now is null ? "" : "was not known before");
        if (now is null)
            return Say(false, "is not known any more");
        if (ask.List)
        {
            var (old, present) = (Items(was), Items(now));
            var (more, gone) = (present.Except(old).ToList(), old.Except(present).ToList());
            return Say(
                more.Count == 0 || ask.Rises == Tolerance.Any,
                string.Join(
                    "; ",
                    new[]
                    {
                        more.Count > 0 ? $"new: {Few(more)}" : null,
                        gone.Count > 0 ? $"gone: {Few(gone)}" : null,
                    }.OfType<string>()
                )
            );
        }
        if (was == now)
            return Say(true, "");
        if (
            asked.Kind is ValueKind.Count or ValueKind.Bytes or ValueKind.Time or ValueKind.Share
            && Value.Read(was, asked.Kind) is { IsNumber: true } a
            && Value.Read(now, asked.Kind) is { IsNumber: true } b
        )
        {
            var change = b.Number - a.Number;
            var borne = change < 0 ? ask.Falls.Bears(-change, a.Number) : ask.Rises.Bears(change, a.Number);
            return Say(
                borne,
                $"{(change < 0 ? "fell" : "rose")} by {a with { Number = Math.Abs(change) }}"
                    + $"{(a.Number == 0 ? "" : $" ({Math.Abs(change / a.Number) * 100:0.#} %)")}"
            );
        }
        return Say(
            ask.Falls == Tolerance.Any || ask.Rises == Tolerance.Any,
            $"was {Short(was, now)}, is {Short(now, was)}"
        );
    }

    // Long texts are told from a little before the place where they begin to differ.
    private static string Short(string text, string other)
    {
        if (text.Length <= MostShown)
            return text;
        var same = text.Zip(other).TakeWhile(p => p.First == p.Second).Count();
        var from = Math.Max(0, Math.Min(same - ShownBefore, text.Length - MostShown));
        var end = Math.Min(text.Length, from + MostShown);
        return $"{(from > 0 ? "…" : "")}{text[from..end]}{(end < text.Length ? "…" : "")}";
    }

    private const int ShownBefore = 10;
    private const int MostShown = 60;

    /// <summary>Differences in a sentence.</summary>
    public static string Words(IReadOnlyCollection<Compared> differences) =>
        $"it is not as it was before: "
        + $"{string.Join("; ", differences.Take(Named).Select(d => $"{d.Member} {d.Ask} {d.What}"))}"
        + $"{(differences.Count > Named ? $"; and {differences.Count - Named} more" : "")}";

    private static List<string> Items(string text) =>
        [
            .. text.Split(['\n', ','], StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                .Distinct()
                .Order(StringComparer.Ordinal),
        ];

    private const int Named = 5;

    private static string Few(List<string> items) =>
        string.Join(", ", items.Take(Named)) + (items.Count > Named ? $" and {items.Count - Named} more" : "");
}
