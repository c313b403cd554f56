namespace TideStep.Core.Documents;

/// <summary>Finds the valid word that a mistyped one most likely meant.</summary>
public static class Nearest
{
    /// <summary>The nearest of the valid words by edit distance (Damerau's, adjacent swaps count one), or null where
    /// none is near.</summary>
    public static string? To(string word, IEnumerable<string> valid)
    {
        if (word.Length > LongestCompared)
            return null;
        var limit = Math.Max(1, (word.Length + 1) / 3);
        return valid
            .Where(v => v.Length <= LongestCompared)
            .Select(v => (Word: v, Distance: Distance(word.ToLowerInvariant(), v.ToLowerInvariant())))
            .Where(v =>
                v.Distance <= limit || (word.Length >= 3 && v.Word.StartsWith(word, StringComparison.OrdinalIgnoreCase))
            )
            .OrderBy(v => v.Distance)
            .ThenBy(v => v.Word, StringComparer.Ordinal)
            .Select(v => v.Word)
            .FirstOrDefault();
    }

    /// <summary>How long words are that are compared: nobody mistypes longer ones.</summary>
    private const int LongestCompared = 200;

    /// <summary>How many words are compared by distance; of more only those that look alike at first sight.</summary>
    private const int ManyCompared = 2000;

    /// <summary>A hint that names the nearest valid word, or all of them where they are few.</summary>
    public static string Hint(string word, IEnumerable<string> valid)
    {
        var all = valid.ToHashSet();
        if (all.Count > ManyCompared)
            return To(word, all.Where(v => LooksLike(word, v)).Take(ManyCompared)) is { } like
                ? $"Did you mean '{like}'?"
                : $"Known are {all.Count}.";
        var words = all.Order(StringComparer.Ordinal).ToList();
        if (To(word, words) is { } near)
            return $"Did you mean '{near}'?";
        return words.Count switch
        {
            0 => "None is known.",
            <= 14 => $"Known: {string.Join(", ", words)}.",
            _ => $"Known are {words.Count}, among them {string.Join(", ", words.Take(6))}.",
        };
    }

    private static bool LooksLike(string word, string valid) =>
        word.Length > 0
        && valid.Length > 0
        && Math.Abs(word.Length - valid.Length) <= 1
        && (word[0] == valid[0] || word[^1] == valid[^1]);

    private static int Distance(string a, string b)
    {
        if (Math.Abs(a.Length - b.Length) > 12)
            return int.MaxValue / 2;
        var d = new int[a.Length + 1, b.Length + 1];
        for (var i = 0; i <= a.Length; i++)
            d[i, 0] = i;
        for (var j = 0; j <= b.Length; j++)
            d[0, j] = j;
        for (var i = 1; i <= a.Length; i++)
        for (var j = 1; j <= b.Length; j++)
        {
            var cost = a[i - 1] == b[j - 1] ? 0 : 1;
            d[i, j] = Math.Min(Math.Min(d[i - 1, j] + 1, d[i, j - 1] + 1), d[i - 1, j - 1] + cost);
            if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                d[i, j] = Math.Min(d[i, j], d[i - 2, j - 2] + 1);
        }
        return d[a.Length, b.Length];
    }
}
