using TideStep.Core.Catalogue;

namespace TideStep.Core.Paths;

/// <summary>Orders a product's releases from best to worst: supported on the day first, then by line, newest first
/// (3-planning, criterion 2).</summary>
public static class Ranking
{
    /// <summary>The releases that satisfy a condition, best first.</summary>
    public static List<Release> BestFirst(Product product, Func<Release, bool> among, DateOnly day, bool newest) =>
        [
            .. product
                .Releases.Where(among)
                .OrderBy(r => r.Ends < day)
                .ThenBy(r => newest ? 0 : (int)r.Line)
                .ThenByDescending(r => r.Version),
        ];

    /// <summary>How far a version is from the best: 0 for the best; a version that is none of them ranks behind
    /// all.</summary>
    public static int Distance(List<Release> bestFirst, Versions.Version version)
    {
        var at = bestFirst.FindIndex(r => r.Version.Equals(version));
        return at < 0 ? bestFirst.Count : at;
    }
}
