namespace TideStep.Tests.Yardstick;

/// <summary>Draws tiny estates in which everything that 3-planning speaks of occurs.</summary>
internal sealed class Draw
{
    private readonly Random _random;
    private readonly SortedSet<string> _features = [];

    private Draw(int seed) => _random = new Random(seed);

    /// <summary>The estate of a seed; the same everywhere.</summary>
    public static Drawn Of(int seed) => new Draw(seed).Estate();

    private bool One(int of) => _random.Next(of) == 0;

    private bool Feature(string name, bool drawn)
    {
        if (drawn)
            _features.Add(name);
        return drawn;
    }

    private Drawn Estate()
    {
        var count = One(4) ? 4 : _random.Next(2, 4);
        var productOf = Enumerable.Range(0, count).ToArray();
        // Twins are of one product, at two sites.
        if (count > 2 && One(3))
            productOf[1] = 0;
        var sites = Enumerable.Range(0, count).Select(_ => One(3) ? "t" : "s").ToArray();
        var products = Enumerable.Range(0, count).Select(p => Versions(p, count)).ToList();
        var shared = One(3);
        var components = new List<DrawnComponent>();
        for (var c = 0; c < count; c++)
            components.Add(Component(c, products[productOf[c]], productOf, sites, components, shared));
        for (var p = 0; p < count; p++)
            Fill(products, p, components);
        var drawn = Goal(products, components);
        foreach (var feature in _features)
            drawn.Features.Add(feature);
        return drawn;
    }

    private DrawnProduct Versions(int p, int count)
    {
        var (major, minor) = (_random.Next(1, 4), _random.Next(0, 3));
        var versions = new List<DrawnRelease>();
        var known = count > 3 || One(2) ? _random.Next(2, 4) : _random.Next(2, 5);
        for (var v = 0; v < known; v++)
        {
            versions.Add(
                new DrawnRelease(
                    $"{major}.{minor}",
                    major,
                    minor,
                    _random.Next(3),
                    One(3) ? _random.Next(-99, 400) : null,
                    true
                )
            );
            if (One(2))
                (major, minor) = (major + 1, _random.Next(0, 2));
            else
                minor += _random.Next(1, 3);
        }
        if (Feature("version unknown to the catalogue", One(12)))
            versions[0] = versions[0] with { Known = false };
        return new DrawnProduct($"p{p}", versions, [], []);
    }

    private DrawnComponent Component(
        int c,
        DrawnProduct product,
        int[] productOf,
        string[] sites,
        List<DrawnComponent> before,
        bool shared
    )
    {
        var size = _random.Next(1, 4);
        // On the nodes of another one, or on its own.
        var host = shared ? before.FirstOrDefault(b => b.Site == sites[c] && b.Members.Count >= size) : null;
        var roles = size > 1 && One(5);
        var domains = One(3);
        var members = Enumerable
            .Range(0, size)
            .Select(m => new DrawnMember(
                host?.Members[m].Node ?? $"n{c}x{m}",
                host is not null ? host.Members[m].Domain
                    : domains ? (One(2) ? "a" : "b")
                    : null,
                roles ? (m == 0 ? "leader" : "follower") : null
            ))
            .ToList();
        var start = _random.Next(0, Math.Max(1, product.Versions.Count - 1));
        members = Read(members, product, start);
        var relations = new List<DrawnRelation>();
        for (var o = 0; o < c; o++)
        {
            if (host is not null && before[o] == host)
                relations.Add(new DrawnRelation(One(2) ? Touch.StandsOn : Touch.Inside, o, false, false));
            else if (productOf[o] == productOf[c] && sites[o] != sites[c])
            {
                if (Feature("peers", One(2)))
                    relations.Add(new DrawnRelation(Touch.Peer, o, false, One(3)));
            }
            else if (!One(3))
                relations.Add(new DrawnRelation(Touch.DependsOn, o, Feature("optional relation", One(6)), false));
        }
        if (host is not null)
            _features.Add("shared nodes");
        return new DrawnComponent($"c{c}", productOf[c], sites[c], members)
        {
            Relations = relations,
            Keep = _random.Next(0, 2),
            Quorum = size > 2 && Feature("quorum", One(6)),
            Margin = Feature("margin", One(12)) ? 1 : 0,
            AtOnce = Feature("several at once", One(3)) ? 2 : 1,
            DomainsMatter = !One(3),
            Spares = Feature("spares", One(5)) ? 2 : 1,
        };
    }

    private List<DrawnMember> Read(List<DrawnMember> members, DrawnProduct product, int start)
    {
        var at = members.Select(m => m with { Running = start, Installed = start }).ToList();
        var higher = start + 1 < product.Versions.Count ? start + 1 : start;
        switch (_random.Next(22))
        {
            case 0 when at.Count > 1 && higher > start:
                _features.Add("mixed");
                at[0] = at[0] with { Running = higher, Installed = higher };
                break;
            case 1 when at.Count > 1 && higher > start:
                _features.Add("a member runs nothing");
                at =
                [
                    .. at.Select(
                        (m, i) => i == 0 ? m with { Running = -1 } : m with { Running = higher, Installed = higher }
                    ),
                ];
                break;
            case 2 when higher > start:
                _features.Add("restart owed");
                at = [.. at.Select(m => m with { Installed = higher })];
                break;
            case 3 or 4:
                _features.Add("absent");
                at = [.. at.Select(m => m with { Running = -1, Installed = -1 })];
                break;
            case 5:
                _features.Add("unknown");
                at = [.. at.Select(m => m with { Running = -2, Installed = -1 })];
                break;
            case 6 or 7:
                _features.Add("a member out");
                at[0] = at[0] with { InService = false };
                break;
        }
        return at;
    }

    private bool[] Set(DrawnProduct product)
    {
        var (from, to) = (_random.Next(product.Versions.Count), _random.Next(product.Versions.Count));
        return [.. product.Versions.Select((_, v) => v >= Math.Min(from, to) && v <= Math.Max(from, to))];
    }

    private void Fill(List<DrawnProduct> products, int p, List<DrawnComponent> components)
    {
        var product = products[p];
        var related = Related(p, components);
        for (var from = 0; from < product.Versions.Count; from++)
        for (var to = from + 1; to < product.Versions.Count; to++)
        {
            if (to > from + 1 && !One(3))
                continue;
            for (var twice = One(6) ? 2 : 1; twice > 0; twice--)
                product.Jumps.Add(Jump(products, product, from, to, related));
            if (One(3) && product.Versions[from].Known)
                product.Jumps.Add(Jump(products, product, to, from, related) with { Down = true });
        }
        if (One(2))
            product.Jumps.Add(
                Jump(products, product, 0, _random.Next(1, product.Versions.Count), related) with
                {
                    FromNone = true,
                    Down = false,
                    Ways = [new DrawnWay(Way.Offline, 0, _random.Next(0, 3), _random.Next(0, 9), 0)],
                }
            );
        foreach (var (touch, fromOther, other) in related)
            // In step: each version goes with one of the other only, so that they often have to go together.
            if (One(4))
                for (var v = 0; v < product.Versions.Count; v++)
                    product.Rules.Add(InStep(products, product, touch, fromOther, other, v));
            else
                for (var rules = _random.Next(5); rules > 0; rules--)
                    product.Rules.Add(Rule(products, product, touch, fromOther, other));
    }

    private static List<(Touch Touch, bool FromOther, int Other)> Related(int p, List<DrawnComponent> components) =>
        [
            .. components
                .SelectMany(c =>
                    c.Relations.SelectMany(r =>
                        new[]
                        {
                            (c.Product, r.Touch, FromOther: false, Other: components[r.To].Product),
                            (components[r.To].Product, r.Touch, FromOther: r.Touch != Touch.Peer, Other: c.Product),
                        }
                    )
                )
                .Where(r => r.Item1 == p)
                .Select(r => (r.Touch, r.FromOther, r.Other))
                .Distinct(),
        ];

    private DrawnJump Jump(
        List<DrawnProduct> products,
        DrawnProduct product,
        int from,
        int to,
        List<(Touch Touch, bool FromOther, int Other)> related
    )
    {
        var ways = new List<DrawnWay>();
        foreach (var way in Enum.GetValues<Way>())
            if (One(3))
                ways.Add(
                    new DrawnWay(way, _random.Next(0, 9), _random.Next(0, 3), _random.Next(0, 20), _random.Next(0, 9))
                );
        if (ways.Count == 0)
            ways.Add(new DrawnWay(One(3) ? Way.Rolling : Way.Offline, _random.Next(1, 9), 1, _random.Next(0, 20), 0));
        List<(int, bool[])> Demands(string name, int of) =>
            related.Count > 0 && Feature(name, One(of))
                ? [related[_random.Next(related.Count)].Other is var o ? (o, Set(products[o])) : default]
                : [];
        return new DrawnJump(
            $"j{product.Jumps.Count}",
            [.. product.Versions.Select((_, v) => v == from || (v < from && to > from && One(4)))],
            to
        )
        {
            RestartsNode = Feature("restart of the node", One(6)),
            Closes = Feature("closes", One(6)),
            Loses = Feature("loses", One(8)),
            Ways = ways,
            Requires = Demands("requires", 4),
            Together = Demands("together", 5),
        };
    }

    private static DrawnRule InStep(
        List<DrawnProduct> products,
        DrawnProduct product,
        Touch touch,
        bool fromOther,
        int other,
        int version
    ) =>
        new(
            touch,
            fromOther,
            other,
            [.. product.Versions.Select((_, v) => v == version)],
            [.. products[other].Versions.Select((_, v) => v == Math.Min(version, products[other].Versions.Count - 1))],
            Said.Supported
        );

    private DrawnRule Rule(List<DrawnProduct> products, DrawnProduct product, Touch touch, bool fromOther, int other)
    {
        var says = _random.Next(6) switch
        {
            0 => Said.Unsupported,
            1 or 2 => Said.Transitional,
            _ => Said.Supported,
        };
        bool[] all = [.. product.Versions.Select(_ => true)],
            ats = [.. products[other].Versions.Select(_ => true)];
        return Feature("distance", One(5))
            ? new DrawnRule(touch, fromOther, other, all, ats, One(3) ? Said.Transitional : Said.Supported)
            {
                Distance = (One(2), _random.Next(3), _random.Next(3)),
            }
            : new DrawnRule(touch, fromOther, other, Set(product), Set(products[other]), says);
    }

    private Drawn Goal(List<DrawnProduct> products, List<DrawnComponent> components)
    {
        var goal = new List<(int, bool[], Wish)>();
        int? supported = Feature("goal by support", One(10)) ? _random.Next(0, 400) : null;
        if (supported is null)
            foreach (var c in Enumerable.Range(0, components.Count).OrderBy(_ => _random.Next()))
                if (goal.Count == 0 || One(3))
                    goal.Add(Wanted(c, products[components[c].Product], components[c]));
        var pins = Enumerable.Range(0, components.Count).Where(c => goal.All(g => g.Item1 != c) && One(8)).ToHashSet();
        if (pins.Count > 0)
            _features.Add("pin");
        string[] words = ["others", "outage", "closing", "jumps", "minutes"];
        var drawn = new Drawn
        {
            Products = products,
            Components = components,
            Goal = goal,
            SupportedIn = supported,
            Pins = pins,
            Order = One(3) ? [words[_random.Next(5)]] : [],
            Newest = One(5),
            AllowAll = Feature("all untested allowed", One(3)),
        };
        if (!drawn.AllowAll && One(3))
            Allow(drawn);
        return drawn;
    }

    private void Allow(Drawn drawn)
    {
        for (var c = 0; c < drawn.Components.Count; c++)
            foreach (var relation in drawn.Components[c].Relations)
                if (One(2))
                {
                    _features.Add("untested allowed by name");
                    var (mine, its) = (drawn.Components[c].Product, drawn.Components[relation.To].Product);
                    drawn.Allowed.Add(
                        (
                            c,
                            _random.Next(drawn.Products[mine].Versions.Count),
                            relation.To,
                            _random.Next(drawn.Products[its].Versions.Count)
                        )
                    );
                }
    }

    private (int, bool[], Wish) Wanted(int c, DrawnProduct product, DrawnComponent component)
    {
        var today = component.Members.Max(m => m.Running);
        if (today > 0 && product.Versions[0].Known && Feature("goal below today", One(6)))
            return (c, [.. product.Versions.Select((v, i) => i == _random.Next(today) || (i == 0))], Wish.To);
        var from = _random.Next(product.Versions[0].Known ? 0 : 1, product.Versions.Count);
        bool[] range = [.. product.Versions.Select((_, v) => v >= from)];
        if (Feature("at least", One(5)))
            return (c, range, Wish.AtLeast);
        return One(2) || !product.Versions[0].Known ? (c, range, Wish.To) : (c, Set(product), Wish.To);
    }
}
