using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Versions;

namespace TideStep.Core.Paths;

/// <summary>A component of the goal: what range it must end in, and how its releases rank.</summary>
internal sealed record Target(int Component, VersionRange Range, List<Release> BestFirst, bool AnyWillDo);

/// <summary>Turns the goal's words into targets by component; every mistake is found at once.</summary>
internal static class GoalResolution
{
    public static (List<Target> Targets, HashSet<int> Pinned) Resolve(PathRequest request, Findings findings)
    {
        var index = request.Index;
        var targets = new Dictionary<int, Target>();
        var order = new List<int>();
        foreach (var item in request.Goal.Items)
        {
            var components = ComponentsOf(item, index, findings);
            if (components.Count == 0)
                continue;
            var product = index.Catalogue.Find(index.Components[components[0]].Product);
            if (product is null)
            {
                findings.Add(
                    $"goal: the catalogue has no product '{index.Components[components[0]].Product}'",
                    item.Place,
                    Nearest.Hint(index.Components[components[0]].Product, index.Catalogue.Products.Select(p => p.Id))
                );
                continue;
            }
            if (ReadRange(item, product, findings) is not { } range)
                continue;
            var best = Ranking.BestFirst(
                product,
                r => range.Contains(r.Version, product.IsRelease),
                request.Day,
                request.Goal.Newest
            );
            foreach (var component in components)
            {
                if (targets.ContainsKey(component))
                {
                    findings.Add(
                        $"goal: {index.Components[component].Id} is named twice",
                        item.Place,
                        "Name each component once."
                    );
                    continue;
                }
                if (item.Kind == GoalKind.AtLeast && AllIn(index, component, product, range))
                    continue;
                targets[component] = new Target(component, range, best, item.Kind == GoalKind.AtLeast);
                order.Add(component);
            }
        }
        var pinned = new HashSet<int>();
        foreach (var pin in request.Goal.Pins)
        {
            if (index.Estate.Find(pin) is null)
                findings.Add(
                    $"pins: there is no component '{pin}'",
                    null,
                    Nearest.Hint(pin, index.Components.Select(c => c.Id))
                );
            else
                pinned.Add(index.NumberOf(pin));
        }
        for (var c = 0; c < index.Components.Length; c++)
            if (index.Components[c].Pinned)
                pinned.Add(c);
        return ([.. order.Select(c => targets[c])], pinned);
    }

    private static bool AllIn(EstateIndex index, int component, Product product, VersionRange range) =>
        index
            .Components[component]
            .Members.All(m =>
                index.Readings.Of(m).Running is { } label
                && product.Scheme.TryParse(label) is { } version
                && range.Contains(version, product.IsRelease)
            );

    private static List<int> ComponentsOf(GoalItem item, EstateIndex index, Findings findings)
    {
        if (item.Component is { } id)
        {
            if (index.Estate.Find(id) is not null)
                return [index.NumberOf(id)];
            findings.Add(
                $"goal: there is no component '{id}'",
                item.Place,
                Nearest.Hint(id, index.Components.Select(c => c.Id))
            );
            return [];
        }
        var found = Enumerable
            .Range(0, index.Components.Length)
            .Where(c => index.Components[c].Product == item.Product)
            .ToList();
        if (found.Count == 0)
            findings.Add(
                $"goal: no component is an instance of '{item.Product}'",
                item.Place,
                Nearest.Hint(item.Product!, index.Components.Select(c => c.Product).Distinct())
            );
        return found;
    }

    private static VersionRange? ReadRange(GoalItem item, Product product, Findings findings)
    {
        var text = item.Kind switch
        {
            GoalKind.Exactly => $"={item.Range}",
            GoalKind.AtLeast => $">={item.Range}",
            _ => item.Range,
        };
        if (VersionRange.TryParse(text, product.Scheme, out var reason) is not { } range)
        {
            findings.Add($"goal: '{item.Range}' is no range of {product.Id}: {reason}", item.Place);
            return null;
        }
        return range;
    }

    /// <summary>Why no path can lead to the goal, whatever the estate: no release that the catalogue knows and no
    /// version that runs is in a range, or none is supported on the day. Empty where there may be one.</summary>
    public static List<Reason> Unmeetable(PathProblem problem)
    {
        var reasons = new List<Reason>();
        foreach (var target in problem.Targets)
        {
            var (c, product) = (target.Component, problem.Products[target.Component]!);
            if (
                !product.Releases.Any(r => target.Range.Contains(r.Version, product.IsRelease))
                && !problem.Found[c].Any(v => target.Range.Contains(problem.Versions[c][v], product.IsRelease))
            )
                reasons.Add(
                    new Reason(
                        "goal",
                        $"no release of {product.Id} is in {target.Range.Text}, which the goal wants for "
                            + problem.Index.Components[c].Id,
                        $"The catalogue has {string.Join(", ", product.Releases.Select(r => r.Label).TakeLast(8))}."
                    )
                );
        }
        if (problem.Request.Goal.SupportedAt is not { } day)
            return reasons;
        foreach (
            var product in problem
                .Products.Where((p, c) => p is not null && !problem.Index.IsAbsent(c))
                .OfType<Product>()
                .Distinct()
                .Where(p => p.Releases.All(r => r.Ends < day))
        )
        {
            var last = product.Releases.MaxBy(r => r.Ends);
            reasons.Add(
                new Reason(
                    "goal",
                    $"no release of {product.Id} is supported on {day:yyyy-MM-dd}"
                        + (last is null ? "" : $"; the last is {last.Label}, till {last.Ends:yyyy-MM-dd}"),
                    "An earlier day, or a release of it that is supported longer."
                )
            );
        }
        return reasons;
    }
}
