namespace TideStep.Core.Paths;

/// <summary>What a related pair allows while both walk their ways: places are (first's jumps made, second's jumps made).
/// Where all that lies on some walk from start to end is one band without holes, the pair asks for nothing but that certain jumps come before certain others.</summary>
internal static class PairLattice
{
    /// <summary>The jumps that must come before others: (whether the earlier is the first component's, its number from 1, the later's number from 1 on the other side).
    /// Null where no walk is allowed, or where it is not a matter of earlier and later alone.</summary>
    /// <param name="first">How many jumps the first component makes.</param>
    /// <param name="second">How many the second.</param>
    /// <param name="stands">Whether a place may be stood at.</param>
    /// <param name="mayStep">Whether a jump may be made from a place: by the first component, or by the second.</param>
    public static List<(bool EarlierIsFirst, int Earlier, int Later)>? Precedences(int first, int second, Func<int, int, bool> stands, Func<int, int, bool, bool> mayStep)
    {
        var walked = Walked(first, second, stands, mayStep);
        if (!walked[0, 0] || !walked[first, second]) return null;
        var (low, high) = (new int[first + 1], new int[first + 1]);
        for (var i = 0; i <= first; i++)
        {
            var row = Enumerable.Range(0, second + 1).Where(j => walked[i, j]).ToList();
            (low[i], high[i]) = (row[0], row[^1]);
            if (row.Count != high[i] - low[i] + 1) return null;
            if (i > 0 && (low[i] < low[i - 1] || high[i] < high[i - 1])) return null;
        }
        for (var i = 0; i <= first; i++)
            for (var j = low[i]; j <= high[i]; j++)
            {
                if (i < first && low[i + 1] <= j && j <= high[i + 1] && !mayStep(i, j, true)) return null;
                if (j < high[i] && !mayStep(i, j, false)) return null;
            }
        var found = new List<(bool, int, int)>();
        for (var i = 1; i <= first; i++) if (low[i] > 0) found.Add((false, low[i], i));
        for (var j = 1; j <= second; j++)
        {
            var needs = Enumerable.Range(0, first + 1).First(i => high[i] >= j);
            if (needs > 0) found.Add((true, needs, j));
        }
        return found;
    }

    // The places that are on a walk from the start to the end.
    private static bool[,] Walked(int first, int second, Func<int, int, bool> stands, Func<int, int, bool, bool> mayStep)
    {
        var (ahead, back) = (new bool[first + 1, second + 1], new bool[first + 1, second + 1]);
        for (var i = 0; i <= first; i++)
            for (var j = 0; j <= second; j++)
                ahead[i, j] = (i == 0 && j == 0) || (stands(i, j) && ((i > 0 && ahead[i - 1, j] && mayStep(i - 1, j, true)) || (j > 0 && ahead[i, j - 1] && mayStep(i, j - 1, false))));
        for (var i = first; i >= 0; i--)
            for (var j = second; j >= 0; j--)
                back[i, j] = ahead[i, j] && ((i == first && j == second) || (i < first && back[i + 1, j] && mayStep(i, j, true)) || (j < second && back[i, j + 1] && mayStep(i, j, false)));
        return back;
    }
}
