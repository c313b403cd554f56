using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Returns;

/// <summary>Finds the best path of reverse moves from where components stand to versions that stood together before
/// (3-planning, The return path).</summary>
public static class ReturnSearch
{
    // Loss before outage before time; then whatever makes the answer unique.
    private static readonly ImmutableArray<string> Order = ["closing", "outage", "minutes", "jumps", "others"];

    /// <summary>The path, or the reasons why there is none.</summary>
    /// <param name="standing">Where the components stand.</param>
    /// <param name="target">The versions to lead back to, by component.</param>
    /// <param name="day">The planning day.</param>
    /// <param name="allowsUntested">Whether the plan may rely on untested pairs, all of them.</param>
    /// <param name="allowed">Those that it may rely on by name.</param>
    /// <param name="withReasons">Whether reasons are looked for where there is no path.</param>
    public static Checked<PathAnswer> Find(
        Standing standing,
        ImmutableDictionary<string, Versions.Version> target,
        DateOnly day,
        bool allowsUntested,
        ImmutableArray<AllowedPair> allowed,
        bool withReasons
    )
    {
        var index = standing.Now();
        var goes = standing
            .Changed.Where(c =>
                target.TryGetValue(c.Key, out var at) && (c.Value.Rest is not null || !c.Value.Now.Equals(at))
            )
            .ToList();
        var stays = index.Components.Select(c => c.Id).Except(goes.Select(g => g.Key)).ToImmutableArray();
        var goal = new Goal(
            [.. goes.Select(g => new GoalItem(g.Key, null, GoalKind.Exactly, target[g.Key].Label, null))],
            null,
            false,
            stays,
            allowsUntested,
            allowed,
            Order,
            day
        );
        // Nothing leads back from what the estate did not have before.
        var first = standing.Changed.Keys.Where(id => !target.ContainsKey(id)).ToList();
        if (first.Count > 0)
        {
            ImmutableArray<Reason> reasons =
            [
                .. first.Select(id => new Reason(
                    "first",
                    $"{id} {ComponentStanding.InstalledFirst}",
                    "Return as far as the move after it."
                )),
            ];
            return new Checked<PathAnswer>(
                new PathAnswer(false, true, day, [], [], reasons, [], [], []) { Asked = goal },
                []
            );
        }
        return PathFinder.Find(
            new PathRequest(index, goal, day)
            {
                Jumps = c => standing.Changed.TryGetValue(c.Id, out var its) ? its.Ways : [],
                Stood = target.ToImmutableDictionary(t => t.Key, t => t.Value.Label),
                WithReasons = withReasons,
            }
        );
    }
}
