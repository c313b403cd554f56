using System.Globalization;
using System.Text;

namespace TideStep.Tests.Yardstick;

/// <summary>Writes a drawn estate as the documents that users write.</summary>
internal static class DrawnTexts
{
    // Every day in the documents is told from the planning day.
    private static readonly DateOnly Day = DateOnly.FromDateTime(DateTime.UtcNow);

    public static string Estate(Drawn d)
    {
        var text = new StringBuilder("tidestep: estate/1\nestate: {id: drawn, class: test}\nsites:\n");
        text.Append("  s: {turn: 1, peers: [t]}\n  t: {turn: 2, peers: [s]}\nnodes:\n");
        var nodes = d
            .Components.SelectMany(c => c.Members.Select(m => (m.Node, m.Domain, c.Site)))
            .DistinctBy(n => n.Node);
        foreach (var (node, domain, site) in nodes)
            text.Append(
                CultureInfo.InvariantCulture,
                $"  {node}: {{site: {site}, reach: {{by: person}}{(domain is null ? "" : $", domain: {domain}")}}}\n"
            );
        text.Append("components:\n");
        foreach (var c in d.Components)
        {
            text.Append(CultureInfo.InvariantCulture, $"  {c.Id}:\n    product: {d.Products[c.Product].Id}\n");
            text.Append(
                CultureInfo.InvariantCulture,
                $"    site: {c.Site}\n    members: [{string.Join(", ", c.Members.Select(m => m.Node))}]\n"
            );
            text.Append(
                CultureInfo.InvariantCulture,
                $"    guard: {{keep: {(c.Quorum ? "quorum" : $"{c.Keep}")}, at-once: {c.AtOnce}, margin: {c.Margin}}}\n"
            );
            if (!c.DomainsMatter)
                text.Append("    domains: ignored\n");
            if (c.Spares > 1)
                text.Append(CultureInfo.InvariantCulture, $"    spares: {c.Spares}\n");
            var roles = c.Members.Where(m => m.Role is not null).GroupBy(m => m.Role).ToList();
            if (roles.Count > 0)
            {
                text.Append("    roles: {");
                text.Append(
                    string.Join(", ", roles.Select(r => $"{r.Key}: [{string.Join(", ", r.Select(m => m.Node))}]"))
                );
                text.Append("}\n");
            }
            foreach (var kind in c.Relations.GroupBy(r => r.Touch))
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"    {Word(kind.Key)}: [{string.Join(", ", kind.Select(r => Written(d, r)))}]\n"
                );
        }
        return text.ToString();
    }

    private static string Written(Drawn d, DrawnRelation r) =>
        r.Optional ? $"{{{d.Components[r.To].Id}: optional}}"
        : r.Together ? $"{{{d.Components[r.To].Id}: may-be-out-together}}"
        : d.Components[r.To].Id;

    private static string Word(Touch touch) =>
        touch switch
        {
            Touch.DependsOn => "depends-on",
            Touch.StandsOn => "stands-on",
            Touch.Inside => "inside",
            _ => "peer",
        };

    private static string End(DrawnRule rule) =>
        (rule.Touch, rule.FromOther) switch
        {
            (Touch.DependsOn, true) => "serves",
            (Touch.StandsOn, true) => "carries",
            (Touch.Inside, true) => "hosts",
            var (touch, _) => Word(touch),
        };

    public static string Readings(Drawn d)
    {
        var text = new StringBuilder($"tidestep: readings/1\ntaken: {Day:yyyy-MM-dd}T00:00:00Z\nmembers:\n");
        foreach (var c in d.Components)
        foreach (var m in c.Members)
        {
            string Label(int v) =>
                v == -1 ? "none"
                : v == -2 ? "unknown"
                : $"\"{d.Products[c.Product].Versions[v].Label}\"";
            text.Append(CultureInfo.InvariantCulture, $"  {c.Id}/{m.Node}: {{running: {Label(m.Running)}");
            if (m.Installed >= 0)
                text.Append(CultureInfo.InvariantCulture, $", installed: {Label(m.Installed)}");
            if (!m.InService && m.Running >= 0)
                text.Append(", in-service: false");
            text.Append("}\n");
        }
        return text.ToString();
    }

    private static string Range(DrawnProduct product, bool[] set) =>
        "\"" + string.Join(" || ", product.Versions.Where((_, v) => set[v]).Select(v => $"={v.Label}")) + "\"";

    public static string Product(Drawn d, int number)
    {
        var p = d.Products[number];
        var text = new StringBuilder($"tidestep: product/1\nproduct: {{id: {p.Id}, roles: [follower, leader]}}\n");
        text.Append("releases:\n");
        foreach (var v in p.Versions.Where(v => v.Known))
        {
            var line = v.Line switch
            {
                0 => "long-support",
                1 => "standard",
                _ => "preview",
            };
            var ends = v.EndsIn is { } days ? $", ends: {Day.AddDays(days):yyyy-MM-dd}" : "";
            text.Append(CultureInfo.InvariantCulture, $"  \"{v.Label}\": {{line: {line}{ends}}}\n");
        }
        text.Append("steps: {convert: {do: {person: convert it}}, put: {do: {person: put it}}}\njumps:\n");
        foreach (var j in p.Jumps)
            text.Append(CultureInfo.InvariantCulture, $"  {j.Id}: {{{string.Join(", ", Parts(d, p, j))}}}\n");
        text.Append("rules:\n");
        foreach (var rule in p.Rules)
        {
            var other = d.Products[rule.Other];
            text.Append(
                rule.Distance is { } distance
                    ? $"- {{{End(rule)}: {other.Id}, by: {(distance.ByMajor ? "major" : "minor")}, "
                        + $"older-by: {distance.Older}, newer-by: {distance.Newer}, verdict: {Verdict(rule.Says)}}}\n"
                    : $"- {{this: {Range(p, rule.This)}, {End(rule)}: {other.Id}, at: {Range(other, rule.At)}, "
                        + $"verdict: {Verdict(rule.Says)}}}\n"
            );
        }
        return text.ToString() is var whole && whole.EndsWith("rules:\n", StringComparison.Ordinal)
            ? whole[..^7]
            : whole;
    }

    private static string Verdict(Said said) => said.ToString().ToLowerInvariant();

    private static IEnumerable<string> Parts(Drawn d, DrawnProduct p, DrawnJump j)
    {
        yield return $"from: {(j.FromNone ? "none" : Range(p, j.From))}, to: \"{p.Versions[j.To].Label}\"";
        yield return "methods: {" + string.Join(", ", j.Ways.Select(Figures)) + "}, change: [put]";
        if (j.Down)
            yield return "down: true";
        if (j.RestartsNode)
            yield return "restarts: node";
        if (j.Closes)
            yield return "closes: convert, after-all: [convert]";
        if (j.Loses)
            yield return "loses: [the log of the day]";
        foreach (var (key, demands) in new[] { ("requires", j.Requires), ("together", j.Together) })
            if (demands.Count > 0)
                yield return $"{key}: [{string.Join(", ", demands.Select(r => Demand(d, r)))}]";
    }

    private static string Demand(Drawn d, (int Product, bool[] Range) demand) =>
        $"{{product: {d.Products[demand.Product].Id}, range: {Range(d.Products[demand.Product], demand.Range)}}}";

    private static string Figures(DrawnWay way) =>
        way.Way switch
        {
            Way.Rolling => $"rolling: {{member: {way.Member} min, settle: {way.Settle} min}}",
            Way.Replace => $"replace: {{member: {way.Member} min, settle: {way.Settle} min}}",
            Way.TwoSlot => $"two-slot: {{member: {way.Member} min, settle: {way.Settle} min}}",
            Way.SideBySide =>
                $"side-by-side: {{install: {way.Install} min, outage: {way.Outage} min, settle: {way.Settle} min}}",
            _ => $"offline: {{outage: {way.Outage} min, settle: {way.Settle} min}}",
        };

    public static string Goal(Drawn d)
    {
        var text = new StringBuilder($"tidestep: goal/1\nday: {Day:yyyy-MM-dd}\n");
        if (d.SupportedIn is { } days)
            text.Append(CultureInfo.InvariantCulture, $"supported-at: {Day.AddDays(days):yyyy-MM-dd}\n");
        else
            text.Append("goal:\n");
        foreach (var (c, range, wish) in d.Goal)
        {
            var product = d.Products[d.Components[c].Product];
            var said =
                wish == Wish.AtLeast
                    ? $"at-least: \"{product.Versions[Array.IndexOf(range, true)].Label}\""
                    : $"to: {Range(product, range)}";
            text.Append(CultureInfo.InvariantCulture, $"  - {{component: {d.Components[c].Id}, {said}}}\n");
        }
        if (d.Order.Count > 0)
            text.Append(CultureInfo.InvariantCulture, $"order: [{string.Join(", ", d.Order)}]\n");
        if (d.Pins.Count > 0)
            text.Append(
                CultureInfo.InvariantCulture,
                $"pins: [{string.Join(", ", d.Pins.Select(p => d.Components[p].Id))}]\n"
            );
        if (d.Newest)
            text.Append("newest: true\n");
        if (d.AllowAll)
            text.Append("allow-untested: all\n");
        else if (d.Allowed.Count > 0)
        {
            text.Append("allow-untested:\n");
            foreach (var (a, va, b, vb) in d.Allowed)
                text.Append(
                        CultureInfo.InvariantCulture,
                        $"  - {{component: {d.Components[a].Id}, version: \"={Label(d, a, va)}\", "
                    )
                    .Append(
                        CultureInfo.InvariantCulture,
                        $"with: {d.Components[b].Id}, at: \"={Label(d, b, vb)}\"}}\n"
                    );
        }
        return text.ToString();
    }

    private static string Label(Drawn d, int c, int v) => d.Products[d.Components[c].Product].Versions[v].Label;
}
