using System.Globalization;
using System.Text;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Tests;

/// <summary>The demo scenario grown large: 200 components at two twin control centres and twelve landings; the number
/// of members can be chosen.
/// Each centre has an operating system, 16 stores and 61 services; every service stands on the system and depends on a
/// store, four of each kind being of one product.
/// Each landing has a system and gates, which depend on a service of the main centre, and two more
/// components.</summary>
public static class LargeEstate
{
    private const int Stores = 16,
        Services = 59,
        Landings = 12;
    private static readonly string[] Centres = ["south", "north"];

    public sealed record Texts(
        string Estate,
        string Readings,
        IReadOnlyDictionary<string, string> Products,
        string Goal
    );

    /// <summary>The documents; about so many members in all.</summary>
    public static Texts Write(int members = 10_000)
    {
        // Per centre every node carries its system and one store or service: two members a node.
        var nodes = (members - Landings * 4 * 12) / 4;
        var (perStore, perService) = (5, Math.Max(3, (nodes - Stores * 5) / Services));
        var estate = new StringBuilder(
            "tidestep: estate/1\nestate: {id: marram-large, class: test, zone: Europe/London}\n"
                + "sites:\n  south-shore: {turn: 1, peers: [north-shore]}\n"
                + "  north-shore: {turn: 2, peers: [south-shore]}\n"
        );
        for (var l = 1; l <= Landings; l++)
            estate.AppendLine(CultureInfo.InvariantCulture, $"  landing-{l:00}: {{turn: 3}}");
        var (nodeLines, lines) = (new StringBuilder("nodes:\n"), new StringBuilder("components:\n"));
        foreach (var centre in Centres)
        {
            var on = new List<string>();
            for (var s = 0; s < Stores; s++)
            {
                Nodes($"{centre}-store-{s:00}-[1-{perStore}]", centre + "-shore", on);
                Component(
                    $"store-{s:00}-{centre}",
                    $"dunlin-{s / 4}",
                    $"{centre}-store-{s:00}-[1-{perStore}]",
                    "guard: quorum",
                    $"stands-on: [os-{centre}]",
                    centre == "north" ? $"peer: [store-{s:00}-south]" : ""
                );
            }
            for (var s = 0; s < Services; s++)
            {
                Nodes($"{centre}-serv-{s:00}-[1-{perService}]", centre + "-shore", on);
                Component(
                    $"service-{s:00}-{centre}",
                    $"curlew-{s / 4}",
                    $"{centre}-serv-{s:00}-[1-{perService}]",
                    $"guard: {{keep: 60%, at-once: {Math.Max(1, perService / 5)}}}",
                    $"stands-on: [os-{centre}]",
                    $"depends-on: [store-{s % Stores:00}-{centre}]"
                );
            }
            Component($"os-{centre}", "dowitcher", string.Join("\", \"", on), "guard: {keep: 80%, at-once: 40}");
        }
        for (var l = 1; l <= Landings; l++)
        {
            var on = new List<string>();
            Nodes($"gate-{l:00}-[1-12]", $"landing-{l:00}", on);
            Component(
                $"gates-{l:00}",
                "pratincole",
                on[0],
                "guard: {keep: 50%, at-once: 4}",
                $"stands-on: [os-landing-{l:00}]",
                $"depends-on: [service-{l:00}-north]"
            );
            Component($"os-landing-{l:00}", "wrybill", on[0], "guard: {keep: 50%, at-once: 4}");
            Component(
                $"boards-{l:00}",
                "greenshank",
                on[0],
                "guard: {keep: 25%, at-once: 6}",
                $"stands-on: [os-landing-{l:00}]"
            );
            Component(
                $"bells-{l:00}",
                "sanderling",
                on[0],
                "guard: {keep: 25%, at-once: 6}",
                $"stands-on: [os-landing-{l:00}]"
            );
        }
        var readings = new StringBuilder($"tidestep: readings/1\ntaken: {Nights.On(-9)}T10:00:00Z\ncomponents:\n");
        foreach (var line in lines.ToString().Split('\n').Where(l => l.StartsWith("  ", StringComparison.Ordinal)))
        {
            var id = line.Trim().Split(':')[0];
            readings.AppendLine(
                CultureInfo.InvariantCulture,
                $"  {id}: {{running: \"{(id.StartsWith("os-", StringComparison.Ordinal) ? "11.2" : "6.2")}\"}}"
            );
        }
        return new Texts(
            estate.ToString() + nodeLines + lines,
            readings.ToString(),
            Products(),
            "tidestep: goal/1\ngoal: [{product: dowitcher, to: \"12.x\"}, {product: curlew-0, to: \">=7\"}, "
                + "{product: curlew-1, to: \">=7\"}, {product: dunlin-2, to: \"7.x\"}, {product: pratincole, to: "
                + "\">=7\"}]\n"
        );

        void Nodes(string pattern, string site, List<string> on)
        {
            nodeLines.AppendLine(
                CultureInfo.InvariantCulture,
                $"  \"{pattern}\": {{site: {site}, domain: [a, b, c], reach: {{by: stand-in, address: x}}}}"
            );
            on.Add(pattern);
        }
        void Component(string id, string product, string members, params string[] more) =>
            lines.AppendLine(
                CultureInfo.InvariantCulture,
                $"  {id}: {{product: {product}, members: [\"{members}\"], "
                    + $"{string.Join(", ", more.Where(m => m.Length > 0))}}}"
            );
    }

    private static Dictionary<string, string> Products()
    {
        var products = new Dictionary<string, string>
        {
            ["dowitcher"] = Product("dowitcher", 11, 12, [], restarts: true),
            ["wrybill"] = Product("wrybill", 11, 12, [], restarts: true),
        };
        for (var s = 0; s < Stores / 4; s++)
            products[$"dunlin-{s}"] = Product(
                $"dunlin-{s}",
                6,
                7,
                [
                    ("stands-on", "dowitcher", "<7", "11.x"),
                    ("stands-on", "dowitcher", "*", ">=11.6 <13"),
                    ("peer", $"dunlin-{s}", "*", "*"),
                ]
            );
        for (var s = 0; s <= (Services - 1) / 4; s++)
        {
            var rules = new List<(string, string, string, string)>
            {
                ("stands-on", "dowitcher", "<6.8", "11.x"),
                ("stands-on", "dowitcher", ">=6.8 <7", ">=11 <13"),
                ("stands-on", "dowitcher", ">=7", "12.x"),
                ("serves", "pratincole", "*", "*"),
            };
            for (var store = 0; store < Stores / 4; store++)
                rules.AddRange([
                    ("depends-on", $"dunlin-{store}", "<7", "*"),
                    ("depends-on", $"dunlin-{store}", ">=7", ">=6.6"),
                ]);
            products[$"curlew-{s}"] = Product($"curlew-{s}", 6, 7, rules);
        }
        foreach (var name in (string[])["pratincole", "greenshank", "sanderling"])
            products[name] = Product(name, 6, 7, [("stands-on", "wrybill", "*", "*")]);
        return products;
    }

    // Twelve releases: 6.2 to 6.12 by evens, then 7.0 to 7.10; jumps within a line, and from its last to the next line.
    private static string Product(
        string id,
        int first,
        int second,
        IEnumerable<(string Relation, string Product, string This, string At)> rules,
        bool restarts = false
    )
    {
        var text = new StringBuilder($"tidestep: product/1\nproduct: {id}\nreleases:\n");
        for (var i = 1; i <= 6; i++)
            text.AppendLine(
                CultureInfo.InvariantCulture,
                $"  \"{first}.{2 * i}\": {{line: {(i == 6 ? "long-support" : "standard")}}}"
            );
        for (var i = 0; i < 6; i++)
            text.AppendLine(
                CultureInfo.InvariantCulture,
                $"  \"{second}.{2 * i}\": {{line: {(i == 4 ? "long-support" : "standard")}}}"
            );
        if (rules.Any())
            text.AppendLine("rules:");
        foreach (var (relation, product, at, other) in rules)
            text.AppendLine(
                CultureInfo.InvariantCulture,
                $"  - {{this: \"{at}\", {relation}: {product}, at: \"{other}\", verdict: supported, source: "
                    + $"{{title: {id} notes, date: {Nights.On(-323)}}}}}"
            );
        text.AppendLine("jumps:");
        var restart = restarts ? ", restarts: node" : "";
        for (var i = 2; i <= 6; i++)
            text.AppendLine(
                CultureInfo.InvariantCulture,
                $"  to-{first}.{2 * i}: {{from: \">={first} <{first}.{2 * i}\", to: \"{first}.{2 * i}\", "
                    + $"methods: {{rolling: {{member: 5 min, settle: 1 min}}}}, change: [install]{restart}}}"
            );
        for (var i = 0; i < 6; i++)
            text.AppendLine(
                CultureInfo.InvariantCulture,
                $"  to-{second}.{2 * i}: {{from: \">={first}.{(i < 2 ? 8 : 12)} <{second}.{2 * i}\", to: "
                    + $"\"{second}.{2 * i}\", methods: {{rolling: {{member: 8 min, settle: 2 min}}}}, change: "
                    + $"[install]{restart}}}"
            );
        return text.Append(
                $"steps:\n  stop: {{do: {{stop: {id}}}, safe-after: true}}\n"
                    + $"  install: {{do: {{install: {id}, version: \"{{jump.to}}\"}}}}\n"
                    + $"  start: {{do: {{start: {id}}}}}\nroutines: {{leave: [stop], return: [start]}}\n"
            )
            .ToString();
    }

    /// <summary>The documents, read.</summary>
    public static (EstateIndex Index, Goal Goal) Read(Texts texts)
    {
        var estate = Good(EstateDocument.Read(texts.Estate, "estate.yaml"));
        var catalogue = Good(
            ProductCatalogue.Create([.. texts.Products.Select(p => Good(ProductDocument.Read(p.Value, p.Key)))])
        );
        return (
            new EstateIndex(estate, Good(ReadingsDocument.Read(texts.Readings, "readings.yaml", estate)), catalogue),
            Good(GoalDocument.Read(texts.Goal, "goal.yaml"))
        );
    }

    private static T Good<T>(Checked<T> read)
        where T : class =>
        read.Ok ? read.Value! : throw new InvalidOperationException(string.Join("\n", read.Problems.Take(5)));
}
