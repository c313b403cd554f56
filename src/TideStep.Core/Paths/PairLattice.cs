namespace TideStep.Core.Paths;

/// <summary>What a related pair allows while both walk their ways: places are (first's jumps made, second's jumps
/// made).
/// Where all that lies on some walk from start to end is one band without holes, the pair asks for nothing but that
/// certain jumps come before certain others.</summary>
internal static class PairLattice
{
    /// <summary>The jumps that must come before others: (whether the earlier is the first component's, its number from
    /// 1, the later's number from 1 on the other side).
    /// Null where no walk is allowed, or where it is not a matter of earlier and later alone.</summary>
    /// <param name="first">How many jumps the first component makes.</param>
    /// <param name="second">How many the second.</param>
    /// <param name="stands">Whether a place may be stood at.</param>
    /// <param name="mayStep">Whether a jump may be made from a place: by the first component, or by the second.</param>
    public static List<(bool EarlierIsFirst, int Earlier, int Later)>? Precedences(
        int first,
        int second,
        Func<int, int, bool> stands,
        Func<int, int, bool, bool> mayStep
    )
    {
        var walked = Walked(first, second, stands, mayStep);
        if (!walked[0, 0] || !walked[first, second])
            return null;
        var (low, high) = (new int[first + 1], new int[first + 1]);
        for (var i = 0; i <= first; i++)
        {
            var row = Enumerable.Range(0, second + 1).Where(j => walked[i, j]).ToList();
            (low[i], high[i]) = (row[0], row[^1]);
            if (row.Count != high[i] - low[i] + 1)
                return null;
            if (i > 0 && (low[i] < low[i - 1] || high[i] < high[i - 1]))
                return null;
        }
        for (var i = 0; i <= first; i++)
        for (var j = low[i]; j <= high[i]; j++)
        {
            if (i < first && low[i + 1] <= j && j <= high[i + 1] && !mayStep(i, j, true))
                return null;
            if (j < high[i] && !mayStep(i, j, false))
                return null;
        }
        var found = new List<(bool, int, int)>();
        for (var i = 1; i <= first; i++)
            if (low[i] > 0)
                found.Add((false, low[i], i));
        for (var j = 1; j <= second; j++)
        {
            var needs = Enumerable.Range(0, first + 1).First(i => high[i] >= j);
            if (needs > 0)
                found.Add((true, needs, j));
        }
        return found;
    }

    // The places that are on a walk from the start to the end.
    private static bool[,] Walked(
        int first,
        int second,
        Func<int, int, bool> stands,
        Func<int, int, bool, bool> mayStep
    )
    {
        var (ahead, back) = (new bool[first + 1, second + 1], new bool[first + 1, second + 1]);
        for (var i = 0; i <= first; i++)
        for (var j = 0; j <= second; j++)
            ahead[i, j] =
                (i == 0 && j == 0)
                || (
                    stands(i, j)
                    && (
                        (i > 0 && ahead[i - 1, j] && mayStep(i - 1, j, true))
                        || (j > 0 && ahead[i, j - 1] && mayStep(i, j - 1, false))
                    )
                );
        for (var i = first; i >= 0; i--)
        for (var j = second; j >= 0; j--)
            back[i, j] =
                ahead[i, j]
                && (
                    (i == first && j == second)
                    || (i < first && back[i + 1, j] && mayStep(i, j, true))
                    || (j < second && back[i, j + 1] && mayStep(i, j, false))
                );
        return back;
    }

    /// <summary>One place that is merely tolerated and that every walk with as few of them as can be passes: between
    /// which jumps, in which order of the two, and what must come before what besides.</summary>
    /// <param name="First">The first component's jump of the two, from 1.</param>
    /// <param name="Second">The second's.</param>
    /// <param name="FirstLeads">Whether the first component's may be made first of the two.</param>
    /// <param name="SecondLeads">Whether the second's may.</param>
    internal sealed record Hop(
        int First,
        int Second,
        bool FirstLeads,
        bool SecondLeads,
        List<(bool EarlierIsFirst, int Earlier, int Later)> Precedences
    );

    /// <summary>The hop that a pair needs which can't do without a place that is merely tolerated; null where it needs
    /// more than one, or could hop at several.</summary>
    /// <param name="stands">Whether a place may be stood at and is more than tolerated.</param>
    /// <param name="tolerates">Whether a place may be stood at at all.</param>
    public static Hop? HopOf(
        int first,
        int second,
        Func<int, int, bool> stands,
        Func<int, int, bool> tolerates,
        Func<int, int, bool, bool> mayStep
    )
    {
        Hop? found = null;
        for (var i = 0; i < first; i++)
        for (var j = 0; j < second; j++)
        {
            if (At(i, j) is not { } hop)
                continue;
            if (found is not null)
                return null;
            found = hop;
        }
        return found is { } only && Least(first, second, stands, tolerates, mayStep, only) ? only : null;

        Hop? At(int i, int j)
        {
            if (!stands(i, j) || !stands(i + 1, j + 1))
                return null;
            var byFirst = !stands(i + 1, j) && tolerates(i + 1, j) && mayStep(i, j, true) && mayStep(i + 1, j, false);
            var bySecond = !stands(i, j + 1) && tolerates(i, j + 1) && mayStep(i, j, false) && mayStep(i, j + 1, true);
            if (!byFirst && !bySecond)
                return null;
            if (
                Precedences(i, j, stands, mayStep) is not { } before
                || Precedences(
                    first - i - 1,
                    second - j - 1,
                    (x, y) => stands(x + i + 1, y + j + 1),
                    (x, y, isFirst) => mayStep(x + i + 1, y + j + 1, isFirst)
                )
                    is not { } after
            )
                return null;
            var shifted = after.Select(p =>
                p.EarlierIsFirst
                    ? (true, p.Earlier + i + 1, p.Later + j + 1)
                    : (false, p.Earlier + j + 1, p.Later + i + 1)
            );
            var around = new List<(bool, int, int)>();
            if (i > 0)
                around.Add((true, i, j + 1));
            if (j > 0)
                around.Add((false, j, i + 1));
            if (j + 1 < second)
                around.Add((true, i + 1, j + 2));
            if (i + 1 < first)
                around.Add((false, j + 1, i + 2));
            return new Hop(i + 1, j + 1, byFirst, bySecond, [.. before, .. shifted, .. around]);
        }
    }

    // Whether every walk through no more than one tolerated place takes that hop: without it there must be none. The
    // place in its middle may still be passed otherwise,
    // entered or left by another jump than the hop's, such as two jumps of one component after each other.
    private static bool Least(
        int first,
        int second,
        Func<int, int, bool> stands,
        Func<int, int, bool> tolerates,
        Func<int, int, bool, bool> mayStep,
        Hop hop
    )
    {
        const int None = int.MaxValue;
        var (fewest, besides) = (new int[first + 1, second + 1], new int[first + 1, second + 1]);
        var (byFirst, bySecond) = ((hop.First, hop.Second - 1), (hop.First - 1, hop.Second));
        for (var i = 0; i <= first; i++)
        for (var j = 0; j <= second; j++)
        {
            (fewest[i, j], besides[i, j]) = (None, None);
            if (i == 0 && j == 0)
            {
                (fewest[i, j], besides[i, j]) = (0, 0);
                continue;
            }
            if (!tolerates(i, j))
                continue;
            var own = stands(i, j) ? 0 : 1;
            var ends = (i, j) == (hop.First, hop.Second);
            // Into the end of the hop counts only who came to its middle otherwise than from its beginning.
            var fromFirst =
                i > 0 && mayStep(i - 1, j, true) ? (ends && hop.SecondLeads ? besides : fewest)[i - 1, j] : None;
            var fromSecond =
                j > 0 && mayStep(i, j - 1, false) ? (ends && hop.FirstLeads ? besides : fewest)[i, j - 1] : None;
            if (fromFirst < None)
                fromFirst += own;
            if (fromSecond < None)
                fromSecond += own;
            fewest[i, j] = Math.Min(fromFirst, fromSecond);
            besides[i, j] =
                (i, j) == byFirst ? fromSecond
                : (i, j) == bySecond ? fromFirst
                : fewest[i, j];
        }
        return fewest[first, second] > 1;
    }
}
