using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Tests;

/// <summary>A yardstick that shares no search code with the planner: it walks every sequence of moves on a tiny estate and keeps the best.</summary>
internal static class Exhaustive
{
    private sealed record Step(int Component, Versions.Version To, Jump Jump, Method Method);

    /// <summary>The best sequence as text with its criteria (1, 2, 3 ... 9, 11), or null where no sequence reaches the goal.</summary>
    public static (string Path, string Criteria)? Best(EstateIndex index, Goal goal, DateOnly day)
    {
        var today = index.Components.Select(c => index.Catalogue.Find(c.Product)!.Scheme.TryParse(index.Readings.Of(c.Members[0]).Running!)!).ToArray();
        (List<long> Cost, List<Step> Steps)? best = null;
        Walk([], today);
        if (best is null) return null;
        return (string.Join(" ", best.Value.Steps.Select(s => $"{index.Components[s.Component].Id}@{s.To}/{s.Method}/{s.Jump.Id}")), string.Join(",", best.Value.Cost));

        void Walk(List<Step> steps, Versions.Version[] state)
        {
            if (Ends(steps, state) is { } cost && (best is null || Before(cost, steps, best.Value.Cost, best.Value.Steps))) best = (cost, [.. steps]);
            for (var c = 0; c < state.Length; c++)
            {
                var product = index.Catalogue.Find(index.Components[c].Product)!;
                foreach (var jump in product.Jumps)
                {
                    if (jump.Down || !jump.From.Contains(state[c], product.IsRelease) || jump.To <= state[c]) continue;
                    if (!jump.Requires.All(r => Neighbours(c).All(o => index.Components[o].Product != r.Product || r.Range.Contains(state[o], index.Catalogue.Find(r.Product)!.IsRelease)))) continue;
                    var next = (Versions.Version[])state.Clone();
                    next[c] = jump.To;
                    if (!Allowed(next, ending: false)) continue;
                    foreach (var method in jump.Methods)
                    {
                        if (method.Method == Method.Rolling && index.Components[c].Members.Length < 2) continue;
                        steps.Add(new Step(c, jump.To, jump, method.Method));
                        Walk(steps, next);
                        steps.RemoveAt(steps.Count - 1);
                    }
                }
            }
        }

        IEnumerable<int> Neighbours(int c) => index.Pairs.Where(p => p.A == c || p.B == c).Select(p => p.A == c ? p.B : p.A);

        PairVerdict Judge(EstatePair p, Versions.Version[] state) => VerdictOf.Pair(index.Catalogue.Find(index.Components[p.A].Product)!, state[p.A], index.Catalogue.Find(index.Components[p.B].Product)!, state[p.B], p.Kind);

        bool Inherited(EstatePair p, Versions.Version[] state)
        {
            var (a, b) = (state[p.A].Equals(today[p.A]), state[p.B].Equals(today[p.B]));
            return (a && b) || ((a || b) && Judge(p, state).Verdict <= Judge(p, today).Verdict);
        }

        bool Allowed(Versions.Version[] state, bool ending) => index.Pairs.All(p => Inherited(p, state) || Judge(p, state).Verdict <= (ending ? Verdict.Supported : Verdict.Transitional));

        List<long>? Ends(List<Step> steps, Versions.Version[] state)
        {
            if (steps.Count > 0 && !Allowed(state, ending: true)) return null;
            var cost = new List<long> { 0 };
            foreach (var item in goal.Items)
            {
                var c = index.NumberOf(item.Component!);
                var product = index.Catalogue.Find(index.Components[c].Product)!;
                var range = Versions.VersionRange.TryParse(item.Range, product.Scheme, out _)!;
                if (!range.Contains(state[c], product.IsRelease)) return null;
                cost.Add(product.Releases.Count(r => range.Contains(r.Version, product.IsRelease) && r.Version > state[c]));
            }
            var named = goal.Items.Select(i => index.NumberOf(i.Component!)).ToHashSet();
            cost.Add(Enumerable.Range(0, state.Length).Count(c => !named.Contains(c) && !state[c].Equals(today[c])));
            long outage = 0, closing = 0, minutes = 0, after = 0, transitional = 0;
            var walked = (Versions.Version[])today.Clone();
            foreach (var step in steps)
            {
                if (closing > 0) after++;
                if (step.Jump.Closes is not null) closing++;
                var figures = step.Jump.By(step.Method)!;
                var members = index.Components[step.Component].Members.Length;
                minutes += (long)(step.Method == Method.Offline ? figures.Outage + figures.Settle : members * (figures.Member + figures.Settle)).TotalSeconds;
                if (step.Method == Method.Offline) outage += (long)figures.Outage.TotalSeconds * Dependants(step.Component).Count;
                walked[step.Component] = step.To;
                if (index.Pairs.Any(p => Judge(p, walked).Verdict == Verdict.Transitional)) transitional++;
            }
            cost.AddRange([outage, closing, steps.Count, minutes, after, transitional]);
            for (var c = 0; c < state.Length; c++)
                if (!named.Contains(c)) cost.Add(state[c].Equals(today[c]) ? 0 : index.Catalogue.Find(index.Components[c].Product)!.Releases.Count(r => r.Version > state[c]));
            return cost;
        }

        HashSet<int> Dependants(int c)
        {
            var found = new HashSet<int> { c };
            for (var grew = true; grew;)
            {
                grew = false;
                for (var o = 0; o < index.Components.Length; o++)
                    if (index.Components[o].Relations.Any(r => r.Kind == RelationKind.DependsOn && found.Contains(index.NumberOf(r.To)))) grew |= found.Add(o);
            }
            return found;
        }

        bool Before(List<long> cost, List<Step> steps, List<long> other, List<Step> others)
        {
            for (var i = 0; i < cost.Count; i++) if (cost[i] != other[i]) return cost[i] < other[i];
            string Text(List<Step> s, int at) => at < s.Count ? $"{index.Components[s[at].Component].Id}@{s[at].To}" : "";
            for (var i = 0; i < Math.Max(steps.Count, others.Count); i++)
                if (string.CompareOrdinal(Text(steps, i), Text(others, i)) is var order and not 0) return order < 0;
            for (var i = 0; i < steps.Count; i++) if (steps[i].Method != others[i].Method) return steps[i].Method < others[i].Method;
            for (var i = 0; i < steps.Count; i++) if (string.CompareOrdinal(steps[i].Jump.Id, others[i].Jump.Id) is var order and not 0) return order < 0;
            return false;
        }
    }
}
