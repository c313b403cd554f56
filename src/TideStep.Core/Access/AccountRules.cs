using System.Globalization;
using System.Text;
using TideStep.Core.Documents;

namespace TideStep.Core.Access;

/// <summary>What a name and a password have to be like (11-access, People).</summary>
public static class AccountRules
{
    public const int ShortestPassword = 12;
    private const int LongestPassword = 200;
    private const int LongestName = 60;

    private static readonly Lazy<HashSet<string>> Commonest = new(() =>
    {
        using var list = typeof(AccountRules).Assembly.GetManifestResourceStream("common-passwords.txt")!;
        return [.. new StreamReader(list).ReadToEnd().Split('\n', StringSplitOptions.RemoveEmptyEntries)];
    });

    /// <summary>What names are compared by: large and small letters are the same, and other ways to write one letter
    /// are in no name.</summary>
    public static string KeyOf(string name) => name.Trim().ToLowerInvariant();

    /// <summary>What is wrong with a name for a person or a program; null where nothing is.</summary>
    public static Problem? WrongName(string? name) =>
        string.IsNullOrWhiteSpace(name) ? new Problem("a name is missing")
        : name.Length > LongestName ? new Problem($"a name has at most {LongestName} characters")
        : name != name.Trim() ? new Problem("a name neither begins nor ends with a blank")
        : !AllShown(name)
            ? new Problem(
                "a name has letters, digits, blanks and . ' - _ only",
                null,
                "Leave the other characters out."
            )
        : null;

    // Neither control nor format characters, those that turn the direction of writing among them; and no second way to
    // write a letter that has one of its own: no mark behind a letter of Latin, Greek or Cyrillic, no compatibility
    // forms.
    private static bool AllShown(string name)
    {
        var before = new Rune('a');
        foreach (var rune in name.EnumerateRunes())
        {
            var marked =
                Rune.GetUnicodeCategory(rune) is UnicodeCategory.NonSpacingMark or UnicodeCategory.SpacingCombiningMark
                && before.Value > 0x52f;
            if (!(marked || Rune.IsLetterOrDigit(rune) || rune.Value is ' ' or '.' or '\'' or '-' or '_'))
                return false;
            if (rune.Value is (>= 0x2100 and <= 0x214f) or (>= 0xf900 and <= 0xffef) or (>= 0x1d400 and <= 0x1d7ff))
                return false;
            before = rune;
        }
        return true;
    }

    /// <summary>What is wrong with a password; null where nothing is.</summary>
    /// <param name="name">Whose it would be.</param>
    public static Problem? WrongPassword(string? password, string name) =>
        password is null || password.Length < ShortestPassword
            ? new Problem(
                $"a password has at least {ShortestPassword} characters",
                null,
                "Some words that go together are easy to keep."
            )
        : password.Length > LongestPassword ? new Problem($"a password has at most {LongestPassword} characters")
        : Commonest.Value.Contains(password.ToLowerInvariant())
        || password.Distinct().Count() < 5
        || KeyOf(password).Contains(KeyOf(name), StringComparison.Ordinal)
            ? new Problem("this password is among the first that somebody would try", null, "Take another.")
        : null;
}
